"""What `benchmarks/trials.py` puts to trials: pairs of statements of which it is known whether they
are the same, and statements that do more than they say. In a harbour office small enough to be read
through.
"""
