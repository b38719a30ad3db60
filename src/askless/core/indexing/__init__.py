"""The index advisor: what a workload asks of its tables, and the one set of indexes that serves it
best.
"""
