"""Puts the recorder together as the environment asks for it. Knows its parts, which do not know one
another.
"""

from . import recorder, sampling, stack, writing


def configure(environ):
    """Prepare to record into the folder that the environment names. Opens no file until there is
    something to say.
    """
    stack.configure()
    echo = None
    if environ.get("ASKLESS_ECHO"):
        from . import echo as echoing

        echo = echoing.Echo(environ["ASKLESS_ECHO"])
    if environ.get("ASKLESS_STRICT"):
        from json import loads

        from . import strict

        strict.configure(loads(environ["ASKLESS_STRICT"]))
    writer = writing.Writer(environ.get("ASKLESS_CAPTURE"))
    memory = None
    if environ.get("ASKLESS_TRACK_MEMORY"):
        from . import memory

        memory.start()
    spare = sampling.configured(writer.folder, environ)
    recorder.switch_on(writer, echo, bool(environ.get("ASKLESS_TRACK_USE")), memory, spare)
    if memory is not None:
        writer.note(
            "memory was tracked: what the program allocates takes longer, so its times are longer "
            "than without it"
        )
