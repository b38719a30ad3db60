"""What a killed process had not written yet: a ring in a file that is mapped into memory, which
outlives the process.

Each query goes into the ring when it has run, long before it is written as part of the capture.
Once a process has ended without closing its capture, `capture app` takes from the ring what is
missing (askless/capture/crash_recovery.py), and removes it. A process that ends in good order
removes its own.

Form: slots of SLOT bytes (SLOTS, or fewer where the capture's size is limited), each one of

- BRIEF: numbers by the form `_BRIEF` and the parameters as `marshal` writes them: a query whose
  statement and line have been there before, and that has nothing else to tell;
- WHOLE: everything as `marshal` writes it: a request, or a query that is new or has more to tell.

Behind the ring stand lines of JSON: texts, places and what ORMs said, which slots refer to by
number. A query with more data than a slot takes loses its parameters.
"""

import mmap
import os
import sys
from itertools import count
from marshal import dumps
from struct import Struct

from . import recorder, stack, texts, values

SLOT, SLOTS = 512, 4096
SUFFIX = ".tail"
BRIEF, WHOLE = b"\x01", b"\x02"
TEXT_MAX = 200  # characters of a text that is in its slot the first time
TEXTS_MAX = 20_000  # texts that are remembered
TOLD_MOST_BYTES = 4 * 1024**2  # of lines after the ring; then they begin again
# of a capture's size for the ring, and as much again for the lines after it
_SHARE, _SLOTS_LEAST = 32, 64
# kind, load, request, text, place, connection x 2 + inside, start, duration, rows, thread
_BRIEF = Struct("<cxHIIIIqqqQ")
_LOADS_MOST = 60_000  # that may be said: their number has two bytes
_FORM = 2  # of marshal: the same in every Python
# maps are not closed but left: closing one closes a descriptor that may be the program's by now
_kept = []


class CrashBuffer:
    """The tail of one process. It opens with the first thing that is put into it; if it can't, it
    does without.
    """

    def __init__(self, writer, connections):
        self.writer = writer
        self.connections = connections
        self.tried = False
        self.ring = None
        self.path = ""
        self.slots, self.told_most = SLOTS, TOLD_MOST_BYTES
        self.slot = count().__next__
        self.number = count(1).__next__
        self.load_number = count(1).__next__
        self._begin_lines()

    def _begin_lines(self):
        self.told_bytes = 0
        self.places = {(): 0}
        self.loads = {None: 0}
        self.texts = {}  # text -> its number; 0 if it was seen once, and is in its slot

    def _open(self):
        """Open it next to the capture's own file, which is begun for it."""
        writer = self.writer
        self.tried = True
        if not writer.folder:
            return
        try:
            writer.begin_file()
            if not writer.path:  # another thread is at it
                self.tried = False
                return
            path = writer.path + SUFFIX
            keep = recorder.spare.keep if recorder.spare is not None else 0
            if keep:  # a capture of limited size has a smaller ring
                self.slots = min(SLOTS, max(keep // _SHARE // SLOT, _SLOTS_LEAST))
                self.told_most = min(TOLD_MOST_BYTES, max(keep // _SHARE, _SLOTS_LEAST * SLOT))
            file = os.open(
                path, os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_CLOEXEC", 0), 0o600
            )
            self.path = path
            try:
                # Written, not only made long: a page that the disk has no room for would kill the
                # program.
                if os.write(file, bytes(SLOT * self.slots)) == SLOT * self.slots:
                    own = {"trackfd": False} if sys.version_info >= (3, 13) else {}
                    self.ring = mmap.mmap(file, SLOT * self.slots, **own)
            finally:
                os.close(file)
        except Exception:  # anyone who writes next says what is wrong
            self.ring = None
        if self.ring is None:
            self.remove()

    def put_request(self, request):
        """A request begins."""
        if not self.tried:
            self._open()
        if self.ring is not None:
            try:
                begun = request.ident, request.kind, request.route, request.path, request.start_ns
                self._put((0,) + begun + (request.warm_up,))
            except Exception:
                pass

    def put(self, request, record, pack=_BRIEF.pack, dumps=dumps):
        """A query has run."""
        ring = self.ring
        if ring is None:
            if self.tried:
                return
            self._open()
            ring = self.ring
            if ring is None:
                return
        try:
            (text, parameters, start, duration, rows, place, _, connection, inside, _, load, thread,
             error, batch) = record  # fmt: skip
            number = self.texts.get(text)
            line = self.places.get(place)
            if load is not None and type(load[0]) is tuple:
                load = load[0]
            said = self.loads.get(load)
            if number and line is not None and said is not None and error is None and not batch:
                data = pack(
                    BRIEF,
                    said,
                    request.ident,
                    number,
                    line,
                    connection * 2 + (inside is True),
                    start,
                    duration,
                    rows,
                    thread,
                ) + dumps(parameters, 2)
                size = len(data)
                if size <= SLOT:
                    at = self.slot() % self.slots * SLOT
                    ring[at : at + size] = data
                    return
            self._put_query(request, record, number, line)
        except Exception:
            try:  # values that `marshal` does not know
                self._put_query(request, record, None, None)
            except Exception:
                # what can't be put is missing if the process is killed, and only then
                pass

    def _put_query(self, request, record, number, line):
        (text, parameters, start, duration, rows, place, _, connection, inside, _, load, thread,
         error, batch) = record  # fmt: skip
        system = self.connections.get(connection, "")
        if line is None:
            line = self.places.get(place)
            if line is None:
                line = self._place(place)
        if number is None and len(text) <= TEXT_MAX and text not in self.texts:
            if len(self.texts) < TEXTS_MAX:
                self.texts[text] = 0
        else:
            text = number or self.texts.get(text) or self._text(text, system)
        if load is not None and type(load[0]) is tuple:
            load = load[0]
        said = self.loads.get(load)
        if said is None:
            said = self._load(load)
        names = ()
        if type(parameters) is not tuple:
            names, parameters = tuple(parameters), tuple(parameters.values())
        fixed = (
            request.ident,
            text,
            start,
            duration,
            rows,
            line,
            connection,
            system,
            inside,
            said,
            thread,
        )
        fixed += (error, batch, names)
        try:
            self._put(fixed + (parameters,))
        except ValueError:
            self._put(fixed + (tuple(map(values.marshallable, parameters)),))

    def _put(self, fields):
        data = WHOLE + dumps(fields, _FORM)
        if len(data) > SLOT:
            data = WHOLE + dumps(fields[:-1] + (None,), _FORM)
            if len(data) > SLOT:
                return
        at = self.slot() % self.slots * SLOT
        self.ring[at : at + len(data)] = data

    def _tell(self, event):
        """Write a line after the ring. By the file's name, as the program may have closed any
        descriptor.
        """
        line = (self.writer.encode(event) + "\n").encode("ascii")
        if self.told_bytes + len(line) > self.told_most:
            os.truncate(self.path, SLOT * self.slots)
            self._begin_lines()
        self.told_bytes += len(line)
        file = os.open(
            self.path,
            os.O_WRONLY | os.O_APPEND | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_NOFOLLOW", 0),
        )
        try:
            os.write(file, line)
        finally:
            os.close(file)

    def _text(self, text, system):
        number = self.number()
        self._tell({"number": number, "text": texts.safe_text(text), "system": system})
        if len(self.texts) >= TEXTS_MAX:
            self.texts.clear()
        self.texts[text] = number
        return number

    def _place(self, key):
        number = self.number()
        self._tell(
            {
                "number": number,
                "frames": [stack.resolve(key[i], key[i + 1]) for i in range(0, len(key), 2)],
            }
        )
        self.places[key] = number
        return number

    def _load(self, load):
        number = self.load_number()
        if number > _LOADS_MOST:
            return 0
        self._tell({"number": -number, "load": load})
        self.loads[load] = number
        return number

    def follow(self, requests):
        """The writer has begun another file: the one before is whole, and only these requests go
        on.
        """
        if self.ring is None:
            return
        try:
            self.ring[:] = bytes(SLOT * self.slots)
            path = self.writer.path + SUFFIX
            os.rename(self.path, path)
            self.path = path
            os.truncate(path, SLOT * self.slots)
            self._begin_lines()
        except Exception:  # then a killed process loses what it had not written
            self.remove()
        for request in requests:
            self.put_request(request)

    def let_go(self):
        """Forget it: it is another process's."""
        _kept.append(self.ring)
        self.ring = None

    def remove(self):
        """The capture is closed: the tail is of no more use."""
        self.let_go()
        try:
            if self.path:
                os.unlink(self.path)
        except OSError:
            pass
