"""The harbour office: a made-up web application that asks too much. `harbour/` is copied out and
run by itself.
"""
