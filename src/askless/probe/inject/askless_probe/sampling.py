"""What is omitted of a recording that stays on for days, and how that is counted.

Whole requests are omitted, by chance or since they were quick; of a request that asks much, what is
beyond a number of queries. A file of the capture is closed when it is large, and the oldest files
go. A word in a control file, or a full disk, stops recording for a while. What is omitted is
reported in the capture, so that totals can be scaled.
"""

import errno
import os
from time import perf_counter_ns, time_ns

from . import recorder
from .fields import DURATION_NS
from .limits_of_recording import TAIL_BYTES, closed_counts, kept_below, random_part, segment_bytes

CONTROL = "control"  # the file of the capture's folder that may say pause
LOOK_NS = 1_000_000_000  # how often it is looked at
RETRY_NS = 10_000_000_000  # after which a disk that was full is tried again
HELD_MOST = 20_000  # queries that wait in a request that may yet be a quick one
ROUTES_MOST = 2_000  # routes that are counted apart between two times of telling
OTHERS = "(other routes)"
FULL = (errno.ENOSPC, getattr(errno, "EDQUOT", errno.ENOSPC), errno.EFBIG)
BY_CHANCE, QUICK, STOPPED = 1, 2, 3  # why a request is omitted: also the order of their counts
_BITS = 0xFFFFFFFFFFFFFFFF


class Sampler:
    """What is wished for: one request in `sample`, none quicker than `slower_ns`, `at_most` queries
    of one, `keep` bytes.
    """

    def __init__(self, folder, sample=1, slower_ns=0, at_most=0, keep=0):
        self.folder = folder
        self.sample = sample
        self.slower_ns = slower_ns
        self.at_most = at_most
        self.keep = keep
        self.segment = segment_bytes(keep)
        self.control = os.path.join(folder, CONTROL) if folder else ""
        self.threshold = kept_below(sample)
        self.paused = False  # the control file says so
        self.full_until = 0  # a disk was full: not before this time
        self.next_look = 0
        self.next_tell = perf_counter_ns() + recorder.TELL_NS
        self.state = (time_ns() ^ (os.getpid() << 40)) | 1
        # route -> [omitted by chance, quick, while stopped, queries of the quick, their ns in the
        # database]
        self.routes = {}
        self.untold = 0  # requests in them
        # files, requests, queries, bytes that this process has removed so far
        self.dropped = [0, 0, 0, 0]

    def wishes(self):
        """What the capture's first line says of it."""
        limits = {"sample": self.sample, "slower_ns": self.slower_ns, "at_most": self.at_most}
        return {name: value for name, value in limits.items() if value > (name == "sample")}

    # -- what is recorded
    # --------------------------------------------------------------------------------------------

    def chance(self):
        """A number of 56 bits. The program's own random numbers are left alone (SplitMix64: Steele,
        Lea and Flood, 2014).
        """
        self.state = mixed = (self.state + 0x9E3779B97F4A7C15) & _BITS
        mixed = (mixed ^ mixed >> 30) * 0xBF58476D1CE4E5B9 & _BITS
        mixed = (mixed ^ mixed >> 27) * 0x94D049BB133111EB & _BITS
        return (mixed ^ mixed >> 31) >> 8

    def begin(self, request, around, trace):
        """A request begins: decide what becomes of it."""
        if request.start_ns >= self.next_look:
            self.look(request.start_ns)
        if around is not None and around.left_out and request.kind != "program":
            request.left_out = around.left_out
        elif self.paused or self.full_until:
            request.left_out = STOPPED
        elif self.sample > 1 and self.is_left_out(request, trace):
            request.left_out = BY_CHANCE
        request.held = self.slower_ns > 0 and request.kind != "program" and not request.warm_up
        request.spared = bool(request.left_out or request.held or self.at_most)

    def is_left_out(self, request, trace):
        """Whether chance leaves a request out. What runs outside of requests, and what warms up, it
        does not.
        """
        if request.warm_up or request.kind == "program":
            return False
        return (random_part(trace_id(trace)) or self.chance()) >= self.threshold

    def takes(self, request, record, now_ns):
        """Whether a record is dealt with, so that nothing more is to be done about it."""
        if request.kind == "program" and now_ns >= self.next_look:
            self.look(now_ns)
        if request.left_out:
            request.more += 1
            return True
        if self.at_most:
            if request.taken >= self.at_most:
                request.more += 1
                request.more_ns += record[DURATION_NS]
                return True
            request.taken += 1
        if request.held:
            if now_ns - request.start_ns < self.slower_ns and len(request.records) < HELD_MOST:
                request.records.append(record)
                return True
            request.held = False
            request.spared = bool(self.at_most)
        return False

    def ended(self, request, now_ns):
        """Whether an ended request is omitted; then it is counted."""
        reason = request.left_out
        if not reason:
            if not request.held or now_ns - request.start_ns >= self.slower_ns:
                return False
            reason = QUICK
        counts = self.routes.get(request.route)
        if counts is None:
            route = request.route if len(self.routes) < ROUTES_MOST else OTHERS
            counts = self.routes.setdefault(route, [0, 0, 0, 0, 0])
        counts[reason - 1] += 1
        self.untold += 1
        if reason == QUICK:
            counts[3] += len(request.records) + request.more
            counts[4] += sum([record[DURATION_NS] for record in request.records]) + request.more_ns
        del request.records[:], request.errands[:]
        return True

    # -- when nothing is recorded
    # ------------------------------------------------------------------------------------

    def look(self, now_ns):
        """Look at the control file, and whether a full disk may have room again."""
        self.next_look = now_ns + LOOK_NS
        paused = False
        try:
            if self.control and os.stat(self.control).st_size < 100:
                with open(self.control) as file:
                    paused = file.read().strip() == "pause"
        except Exception:
            pass
        self.paused = paused
        if self.full_until and now_ns >= self.full_until:
            self.full_until = 0
        outside = recorder.outside
        if outside is not None:
            outside.left_out = STOPPED if paused or self.full_until else 0
            outside.spared = bool(outside.left_out or self.at_most)

    def is_full(self, error, now_ns):
        """Whether an error says that the disk is full: then nothing is recorded for a while."""
        if not isinstance(error, OSError) or error.errno not in FULL:
            return False
        self.full_until = now_ns + RETRY_NS
        for request in list(recorder.open_requests.values()):  # what it told is lost, or not whole
            request.left_out, request.spared = STOPPED, True
            request.retell()
            del request.records[:], request.errands[:]
        recorder.warn_once(
            "the disk is full (%s): nothing is recorded until it has room again; it is tried "
            "every %d s" % (self.folder, RETRY_NS // 1_000_000_000)
        )
        return True

    # -- what is reported
    # ------------------------------------------------------------------------------------------------

    def event(self):
        """What was omitted since it was reported last, and what was dropped at all, as an event's
        fields; None for nothing.
        """
        routes, self.routes, self.untold = self.routes, {}, 0
        if not routes and not any(self.dropped):
            return None
        return {"event": "left-out", "routes": routes, "dropped": list(self.dropped)}

    def drop_oldest(self):
        """Remove the oldest closed files of the folder until it is within its limit. A file with a
        tail is being written.
        """
        files, processes = [], {}
        total = 0
        open_files = 0
        for name in os.listdir(self.folder):
            if name.endswith(".jsonl.tail"):
                try:
                    total += os.stat(os.path.join(self.folder, name)).st_size
                    open_files += 1
                except OSError:
                    pass
            if not name.endswith(".jsonl"):
                continue
            path = os.path.join(self.folder, name)
            try:
                status = os.stat(path)
            except OSError:
                continue
            total += status.st_size
            process = name.split("-")[0]
            processes[process] = processes.get(process, 0) + 1
            if not os.path.exists(path + ".tail"):
                files.append((status.st_mtime_ns, status.st_size, path, process))
        for _, size, path, process in sorted(files):
            if total <= self.keep - max(open_files, 1) * self.segment:
                return
            requests, queries, dropped = closed_counts(last_bytes(path))
            try:
                os.unlink(path)
            except OSError:
                continue
            total -= size
            processes[process] -= 1
            if processes[process] or process == str(os.getpid()):
                dropped = (0, 0, 0, 0)  # a later file of that process says it, too
            for i, count in enumerate((1, requests, queries, size)):
                self.dropped[i] += count + dropped[i]


def last_bytes(path):
    """The end of a file; nothing of one that can't be read."""
    try:
        with open(path, "rb") as file:
            file.seek(max(os.stat(path).st_size - TAIL_BYTES, 0))
            return file.read()
    except Exception:
        return b""


def trace_id(header):
    """The trace id in a `traceparent` header; '' for none."""
    return (header or "").partition("-")[2][:32]


def configured(folder, environ):
    """As the environment asks for it."""

    def number(name):
        return int(environ.get(name) or 0)

    return Sampler(
        folder,
        max(number("ASKLESS_SAMPLE"), 1),
        number("ASKLESS_SLOWER_NS"),
        number("ASKLESS_AT_MOST"),
        number("ASKLESS_KEEP_BYTES"),
    )
