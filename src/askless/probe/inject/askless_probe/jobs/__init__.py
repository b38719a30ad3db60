"""Job queues and schedulers: one job, one request with its name, on whichever thread or task the
worker runs it.
"""
