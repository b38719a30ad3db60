"""Turns records into the lines of a capture file and appends them to the process's own file.

The format is described by the types in askless/capture/events.py. Columns: one line holds the
queries of one request field by field, and a field that is the same for all of them is written once.
"""

import os
import sys
from _thread import allocate_lock, get_ident
from collections import deque
from marshal import dumps as _dumps
from operator import itemgetter
from time import perf_counter_ns
from zlib import crc32 as _crc32

from . import recorder, source_lines, stack, texts, values
from .capture_file import CaptureFile
from .crash_buffer import CrashBuffer
from .fields import CONNECTION, DESCRIPTION, ROWS, SAMPLE, START_NS, TEXT
from .object_use import USES_MOST
from .recorder import connections

# statement texts remembered; beyond that the memory is cleared and texts are stored again
TEXTS_MAX = 20000
SAMPLED_COLUMNS_MAX = 12
# which executions of a statement get their column widths measured
WIDTHS_FIRST, WIDTHS_EVERY = 4, 64
DESERTED = 10_000  # steps in the queue that show that anyone who was to write them will not
SETTLE_S = 1.0  # how long an ending process waits for a thread that is writing
_started = itemgetter(START_NS)


def _unheld():
    """What getrefcount says, inside a loop over a list, of a record that nothing but the list
    holds; 0: can't tell.
    """
    if not hasattr(sys, "getrefcount"):
        return 0
    alone = [[0]]
    return [sys.getrefcount(record) for record in alone][0]


_UNHELD = _unheld()


def _by_position(items, most=None):
    """What there is, by its place."""
    return {i: one if most is None else one[:most] for i, one in enumerate(items) if one}


def _widths(sample, total):
    """Bytes of each column over all rows of a result, from some of them."""
    return [sum(map(values.width, column)) * total // len(sample) for column in zip(*sample)]


def _without_held(records, waiting):
    """The records that no cursor holds any more; the others wait."""
    held = {id(record) for record in records if sys.getrefcount(record) > _UNHELD}
    if not held:
        return records
    waiting[:0] = [record for record in records if id(record) in held]
    return [record for record in records if id(record) not in held]


class Writer(CaptureFile):
    """The capture file of one process. Opened when there is something to write.

    Any thread may call it at any time, and so may a signal handler or a destructor that comes in
    between: what is to be done goes into a queue, and who finds no one at work works it off. No one
    ever waits for anybody.
    """

    def __init__(self, folder):
        # without one nothing is written, only passed to `tap`
        self.folder = os.path.abspath(folder) if folder else ""
        self.tap = None
        self.clock_ns = perf_counter_ns()
        self.encode = None
        self.file = -1
        self.identity = None
        self.tail = None
        self.restart()

    def restart(self):
        """Begin again: a fresh process, or the child after a fork."""
        if self.file >= 0 and self._is_ours():
            os.close(self.file)
        if self.tail is not None:
            self.tail.let_go()
        self.busy = allocate_lock()
        self.at_work = 0  # the thread that works off the queue
        self.queue = deque()
        self._forget()
        self.tail = CrashBuffer(self, connections)

    def _forget(self):
        """Nothing has been told yet, in a file that is still to be made."""
        self.file = -1
        self.path = ""
        self.size = 0
        self.spent_before_ns = recorder.spent_ns
        self.begun = False  # whether the first line has been told
        self.statements = {}
        self.by_parts = {}
        # statement id from which on they are remembered, if that is not written yet
        self.forgotten = 0
        # statement id -> function that picks the sampled columns of a row, once known
        self.picks = [None]
        self.executions = [0]
        self.described = set()  # texts whose columns are known
        self.places = {(): 0}
        self.place_ids = {}
        self.loads = {None: 0}
        self.models = set()  # those that are described
        self.mentioned = 0  # of those that are mentioned, how many were looked at
        self.told_modules = (0, 0, (), False)
        self.lines = []
        self.queries = self.requests = 0

    def knows(self, text):
        """Whether the columns of a statement's result are known by now."""
        return text in self.described

    def _do(self, step, *args):
        """Put a step into the queue and work off what is there."""
        self.queue.append((step, args))
        self._work_off()

    def _work_off(self):
        """Do what waits, unless someone is at it: then it is taken along, here or on the way out of
        the loop.
        """
        queue = self.queue
        while queue:
            if not self.busy.acquire(False) and len(queue) < DESERTED:
                return
            self.at_work = get_ident()
            began_ns = perf_counter_ns()
            try:
                if self.encode is None:
                    self.encode = values.encoder(values.plain)
                while queue:
                    step, args = queue.popleft()
                    step(*args)
                if recorder.spare is not None and 0 < recorder.spare.segment <= self.size:
                    self._rotate()
            finally:
                self.at_work = 0
                recorder.spent_ns += perf_counter_ns() - began_ns
                try:
                    # even when interrupted: numbers that have been given out must be said
                    self._put()
                finally:
                    if self.busy.locked():
                        self.busy.release()

    def settle(self):
        """Return once nothing waits, however busy another thread is; gives up after a second."""
        self._work_off()
        if self.at_work != get_ident() and self.busy.acquire(True, SETTLE_S):
            self.busy.release()
            self._work_off()

    # -- what may be written
    # -----------------------------------------------------------------------------------------

    def note(self, text):
        """Something that the reader of the capture should know."""
        self._do(self._line_of, {"event": "note", "text": text})

    def write(self, request, ended_ns=0, keep_open=True):
        """Write a request's waiting records; with `ended_ns`, its end as well.

        While the request goes on, a record that a cursor is still filling is held back.
        """
        if ended_ns or not request.queued:
            request.queued = True
            self._do(self._write, request, ended_ns, keep_open)

    def tell_left_out(self):
        """Say what was omitted since the last time."""
        self._do(self._tell_left_out)

    def _tell_left_out(self):
        event = recorder.spare.event() if recorder.spare is not None else None
        if event is not None:
            self._line_of(event)

    def _tell_modules(self):
        """What the program has imported that matters, when that has changed."""
        modules = len(recorder.watched), len(recorder.unknown), stack.own_packages, recorder.serves
        if modules != self.told_modules:
            self.told_modules = modules
            self._line(
                event="modules",
                watched=recorder.watched,
                unknown=recorder.unknown,
                code=list(stack.own_packages),
                serves=recorder.serves,
            )

    def _write(self, request, ended_ns, keep_open):
        request.queued = False
        self._tell_modules()
        # In place: another thread may be about to append to this very list.
        waiting = request.records
        records = waiting[:]
        del waiting[: len(records)]
        if not ended_ns and keep_open and _UNHELD:
            records = _without_held(records, waiting)
        if not request.announced and (records or ended_ns):
            self._announce(request)
        if records:
            # What runs side by side comes as it ends.
            records.sort(key=_started)
            self._queries(request, records)
        if request.announced and request.errands:
            self._errands(request)
        if ended_ns:
            self._end(request, ended_ns)
        self._put()

    def end(self, request, ended_ns):
        """Write the end of a request whose records are written."""
        self._do(self._end_announced, request, ended_ns)

    def _end_announced(self, request, ended_ns):
        if request.announced:
            self._end(request, ended_ns)

    def begin_file(self):
        """Open the file now, while this process still may."""
        self._do(self._begin_file)

    def _begin_file(self):
        if self.file < 0:
            self._put(even_empty=True)

    def close(self):
        """Write the last line, which tells a clean end."""
        self._do(self._close)

    def _close(self):
        if self.file >= 0:
            self._finish()
            self.tail.remove()

    def _finish(self):
        """The file is whole: write its last line."""
        self._tell_modules()
        self._tell_left_out()
        spent_ns = recorder.spent(self.queries, self.spent_before_ns)
        self._line(event="close", requests=self.requests, queries=self.queries, spent_ns=spent_ns)
        self._put()
        if self._is_ours():
            os.close(self.file)
        self.file = -1

    def _uses(self, request, marks):
        """What the ORM said, and next to it what becomes of the results from now on."""
        plain = []
        for i, mark in enumerate(marks):
            if mark is not None and type(mark[0]) is tuple:
                mark, use = mark
                if request.uses is None:
                    request.uses = []
                if len(request.uses) < USES_MOST:
                    use.ordinal = request.written + i
                    request.uses.append(use)
                elif len(request.uses) == USES_MOST:
                    request.uses.append(None)
                    self._line(
                        event="note",
                        text="use is tracked for the first %d results of a request" % USES_MOST,
                    )
            plain.append(mark)
        return plain

    # -- encoding
    # ----------------------------------------------------------------------------------------------------

    def _announce(self, request):
        request.announced = True
        self.requests += 1
        event = {
            "event": "request",
            "id": request.ident,
            "kind": request.kind,
            "route": request.route,
        }
        event["start_ns"] = request.start_ns
        event["thread"] = get_ident()
        if request.path:
            event["path"] = request.path
        if request.warm_up:
            event["warm_up"] = True
        self._line_of(event)

    def _end(self, request, ended_ns):
        if request.uses:
            rows = [row for use in request.uses if use is not None for row in use.rows()]
            if rows:
                self._line(event="use", request=request.ident, used=rows)
            request.uses = None
        event = {
            "event": "end",
            "request": request.ident,
            "end_ns": ended_ns,
            "route": request.route,
        }
        if request.status:
            event["status"] = request.status
        if request.memory_bytes:
            event["memory_bytes"] = request.memory_bytes
        if request.more:
            event["more"], event["more_ns"] = request.more, request.more_ns
            request.more = request.more_ns = 0
        self.lines.append(self.encode(event))

    def _errands(self, request):
        waiting = request.errands
        errands = waiting[:]
        del waiting[: len(errands)]
        waits = [
            [kind, what, start, lasted, self._place(place)]
            for kind, what, start, lasted, place, _ in errands
        ]
        self._line(event="errands", request=request.ident, errands=waits)

    def _mentioned_models(self):
        self.mentioned = len(recorder.mentioned)
        for orm, name in list(recorder.mentioned):
            self._model(orm, name)

    def _statements(self, records, texts, parameters):
        """(the statements' numbers, literals where a text has become another one, parameters)."""
        statements = list(map(self.statements.get, texts))
        literals = None
        for i, ident in enumerate(statements):
            if ident is None or type(parameters[i]) is not tuple:
                literals = literals or [None] * len(records)
                statements[i], literals[i], parameters = self._statement(records[i], i, parameters)
        return statements, literals, parameters

    def _queries(self, request, records):
        # A record that was echoed has one field more; zip stops at the shortest.
        (
            texts,
            parameters,
            starts,
            durations,
            rows,
            places,
            _,
            connections,
            in_transaction,
            _,
            marks,
            threads,
            failures,
            sets,
        ) = list(zip(*records))[:14]
        self.queries += len(records)
        if len(recorder.mentioned) > self.mentioned:
            self._mentioned_models()
        if min(rows) < 0:  # a driver that could not tell
            rows = [max(count, 0) for count in rows]
        if recorder.tracking and any(marks):
            marks = self._uses(request, marks)
        request.written += len(records)
        statements, literals, parameters = self._statements(records, texts, parameters)
        place_ids = list(map(self.places.get, places))
        if None in place_ids:
            place_ids = list(map(self._place, places))
        sizes, digests, samples, widths = self._results(records, statements)
        encode = self.encode
        out = [
            '{"event":"queries","request":%d,"count":%d' % (request.ident, len(records)),
            '"statement":' + values.column(statements),
            '"start_ns":' + repr(list(starts)),
            '"duration_ns":' + repr(list(durations)),
            '"rows":' + values.column(rows),
            '"bytes":' + values.column(sizes),
            '"digest":' + values.column(digests),
            '"place":' + values.column(place_ids),
            '"connection":' + values.column(connections),
            '"in_transaction":' + values.column(list(map(int, in_transaction))),
            '"thread":' + values.column(threads),
            '"parameters":' + self._parameters(parameters),
        ]
        if any(samples):
            out.append('"sample":' + self._values(samples))
        if widths:
            out.append('"widths":' + encode(widths))
        if literals is not None and any(literals):
            out.append('"literals":' + encode(literals))
        if any(marks):
            out.append('"load":' + values.column(list(map(self._load, marks))))
        if any(failures):
            out.append('"error":' + encode(_by_position(failures, 500)))
        if any(sets):
            out.append('"batch":' + encode(_by_position(sets)))
        self.lines.append(",".join(out) + "}")
        if self.forgotten:
            self._line(event="forget", before=self.forgotten)
            self.forgotten = 0

    def _parameters(self, rows):
        """The parameters of each query. A list among them (for ANY, say) is one value, not
        several.
        """
        text = self._values(rows)
        if (text.count("[") != len(rows) + 1 or "{" in text) and any(
            type(value) in values.CONTAINERS for row in rows for value in row
        ):
            return self.encode([[values.safe(value) for value in row] for row in rows])
        return text

    def _values(self, rows):
        """A list of lists of values as JSON: the quick way, and value by value where that can't
        hold them.
        """
        try:
            text = self.encode(rows)
            if len(text) < 600 * (len(rows) + 1) and "\\ud" not in text:
                return text
        except (ValueError, TypeError, OverflowError):
            pass
        return self.encode([values.safe_nested(row) for row in rows])

    def _statement(self, record, i, parameters):
        """Number of a text not seen before; its literals where only they differ from a text that
        was; parameters.
        """
        text = record[TEXT]
        bound = parameters[i]
        names = None
        if type(bound) is not tuple:
            if isinstance(bound, dict):
                names = tuple(bound)
                bound = tuple(bound.values())
            else:
                bound = tuple(bound) if isinstance(bound, list) else (values.plain(bound),)
            parameters = list(parameters)
            parameters[i] = bound
        key = text if names is None else (text, names)
        ident = self.statements.get(key)
        if ident is not None:
            return ident, None, parameters
        parts = texts.parts_of(text)
        fixed = (tuple(parts[::2]), names)
        ident = self.by_parts.get(fixed)
        if ident is not None:
            return ident, parts[1::2], parameters
        if len(self.statements) + len(self.by_parts) > TEXTS_MAX:
            self.statements.clear()
            self.by_parts.clear()
            self.described.clear()
            self.forgotten = len(self.picks)
        ident = len(self.picks)
        self.picks.append(None)
        self.executions.append(0)
        self.by_parts[fixed] = self.statements[key] = ident
        parts = [part.encode("utf-8", "replace").decode() for part in parts]
        event = {"event": "statement", "id": ident, "text": parts}
        event["system"] = connections.get(record[CONNECTION], "")
        if names:
            event["names"] = [str(name) for name in names]
        self.lines.append(self.encode(event))
        return ident, None, parameters

    def _place(self, key):
        ident = self.places.get(key)
        if ident is not None:
            return ident
        if len(self.places) > TEXTS_MAX:
            self.places = {(): 0}
        frames = [stack.resolve(key[i], key[i + 1]) for i in range(0, len(key), 2)]
        ident = 0
        for frame in reversed(frames):
            chain = (frame, ident)
            number = self.place_ids.get(chain)
            if number is None:
                number = self.place_ids[chain] = len(self.place_ids) + 1
                file, line, function = frame
                file = file.encode("utf-8", "replace").decode()
                event = {"event": "place", "id": number, "file": file, "line": line}
                event.update(function=function, caller=ident)
                digest = source_lines.digest(frame[0], line)
                if digest:
                    event["digest"] = digest
                self._line(**event)
            ident = number
        self.places[key] = ident
        return ident

    def _load(self, load):
        ident = self.loads.get(load)
        if ident is None:
            ident = self.loads[load] = len(self.loads)
            orm, kind, model, relation, target, many, *named = load
            for name in (model, target):
                self._model(orm, name)
            self._line(
                event="load",
                id=ident,
                orm=orm,
                kind=kind,
                model=model,
                relation=relation,
                target=target,
                many=many,
                **dict(zip(("named", "deferred", "unchanged"), named)),
            )
        return ident

    def _model(self, orm, name):
        """Describe a model before it is first referred to."""
        if (orm, name) in self.models:
            return
        self.models.add((orm, name))
        describe = recorder.models.get((orm, name))
        try:
            if describe is not None:
                self._line(event="model", orm=orm, name=name, **values.plain_model(describe()))
        except Exception as error:
            self._line(
                event="note", text="can't describe the model %s: %s" % (name, type(error).__name__)
            )

    def _described(self, ident, record, sample):
        pick = self._columns(ident, record[DESCRIPTION], sample)
        self.described.add(record[TEXT])
        return pick

    def _results(self, records, statements):
        """Sizes, digests, key samples and (for some) column widths of the records' results, from
        their first rows.
        """
        sizes, digests, samples, widths = [], [], [], {}
        picks, executions, nothing = self.picks, self.executions, values.nothing
        i = -1
        for record, ident in zip(records, statements):
            i += 1
            sample = record[SAMPLE]
            if not sample:
                sizes.append(0)
                digests.append(0)
                samples.append(None)
                continue
            pick = picks[ident]
            if pick is None or type(sample[0]) is not tuple:
                sample = list(map(values.as_tuple, sample))
                pick = pick or self._described(ident, record, sample)
            try:
                data = _dumps(sample, 2)
            except ValueError:
                sample = [tuple(map(values.marshallable, row)) for row in sample]
                data = _dumps(sample, 2)
            first = sample[0]
            total = record[ROWS]
            # marshal spends 5 bytes on the list, 5 on each row and 1 on each value's type; what is
            # left is the value itself, with a four-byte length before texts: close to what a wire
            # protocol carries.
            try:
                if total == 1:
                    sizes.append(len(data) - 10 - len(first))
                    samples.append([pick(first)] if pick is not nothing else None)
                else:
                    count = len(sample)
                    total = max(total, count)
                    sizes.append((len(data) - 5 - count * (5 + len(first))) * total // count)
                    samples.append([pick(row) for row in sample] if pick is not nothing else None)
            except IndexError:  # the table has changed under a SELECT *
                self._columns(ident, record[DESCRIPTION], sample)
                samples.append(None)
            digests.append(_crc32(data, total))
            seen = executions[ident] = executions[ident] + 1
            if seen <= WIDTHS_FIRST or seen % WIDTHS_EVERY == 0:
                widths[i] = _widths(sample, total)
        return sizes, digests, samples, widths

    def _columns(self, ident, description, sample):
        """Learn a statement's columns from its first result, and which of them may hold keys."""
        names = [str(column[0]) for column in description or ()]
        sampled = [
            i
            for i, column in enumerate(zip(*sample))
            if all(map(values.may_be_key, column)) and any(value is not None for value in column)
        ]
        if len(sampled) > SAMPLED_COLUMNS_MAX:  # those that are called keys first
            sampled.sort(key=lambda i: not values.is_called_key(names[i]))
            sampled = sorted(sampled[:SAMPLED_COLUMNS_MAX])
        self._line(event="columns", statement=ident, names=names, sampled=sampled)
        if not sampled:
            pick = values.nothing
        elif len(sampled) == 1:
            only = sampled[0]

            def pick(row):
                return (row[only],)

        else:
            pick = itemgetter(*sampled)
        self.picks[ident] = pick
        return pick
