"""Django's templates: the template's file and line stand for the frames that render it."""

from .. import recorder, stack


def install(module):
    """Read the node from the frames of `render_annotated`, by which every node is rendered."""
    stack.watch(module.__file__, _line)


def _line(frame):
    """(file, line) of the node that a frame renders, or None."""
    if frame.f_code.co_name != "render_annotated":
        return None
    try:
        node = frame.f_locals["self"]
        return node.origin.name, node.token.lineno
    except (AttributeError, KeyError):
        return None
    except Exception as error:
        recorder.warn_once("can't tell lines of templates: %s: %s" % (type(error).__name__, error))
        return None
