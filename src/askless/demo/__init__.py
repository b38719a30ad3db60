"""The harbour office: a made-up web application with wasteful queries. `harbour/` is copied out and
run by itself.
"""
