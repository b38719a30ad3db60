"""How much a finding matters, in three words. A module of its own: the command line's options need
no more.
"""

SEVERITIES = ("urgent", "worthwhile", "minor")
