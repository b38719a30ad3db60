"""`askless.request("name")`: a request marked by hand, for jobs, console lines and tests."""

from functools import wraps

from . import recorder


class request:
    """Context manager and decorator. Inside another request it changes nothing: the outer one counts."""

    def __init__(self, name):
        self.name = str(name)
        self.open = []

    def __enter__(self):
        around = recorder.current.get()
        if recorder.active and (around is None or around.kind == "block"):
            self.open.append(recorder.begin("marked", self.name))
        else:
            self.open.append(None)
        return self

    def __exit__(self, *details):
        opened = self.open.pop()
        if opened is not None:
            recorder.end(*opened)
        return False

    def __call__(self, function):
        name = self.name

        @wraps(function)
        def marked(*args, **kwargs):
            with request(name):
                return function(*args, **kwargs)

        return marked
