"""Which lines of the program asked: walk the stack once a query, resolve lines once a place.

A place on the hot path is a tuple of `(id(code), f_lasti)` pairs flattened, innermost first: `f_lineno` costs
microseconds in long functions, `f_lasti` does not. Code objects seen are kept alive so that their ids stay theirs.
"""

import sys
from _thread import get_ident

MAX_FRAMES = 6  # frames of the program kept for one query
MAX_DEPTH = 120  # frames looked at before giving up

_mine = {}  # file name -> whether the program's author wrote it
_codes = {}  # id(code) -> code
_watched = {}  # file name -> what tells the template's line of a frame of it
_template_lines = {}  # (file, line) -> itself, kept so that its id stays its own
TEMPLATE = -1  # stands for f_lasti where the id is a template line's
_excluded = ()
lent = {}  # thread id -> place, where a thread works for code that waits in another one


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
        or (filename.startswith("<") and filename not in ("<stdin>", "<string>", "<template>", "<graphql>"))
    )
    if filename.startswith("<python-input"):  # the interactive prompt of Python 3.13 and newer
        known = True
    if len(_mine) > 20000:
        _mine.clear()
        _mine.update(_watched)
    _mine[filename] = known
    return known


def watch(filename, line_of):
    """Frames of this file stand for lines of something else, templates say: `line_of(frame)` gives (file, line) or
    (file, line, function), or None."""
    _watched[filename] = _mine[filename] = line_of


def _template(frame, line_of, key):
    """The key of a template's line: nothing where the frame renders none, or the line around one that is there."""
    found = line_of(frame)
    if found is None or not (_mine.get(found[0]) or is_mine(found[0])):
        return ()
    if key and key[-1] == TEMPLATE and _codes[key[-2]][0][0] == found[0]:
        return ()
    place = _template_lines.setdefault(found, found)
    ident = id(place)
    _codes[ident] = (place, None)
    return (ident, TEMPLATE)


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
            if known is True:
                ident = id(code)
                if ident not in codes:
                    remember(code, frame)
                key += (ident, frame.f_lasti)
            else:
                key += _template(frame, known, key)
            if len(key) == 2 * MAX_FRAMES:
                break
        depth += 1
        if depth == MAX_DEPTH:
            break
        frame = frame.f_back
    return key or (lent.get(get_ident(), key) if lent else key)


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
    if lasti == TEMPLATE:
        return code if len(code) == 3 else (*code, "template")
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
