"""`--track-memory`: the most memory that Python's allocator held for a request beyond what it held when the request began.

Only for requests that nothing else ran beside: what one of two allocates can't be told from what the other does. It makes the
program slower, allocation by allocation, so that its times are no longer what they are without it.
"""

import tracemalloc

from . import recorder

FRAMES = 1  # of the stack that are kept for each block: no one asks for them
_under_way = set()  # requests


def start():
    """Begin to watch allocations."""
    if not tracemalloc.is_tracing():
        tracemalloc.start(FRAMES)


def begin(request):
    """A request begins: what is held now does not count, unless another one is under way."""
    alone = not _under_way
    for other in list(_under_way):
        other.held_bytes = -1
    _under_way.add(request)
    request.held_bytes = -1
    if alone and tracemalloc.is_tracing():
        tracemalloc.reset_peak()
        request.held_bytes = tracemalloc.get_traced_memory()[0]


def note(request):
    """The application has done a part of a request: its peak so far, where that is its own.

    From here on the request is in nobody's way: a server may be done with it only after the next one has begun.
    """
    _under_way.discard(request)
    if request.held_bytes >= 0 and not _under_way and tracemalloc.is_tracing():
        request.memory_bytes = max(tracemalloc.get_traced_memory()[1] - request.held_bytes, 1)


def note_current():
    """The same, of the request that this code runs in."""
    request = recorder.around()
    if request is not None:
        note(request)


def end(request):
    """A request ends. Where its parts were noted, what its server does with the response afterwards does not count."""
    if request.held_bytes < 0:
        request.memory_bytes = 0
    elif not request.memory_bytes:
        note(request)
    _under_way.discard(request)
