"""What `benchmarks/plans.py` explains: statements with a planted problem and healthy ones, over
tables of known size.
"""
