"""Whose call of `sqlite3` it is: warnings go to the program's line, and a measuring tool's own
books are not recorded.
"""

import sys
from functools import wraps
from sys import _getframe
from types import FunctionType


def as_if_by(frame, function, *args, **kwargs):
    """Call a function from a frame that looks like the given one: what it warns of is put down to
    that frame's line.
    """
    code = frame.f_code
    code = _CALL.replace(
        co_filename=code.co_filename, co_firstlineno=frame.f_lineno, co_name=code.co_name
    )
    return FunctionType(code, frame.f_globals)(function, args, kwargs)


_CALL = (lambda function, args, kwargs: function(*args, **kwargs)).__code__


def may_warn(sql, parameters):
    """Whether sqlite3 may warn of parameters that have names in the text and none where they are
    passed.
    """
    if not parameters or type(parameters) is dict or type(sql) is not str:
        return False
    return ":" in sql or "@" in sql or "$" in sql


WARNS = (3, 12) <= sys.version_info < (3, 14)


def for_the_program(plain, ours):
    """An adapter or converter that sqlite3 has by default and that warns its caller: that is the
    program, not we.
    """

    @wraps(plain)
    def convert(value):
        frame = _getframe(1)
        return (
            plain(value)
            if frame.f_code.co_filename != ours
            else as_if_by(frame.f_back, plain, value)
        )

    return convert


# Packages that keep their own books in a database, next to the program that they measure.
_MEASURING = ("coverage", "testmon", "hypothesis", "scalene", "memray")


def is_measuring(frame):
    """Whether a tool opens the connection that measures the program: its queries are not the
    program's.
    """
    for _ in range(6):
        if frame is None:
            return False
        if str(frame.f_globals.get("__name__", "")).split(".")[0] in _MEASURING:
            return True
        frame = frame.f_back
    return False
