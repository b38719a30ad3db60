"""Receives spans over HTTP and gRPC: never loses what was acknowledged, and says when it has too
much to do.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import queue
import socket
import threading
import time
import zlib
from collections.abc import AsyncIterator, Awaitable, Callable, Container, Iterator, MutableMapping
from concurrent.futures import ThreadPoolExecutor
from importlib.util import find_spec
from typing import Any

from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.sources.otlp.decoding import Malformed, Spans, spans_of_json, spans_of_protobuf
from askless.sources.otlp.journal import JSON, PROTOBUF, Journal
from askless.sources.otlp.services import Services
from askless.sources.otlp.size_limits import OBJECTS_MOST, OPTION, SPANS_MOST, TooLarge
from askless.sources.otlp.trace_assembly import Traces

SENT_MOST, PAYLOAD_MOST = 16 * 1024**2, 64 * 1024**2  # bytes of a body as it is sent, and unpacked
RECEIVING_MOST = 64 * 1024**2  # bytes of bodies that are not whole yet
BODY_S = 30.0  # for a request's head, and for its body
_RPCS_MOST = 8  # calls of gRPC at a time, each with its message
WAITING_MOST = 64 * 1024**2  # bytes of payloads that were accepted and are not read yet
RETRY_AFTER_S = 1
QUIET_NS, PATIENT_NS = 6_000_000_000, 60_000_000_000  # exporters send every five seconds
_LOOK_S = 0.5
_JSON, _PROTOBUF = "application/json", "application/x-protobuf"
_OTHER = ("/v1/metrics", "/v1/logs", "/v1/profiles")
_PREFACE = b"PRI * HTTP/2.0"
WRONG_PORT = (
    "a gRPC client connected to the HTTP port: set OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf, or "
    "send to the gRPC port"
)

Message = MutableMapping[str, Any]
Send = Callable[[Message], Awaitable[None]]
Receive = Callable[[], Awaitable[Message]]


class Full(Exception):
    """Too much waits to be read."""


class ReaderGone(Exception):
    """Nothing can be kept any more."""


class Sink:
    """Keeps what comes, and reads it from a thread of its own, which puts traces together that are
    quiet.

    What was taken is in the journal: it is in the capture at the end, whatever becomes of this
    process. `failed` is set once nothing can be kept any more, and `error` says why.
    """

    def __init__(
        self, traces: Traces, services: Services, journal: Journal, objects_most: int = OBJECTS_MOST
    ) -> None:
        self._traces = traces
        self._services = services
        self._journal = journal
        self.objects_most = objects_most
        self.payload_most = PAYLOAD_MOST * objects_most // OBJECTS_MOST
        self._queue: queue.SimpleQueue[tuple[int, Spans, int] | None] = queue.SimpleQueue()
        self._waiting = self._waiting_spans = 0
        self._lock = threading.Lock()
        self.refused = 0
        self.grpc_on_http = 0
        self.unreadable = 0  # spans
        self.reason = ""
        self.error: Exception | None = None
        self.failed = threading.Event()
        self.ended = threading.Event()  # set by a failure, and by anyone who stops the receiver
        self._thread = threading.Thread(target=self._work, name="askless-otlp", daemon=True)
        self._thread.start()

    def take(self, kind: bytes, payload: bytes) -> int:
        """Take a payload; how many of its spans can't be read. When this returns, it is kept.

        Raises Gone, Full, Malformed, TooLarge.
        """
        if self.failed.is_set():
            raise ReaderGone(f"spans can no longer be stored: {self.error}")
        with self._lock:
            if self._waiting > WAITING_MOST or self._waiting_spans > SPANS_MOST:
                self.refused += 1
                raise Full
        read = spans_of_json if kind == JSON else spans_of_protobuf
        spans = read(payload, self.objects_most)
        with self._lock:
            try:
                number = self._journal.append(kind, payload)
            except OSError as error:
                self._fail(error)
                raise ReaderGone(f"spans can't be stored: {error.strerror}") from None
            self._waiting += len(payload)
            self._waiting_spans += len(spans.spans)
            self.unreadable += spans.unreadable
            self.reason = self.reason or spans.reason
            self._queue.put((number, spans, len(payload)))
        return spans.unreadable

    def _fail(self, error: Exception) -> None:
        self.error = self.error or error
        self.failed.set()
        self.ended.set()

    def close(self) -> None:
        """Read what was taken to its end. Raises AskLessError receiver-ended if something could not
        be kept.
        """
        self._queue.put(None)
        self._thread.join()
        if not self.failed.is_set():
            try:
                self._traces.close()
                self._services.close(self._traces, self.unreadable, self.reason)
                self._journal.remove()
                return
            except OSError as error:
                self._fail(error)
        self._journal.close()
        why = (
            self.error.strerror
            if isinstance(self.error, OSError)
            else f"{type(self.error).__name__}: {self.error}"
        )
        raise AskLessError(
            "receiver-ended",
            f"the receiver ended after {plural(self._traces.spans, 'span')} because it could "
            f"store no more: {why}",
            "acknowledged spans are in its journal next to the capture and will be added when the "
            "capture is next read",
        )

    def _work(self) -> None:
        """Whatever ends this thread ends the receiver: from then on nothing is acknowledged."""
        try:
            self._read()
        except Exception as error:  # noqa: BLE001  (see above)
            self._fail(error)

    def _read(self) -> None:
        looked_s, last = 0.0, 0
        while not self.failed.is_set():
            try:
                item = self._queue.get(timeout=_LOOK_S)
            except queue.Empty:
                item = last, Spans([]), 0
            if item is None:
                return
            last, spans, size = item
            now_ns = time.monotonic_ns()
            self._traces.add(spans.spans, now_ns, last)
            with self._lock:
                self._waiting -= size
                self._waiting_spans -= len(spans.spans)
            if time.monotonic() - looked_s > _LOOK_S:
                looked_s = time.monotonic()
                self._traces.settle(now_ns)
                self._services.flush()
                done, self._traces.done = self._traces.done, []
                with self._lock:
                    self._journal.commit(done, self._services.sizes, self._traces.oldest(last + 1))


class _Refused(Exception):
    """An answer other than 200."""

    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status = status


def unpacked(body: bytes, encoding: str, most: int = PAYLOAD_MOST) -> bytes:
    """A body as it was before it was compressed. Raises _Refused: 413 for one that is too large,
    400, 415.
    """
    if encoding in ("", "identity"):
        return body
    bits = {"gzip": 31, "deflate": 15}.get(encoding)
    if bits is None:
        raise _Refused(
            415, f"there is no Content-Encoding {encoding!r} here: send gzip, deflate or nothing"
        )
    # some send deflate without its frame
    for window in (bits, -15) if encoding == "deflate" else (bits,):
        stream = zlib.decompressobj(window)
        try:
            result = stream.decompress(body, most)
        except zlib.error as error:
            reason = str(error)
            continue
        if stream.unconsumed_tail or len(result) >= most:
            raise _Refused(
                413,
                f"the body decompresses to more than {most // 1024**2} MiB: {OPTION} raises the "
                "limit",
            )
        if not stream.eof:
            raise _Refused(400, "the compressed body ends early")
        return result
    raise _Refused(400, f"the body is not {encoding}: {reason}")


def application(
    sink: Sink, hosts: Container[str] | None = None
) -> Callable[[MutableMapping[str, Any], Receive, Send], Awaitable[None]]:
    """The ASGI application that takes what exporters post; of requests for other hosts than these,
    if some are named, none.
    """
    bodies = _Bodies()

    async def app(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        headers = {
            name.decode("latin-1").lower(): value.decode("latin-1")
            for name, value in scope["headers"]
        }
        kind = headers.get("content-type", "").split(";")[0].strip().lower()
        try:
            if hosts is not None and headers.get("host", "").lower() not in hosts:
                raise _Refused(
                    421,
                    "this receiver only accepts requests for its own address: --allow-remote "
                    "accepts any",
                )
            if scope["method"] != "POST":
                raise _Refused(405, "use POST /v1/traces")
            path = scope["path"].rstrip("/")
            if not path.endswith(("/v1/traces", *_OTHER)) and path:
                raise _Refused(
                    404, f"nothing is accepted at {scope['path']}: post traces to /v1/traces"
                )
            unreadable = 0
            async with bodies.read(receive) as body:
                if not path.endswith(_OTHER):
                    encoding = headers.get("content-encoding", "").strip().lower()
                    # Not in the loop, which has others to answer.
                    unreadable = await asyncio.to_thread(_take, sink, body, encoding, kind)
            await _answer(send, 200, _taken(kind, unreadable), kind or _PROTOBUF)
        except _Refused as refused:
            more = [(b"retry-after", str(RETRY_AFTER_S).encode())] if refused.status == 503 else []
            await _answer(
                send,
                refused.status,
                str(refused).encode("utf-8", "replace"),
                "text/plain; charset=utf-8",
                more,
            )

    return app


def _taken(kind: str, unreadable: int) -> bytes:
    """What is answered to a payload that was taken: OTLP's partial success, where spans of it could
    not be read.
    """
    if not unreadable:
        return b"{}" if kind == _JSON else b""
    message = f"{unreadable} spans can't be read"
    if kind == _JSON:
        return json.dumps(
            {"partialSuccess": {"rejectedSpans": str(unreadable), "errorMessage": message}}
        ).encode()
    from opentelemetry.proto.collector.trace.v1 import trace_service_pb2

    answer = trace_service_pb2.ExportTraceServiceResponse()
    answer.partial_success.rejected_spans = unreadable
    answer.partial_success.error_message = message
    return bytes(answer.SerializeToString())


def _take(sink: Sink, body: bytes, encoding: str, kind: str) -> int:
    """Unpack, decode and keep a body; how many of its spans can't be read. Raises _Refused."""
    known = {_JSON: JSON, _PROTOBUF: PROTOBUF, "application/protobuf": PROTOBUF}.get(kind)
    payload = unpacked(body, encoding, sink.payload_most)
    if known is None:
        raise _Refused(415, f"there is no Content-Type {kind!r} here: send {_PROTOBUF} or {_JSON}")
    try:
        return sink.take(known, payload)
    except Full:
        raise _Refused(503, "too much is waiting to be processed: retry later") from None
    except ReaderGone as error:
        raise _Refused(503, str(error)) from None
    except TooLarge as error:
        raise _Refused(413, f"the body is too large: {error}; {OPTION} raises the limit") from None
    except Malformed as error:
        raise _Refused(400, f"the body can't be read: {error}") from None


class _Bodies:
    """The bodies that are being received: so many bytes at a time, and each within a time."""

    def __init__(self) -> None:
        self._bytes = 0

    @contextlib.asynccontextmanager
    async def read(self, receive: Receive) -> AsyncIterator[bytes]:
        """A whole body, which counts as long as the block runs. Raises _Refused: 408, 413, 503."""
        parts: list[bytes] = []
        try:
            try:
                await asyncio.wait_for(self._read(receive, parts), BODY_S)
            except TimeoutError:
                raise _Refused(408, f"the body did not end within {BODY_S:g} s") from None
            yield b"".join(parts)
        finally:
            self._bytes -= sum(map(len, parts))

    async def _read(self, receive: Receive, parts: list[bytes]) -> None:
        size = 0
        while True:
            message = await receive()
            part = message.get("body", b"")
            size += len(part)
            if size > SENT_MOST:
                raise _Refused(
                    413,
                    f"the body is larger than {SENT_MOST // 1024**2} MiB: send smaller batches, "
                    "or compress them",
                )
            if self._bytes + len(part) > RECEIVING_MOST:
                raise _Refused(503, "too many uploads in progress: retry later")
            self._bytes += len(part)
            parts.append(part)
            if message["type"] == "http.disconnect":
                raise _Refused(400, "the body ends early")
            if not message.get("more_body"):
                return


async def _answer(
    send: Send, status: int, body: bytes, kind: str, more: list[tuple[bytes, bytes]] | None = None
) -> None:
    headers = [
        (b"content-type", kind.encode("latin-1", "replace")),
        (b"content-length", str(len(body)).encode()),
    ]
    await send(
        {"type": "http.response.start", "status": status, "headers": [*headers, *(more or [])]}
    )
    await send({"type": "http.response.body", "body": body})


def listening(host: str, port: int) -> socket.socket:
    """A socket that listens. Raises AskLessError cant-listen."""
    try:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        listener = socket.socket(family, socket.SOCK_STREAM)
        try:
            listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            listener.bind((host, port))
            listener.listen(128)
        except BaseException:
            listener.close()
            raise
    except (OSError, UnicodeError, OverflowError) as error:
        raise AskLessError(
            "cant-listen",
            f"can't listen on {host}:{port}: {getattr(error, 'strerror', None) or error}",
            "name another address, as in 127.0.0.1:14318",
        ) from None
    return listener


@contextlib.contextmanager
def over_http(
    taken: socket.socket, sink: Sink, hosts: Container[str] | None = None
) -> Iterator[None]:
    """Receive over HTTP while the block runs, for these hosts alone. Raises AskLessError
    otlp-extra-missing.
    """
    if find_spec("uvicorn") is None:
        raise AskLessError(
            "otlp-extra-missing",
            "receiving traces needs uvicorn",
            "install the extra: pip install 'ask-less[otlp]'",
        )
    import uvicorn
    from uvicorn.protocols.http.h11_impl import H11Protocol

    class Protocol(H11Protocol):
        """HTTP/1.1, and a word for who speaks gRPC to it. Anyone who sends no request is not waited
        for.
        """

        def connection_made(self, transport: Any) -> None:
            super().connection_made(transport)
            self._silent = asyncio.get_running_loop().call_later(BODY_S, self._give_up)

        def connection_lost(self, exc: Exception | None) -> None:
            self._silent.cancel()
            super().connection_lost(exc)

        def _give_up(self) -> None:
            if self.cycle is None:
                self.transport.close()

        def data_received(self, data: bytes) -> None:
            if data.startswith(_PREFACE):
                sink.grpc_on_http += 1
                answer = WRONG_PORT.encode()
                head = (
                    "HTTP/1.1 505 HTTP Version Not Supported\r\nContent-Length: "
                    f"{len(answer)}\r\nConnection: close\r\n\r\n"
                )
                self.transport.write(head.encode() + answer)
                self.transport.close()
                return
            super().data_received(data)

    config = uvicorn.Config(
        application(sink, hosts),
        http=Protocol,
        ws="none",
        lifespan="off",
        log_config=None,
        access_log=False,
        server_header=False,
    )
    server = uvicorn.Server(config)
    thread = threading.Thread(
        target=server.run, args=([taken],), name="askless-otlp-http", daemon=True
    )
    thread.start()
    try:
        yield
    finally:
        server.should_exit = True
        thread.join(10)
        taken.close()


@contextlib.contextmanager
def over_grpc(address: str, sink: Sink) -> Iterator[int]:
    """Receive over gRPC while the block runs; the port. Raises AskLessError: otlp-extra-missing,
    cant-listen.
    """
    if find_spec("grpc") is None:
        raise AskLessError(
            "otlp-extra-missing",
            "receiving traces over gRPC needs grpcio",
            "install the extra: pip install 'ask-less[otlp-grpc]'",
        )
    import grpc
    from opentelemetry.proto.collector.trace.v1 import trace_service_pb2

    def export(payload: bytes, context: Any) -> bytes:
        """Take spans, as they came: what they take in memory is reported before they are
        decoded.
        """
        try:
            return _taken(_PROTOBUF, sink.take(PROTOBUF, payload))
        except Full:
            context.abort(
                grpc.StatusCode.UNAVAILABLE, "too much is waiting to be processed: retry later"
            )
        except ReaderGone as error:
            context.abort(grpc.StatusCode.UNAVAILABLE, str(error))
        except TooLarge as error:
            context.abort(grpc.StatusCode.RESOURCE_EXHAUSTED, f"{error}; {OPTION} raises the limit")
        except Malformed as error:
            context.abort(grpc.StatusCode.INVALID_ARGUMENT, str(error))
        return b""

    service = trace_service_pb2.DESCRIPTOR.services_by_name["TraceService"]
    server = grpc.server(
        ThreadPoolExecutor(2, "askless-otlp-grpc"),
        options=[("grpc.max_receive_message_length", sink.payload_most), ("grpc.so_reuseport", 0)],
        maximum_concurrent_rpcs=_RPCS_MOST,
    )
    handler = grpc.method_handlers_generic_handler(
        service.full_name, {"Export": grpc.unary_unary_rpc_method_handler(export)}
    )
    server.add_generic_rpc_handlers((handler,))
    try:
        port = server.add_insecure_port(address)
    except RuntimeError:
        port = 0
    if not port:
        raise AskLessError(
            "cant-listen",
            f"can't listen on {address}",
            "name another address with --grpc, or --grpc off",
        )
    server.start()
    try:
        yield int(port)
    finally:
        server.stop(grace=5).wait()
