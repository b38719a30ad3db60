"""`askless.request("name")`: a request marked by hand, for jobs, console lines and tests."""

from functools import partial, wraps

from . import recorder

# Flags of a code object (`inspect` names them too, but costs several milliseconds to import).
_GENERATOR, _COROUTINE, _GENERATOR_AWAITED, _ASYNC_GENERATOR = 0x20, 0x80, 0x100, 0x200


class request:
    """Context manager and decorator. Inside another request it changes nothing: the outer one
    counts.

    What is decorated may be a coroutine or a generator as well: the request is open while its code
    runs, not while the one that takes its values does something else.
    """

    kind = "marked"

    def __init__(self, name):
        self.name = str(name)
        self.open = []

    def __enter__(self):
        self.open.append(recorder.begin(self.kind, self.name) if recorder.is_outermost() else None)
        return self

    def __exit__(self, *details):
        opened = self.open.pop()
        if opened is not None:
            recorder.end(*opened)
        return False

    def __call__(self, function):
        inner = function
        while isinstance(inner, partial):
            inner = inner.func
        flags = getattr(getattr(inner, "__code__", None), "co_flags", 0)
        if flags & _ASYNC_GENERATOR:
            return _async_generator(self.name, function)
        if flags & (_COROUTINE | _GENERATOR_AWAITED):
            return _coroutine(self.name, function)
        if flags & _GENERATOR:
            return _generator(self.name, function)
        return _function(self.name, function)


class Part(request):
    """The same for a kind of work that is known by itself: a job, a call."""

    def __init__(self, kind, name):
        request.__init__(self, name)
        self.kind = kind


def _function(name, function):
    @wraps(function)
    def marked(*args, **kwargs):
        with request(name):
            return function(*args, **kwargs)

    return marked


def _coroutine(name, function):
    @wraps(function)
    async def marked(*args, **kwargs):
        with request(name):
            return await function(*args, **kwargs)

    return marked


def _generator(name, function):
    @wraps(function)
    def marked(*args, **kwargs):
        return (yield from _Steps(name, function(*args, **kwargs)))

    return marked


def _async_generator(name, function):
    @wraps(function)
    async def marked(*args, **kwargs):
        inner = function(*args, **kwargs)
        turns = _Turns(name)
        value = problem = None
        try:
            while True:
                with turns:
                    try:
                        item = await (
                            inner.asend(value) if problem is None else inner.athrow(problem)
                        )
                    except StopAsyncIteration:
                        return
                value = problem = None
                try:
                    value = yield item
                except GeneratorExit:
                    raise
                except BaseException as error:
                    problem = error
        finally:
            try:
                with turns:
                    await inner.aclose()
            finally:
                turns.end()

    return marked


class _Turns:
    """A request that is the current one only while its own code runs: a `with` block for each
    turn.
    """

    __slots__ = ("began", "name", "request", "token")

    def __init__(self, name):
        self.name = name
        self.began = False
        self.request = self.token = None

    def __enter__(self):
        if not self.began:
            self.began = True
            if recorder.is_outermost():
                self.request, self.token = recorder.begin("marked", self.name)
        elif self.request is not None:
            self.token = recorder.current.set(self.request)

    def __exit__(self, *details):
        if self.request is not None:
            try:
                recorder.current.reset(self.token)
            except ValueError:  # an awaitable may be driven on in another context
                recorder.current.set(None)
        return False

    def end(self):
        """The code has run to its end, or no one wants to know."""
        request, self.request = self.request, None
        if request is not None:
            recorder.end(request, recorder.current.set(request))


class _Steps:
    """A generator of the program's, each step of it a turn of one request. For `yield from`."""

    __slots__ = ("inner", "turns")

    def __init__(self, name, inner):
        self.inner = inner
        self.turns = _Turns(name)

    def __iter__(self):
        return self

    def __next__(self):
        return self._step(self.inner.__next__)

    def send(self, value):
        return self._step(self.inner.send, value)

    def throw(self, *problem):
        return self._step(self.inner.throw, *problem)

    def close(self):
        try:
            with self.turns:
                self.inner.close()
        finally:
            self.turns.end()

    def _step(self, step, *values):
        try:
            with self.turns:
                return step(*values)
        except BaseException:
            self.turns.end()
            raise
