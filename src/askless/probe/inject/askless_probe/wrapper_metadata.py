"""Makes what is in for a function or class look like it: name, module, documentation, and so its
signature.
"""

from functools import update_wrapper

_NAMES = ("__module__", "__name__", "__qualname__", "__doc__")


def like(plain, module=None):
    """Decorate a function that is in for `plain`; `module` where a method written in C tells
    none.
    """

    def decorate(function):
        update_wrapper(function, plain, _NAMES, ())
        if module is not None:
            function.__module__ = module
        return function

    return decorate


def methods_like(cls, base):
    """The methods of a class that stand in for those of its base."""
    for name, own in list(vars(cls).items()):
        plain = getattr(base, name, None)
        if callable(own) and plain is not None and name not in ("__new__", "__init__", "__class__"):
            like(plain, base.__module__)(own)
    return class_like(cls, base)


def class_like(cls, base):
    """A class in the place of another."""
    for name in _NAMES:
        setattr(cls, name, getattr(base, name))
    return cls
