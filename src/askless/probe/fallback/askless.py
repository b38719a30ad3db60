"""What `import askless` gives inside a recorded program whose environment has no Ask Less
installed.
"""


def request(name):
    """Mark a block as one request: `with askless.request("nightly tariffs"): ...` (also a
    decorator).
    """
    from askless_probe import marking

    return marking.request(name)


def __getattr__(name):
    """`askless.RepeatedLoad`: what strict mode raises."""
    if name == "RepeatedLoad":
        from askless_probe.strict import RepeatedLoad

        return RepeatedLoad
    raise AttributeError("module 'askless' has no attribute %r" % name)
