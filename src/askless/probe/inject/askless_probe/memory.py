"""`--track-memory`: the most memory that Python's allocator held for a request beyond what it held
when the request began.

Only for requests that nothing else ran next to: what one of two allocates can't be derived from
what the other does. It makes the program slower, allocation by allocation, so that its times are no
longer what they are without it.
"""

import tracemalloc

from . import recorder

FRAMES = 1  # of the stack that are kept for each block: no one asks for them
_under_way = set()  # requests that the application is at work on
_leaving = set()  # those that it is done with, and their server is not


def start():
    """Begin to watch allocations."""
    if not tracemalloc.is_tracing():
        tracemalloc.start(FRAMES)


def begin(request):
    """A request begins: what is held now does not count, unless another one is under way."""
    alone = not _under_way
    _spoil()
    _under_way.add(request)
    request.held_bytes = -1
    if alone and tracemalloc.is_tracing():
        tracemalloc.reset_peak()
        request.held_bytes = tracemalloc.get_traced_memory()[0]


def _spoil():
    """What is under way is not alone: it has no peak of its own."""
    for request in list(_under_way):
        request.held_bytes = -1


def note(request):
    """The application has done a part of a request: its peak so far, if that is its own."""
    if request in _under_way:
        _under_way.discard(request)
        _leaving.add(request)
    if (
        request.held_bytes >= 0
        and not _under_way
        and len(_leaving) < 2
        and tracemalloc.is_tracing()
    ):
        request.memory_bytes = max(tracemalloc.get_traced_memory()[1] - request.held_bytes, 1)


def note_current():
    """The same, of the request that this code runs in."""
    request = recorder.around()
    if request is not None:
        note(request)


def end(request):
    """A request ends. Where its parts were noted, what its server does with the response afterwards
    does not count for it.

    It may count for the next one, which has begun: that one's peak is not known then.
    """
    if request.held_bytes < 0:
        request.memory_bytes = 0
    elif not request.memory_bytes:
        note(request)
    if request in _leaving:
        _leaving.discard(request)
        _spoil()
    _under_way.discard(request)
