"""Litestar: requests under any server or test client. (Its router leaves the path's template in the
scope.)
"""

from . import asgi


def install(module):
    """Wrap `Litestar.__call__`."""
    module.Litestar.__call__ = asgi.recorded_method(module.Litestar.__call__)
