"""Which lines of the program asked: walk the stack once a query, resolve lines once a place.

A place on the hot path is a tuple of `(id(code), f_lasti)` pairs flattened, innermost first: `f_lineno` costs
microseconds in long functions, `f_lasti` does not. Code objects seen are kept alive so that their ids stay theirs.
"""

import sys

MAX_FRAMES = 6  # frames of the program kept for one query
MAX_DEPTH = 120  # frames looked at before giving up

_mine = {}  # file name -> whether the program's author wrote it
_codes = {}  # id(code) -> code
_excluded = ()


def configure():
    """Learn where the standard library and installed packages live."""
    global _excluded
    import os

    folders = {os.path.dirname(os.path.abspath(__file__)), os.path.dirname(os.__file__)}
    for prefix in {sys.prefix, sys.base_prefix, sys.exec_prefix}:
        folders.add(os.path.join(prefix, "lib", "python%d.%d" % sys.version_info[:2]))
        folders.add(os.path.join(prefix, "lib", "python3"))
    _excluded = tuple(sorted(folder + os.sep for folder in folders))


def is_mine(filename):
    """Whether a file is the program's own: neither standard library, installed package, nor made up at run time."""
    known = not (
        filename.startswith(_excluded)
        or "site-packages" in filename
        or "dist-packages" in filename
        or filename.startswith("<frozen")
        or (filename.startswith("<") and filename not in ("<stdin>", "<string>", "<template>"))
    )
    if filename.startswith("<python-input"):  # the interactive prompt of Python 3.13 and newer
        known = True
    if len(_mine) > 20000:
        _mine.clear()
    _mine[filename] = known
    return known


def walk(frame, mine=_mine, codes=_codes):
    """The key of the program's frames from `frame` outwards: (id(code), f_lasti, id(code), f_lasti, ...)."""
    key = ()
    depth = 0
    while frame is not None:
        code = frame.f_code
        name = code.co_filename
        try:
            known = mine[name]
        except KeyError:
            known = is_mine(name)
        if known:
            ident = id(code)
            if ident not in codes:
                remember(code, frame)
            key += (ident, frame.f_lasti)
            if len(key) == 2 * MAX_FRAMES:
                break
        depth += 1
        if depth == MAX_DEPTH:
            break
        frame = frame.f_back
    return key


def remember(code, frame):
    """Keep a code object, and for a template's compiled code its map from Python lines to template lines."""
    template = None
    try:
        template = frame.f_globals.get("__jinja_template__")
    except Exception:
        pass
    _codes[id(code)] = (code, template)


def resolve(ident, lasti):
    """(file, line, function) of one frame of a key."""
    code, template = _codes[ident]
    line = _line_of(code, lasti)
    if template is not None:
        try:
            return code.co_filename, template.get_corresponding_lineno(line), "template"
        except Exception:
            pass
    return code.co_filename, line, code.co_name


def _line_of(code, lasti):
    if hasattr(code, "co_lines"):  # Python 3.10 and newer
        for start, end, line in code.co_lines():
            if start <= lasti < end and line is not None:
                return line
        return code.co_firstlineno
    import dis

    found = code.co_firstlineno
    for start, line in dis.findlinestarts(code):
        if start > lasti:
            break
        found = line
    return found
