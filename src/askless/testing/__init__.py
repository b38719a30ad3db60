"""Ask Less inside a test run: the recorder in this very process, and the pytest plug-in that checks
what tests ask.
"""
