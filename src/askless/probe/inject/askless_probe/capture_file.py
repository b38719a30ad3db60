"""The file of a process's capture: opened when there is something to write, appended to, cut where
the disk is full, and closed for another where it is large enough.
"""

import os
import sys
from time import perf_counter_ns, time

from . import recorder
from .crash_buffer import CrashBuffer
from .recorder import connections

VERSION = 1


class CaptureFile:
    """What a writer does with its file. Its lines wait in `lines`."""

    def _line(self, **event):
        self._line_of(event)

    def _line_of(self, event):
        self.lines.append(self.encode(event))

    def _put(self, even_empty=False):
        """Append the gathered lines with one system call."""
        if not self.lines and not even_empty:
            return
        lines, self.lines = self.lines, []
        if not self.begun:
            self.begun = True
            lines.insert(0, self._header())
        if self.tap is not None:
            self.tap(lines)
        if not self.folder:
            return
        try:
            if self.file < 0 or not self._is_ours():
                self._open()
            view = memoryview(("\n".join(lines) + "\n").encode("ascii"))
            size = len(view)
            while len(view):
                view = view[os.write(self.file, view) :]
            self.size += size
        except OSError as error:
            if recorder.spare is None or not recorder.spare.is_full(error, perf_counter_ns()):
                raise
            self._cut()

    def _cut(self):
        """The disk is full: the file ends with its last whole line, and what comes later begins
        another.
        """
        try:
            os.ftruncate(self.file, self.size)
            if not self.size:
                os.unlink(self.path)
            os.close(self.file)
        except OSError:
            pass
        self.lines = []
        self.tail.remove()
        self._begin_anew()

    def _begin_anew(self):
        for request in recorder.open_requests.values():
            request.retell()
        self._forget()
        self.tail = CrashBuffer(self, connections)

    def _rotate(self):
        """Close this file, which is large enough, and begin another; the oldest go where the
        capture is too large.
        """
        spare = recorder.spare
        now_ns = perf_counter_ns()
        going_on = [request for request in recorder.open_requests.values() if request.announced]
        if (
            any(request is not recorder.outside for request in going_on)
            and self.size < 2 * spare.segment
        ):
            return  # a request is reported in one file, unless one goes on for very long
        for request in going_on:
            self._end(request, now_ns)
            request.start_ns = now_ns
        self._finish()
        for request in recorder.open_requests.values():
            request.retell()
        self._forget()
        self._put(even_empty=True)
        self.tail.follow([request for request in going_on if not request.left_out])
        spare.drop_oldest()
        self._tell_left_out()  # at once, as a killed process says nothing more

    def _is_ours(self):
        """Whether the descriptor is our file still: a program may close descriptors that it does
        not know.
        """
        try:
            status = os.fstat(self.file)
        except OSError:
            return False
        return (status.st_dev, status.st_ino) == self.identity

    def _open(self):
        """Open the capture file of this process; the same one again where the program has closed
        it.
        """
        flags = (
            os.O_WRONLY
            | os.O_CREAT
            | os.O_APPEND
            | getattr(os, "O_CLOEXEC", 0)
            | getattr(os, "O_NOFOLLOW", 0)
        )
        if self.path:
            self.file = os.open(self.path, flags, 0o600)
        name = "%d-%d" % (os.getpid(), int(time() * 1000))
        attempt = 0
        while not self.path:
            path = os.path.join(
                self.folder, "%s%s.askless.jsonl" % (name, "-%d" % attempt if attempt else "")
            )
            try:
                self.file = os.open(path, flags | os.O_EXCL, 0o600)
                self.path = path
            except FileExistsError:
                attempt += 1
        status = os.fstat(self.file)
        self.identity = (status.st_dev, status.st_ino)

    def _header(self):
        now_ns = perf_counter_ns()
        argv = getattr(sys, "argv", None) or [""]
        return self.encode(
            {
                **(recorder.spare.wishes() if recorder.spare is not None else {}),
                "event": "capture",
                "format": "askless capture",
                "version": VERSION,
                "recorder": "python",
                "pid": os.getpid(),
                "program": os.path.basename(argv[0]) or "python",
                "python": "%d.%d.%d" % sys.version_info[:3],
                "started_unix_s": time() - (now_ns - self.clock_ns) / 1e9,
                "clock_ns": self.clock_ns,
            }
        )
