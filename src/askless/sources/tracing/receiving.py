"""Receives spans over HTTP and gRPC: answers at once, never loses what was accepted, and says when it has too much to do."""

from __future__ import annotations

import contextlib
import queue
import socket
import threading
import time
import zlib
from collections.abc import Awaitable, Callable, Iterator, MutableMapping
from concurrent.futures import ThreadPoolExecutor
from importlib.util import find_spec
from typing import Any

from askless.core.errors import AskLessError
from askless.sources.tracing.decoding import Malformed, of_protobuf, spans_of, spans_of_json
from askless.sources.tracing.putting_together import Traces
from askless.sources.tracing.services import Services

SENT_MOST, PAYLOAD_MOST = 16 * 1024**2, 64 * 1024**2  # bytes of a body as it is sent, and unpacked
WAITING_MOST = 64 * 1024**2  # bytes of payloads that were accepted and are not read yet
RETRY_AFTER_S = 1
QUIET_NS, PATIENT_NS = 6_000_000_000, 60_000_000_000  # exporters send every five seconds
_LOOK_S = 0.5
_JSON, _PROTOBUF = "application/json", "application/x-protobuf"
_OTHER = ("/v1/metrics", "/v1/logs", "/v1/profiles")
_PREFACE = b"PRI * HTTP/2.0"
WRONG_PORT = "a gRPC client spoke to the port of HTTP: let it use OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf, or send to the gRPC port"

Message = MutableMapping[str, Any]
Send = Callable[[Message], Awaitable[None]]
Receive = Callable[[], Awaitable[Message]]


class Sink:
    """What was accepted and is not read yet; a thread reads it, and puts traces together that are quiet."""

    def __init__(self, traces: Traces, services: Services) -> None:
        self._traces = traces
        self._services = services
        self._queue: queue.SimpleQueue[tuple[Any, int] | None] = queue.SimpleQueue()
        self._waiting = 0
        self._lock = threading.Lock()
        self.refused = 0
        self.grpc_on_http = 0
        self._thread = threading.Thread(target=self._work, name="askless-otlp", daemon=True)
        self._thread.start()

    def is_full(self) -> bool:
        """Whether more would be too much; it is counted then."""
        with self._lock:
            full = self._waiting > WAITING_MOST
            self.refused += full
            return full

    def put(self, payload: Any, size: int) -> None:
        """Accept a decoded payload."""
        with self._lock:
            self._waiting += size
        self._queue.put((payload, size))

    def close(self) -> None:
        """Read what was accepted to its end."""
        self._queue.put(None)
        self._thread.join()
        self._traces.close()

    def _work(self) -> None:
        looked_s = 0.0
        while True:
            try:
                found = self._queue.get(timeout=_LOOK_S)
            except queue.Empty:
                found = (), 0
            if found is None:
                return
            payload, size = found
            now_ns = time.monotonic_ns()
            self._traces.add(payload if isinstance(payload, list | tuple) else spans_of(payload), now_ns)
            with self._lock:
                self._waiting -= size
            if time.monotonic() - looked_s > _LOOK_S:
                looked_s = time.monotonic()
                self._traces.settle(now_ns)
                self._services.flush()


class _Refused(Exception):
    """An answer other than 200."""

    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status = status


def unpacked(body: bytes, encoding: str) -> bytes:
    """A body as it was before it was compressed. Raises _Refused: 413 for one that is too large, 400, 415."""
    if encoding in ("", "identity"):
        return body
    bits = {"gzip": 31, "deflate": 15}.get(encoding)
    if bits is None:
        raise _Refused(415, f"there is no Content-Encoding {encoding!r} here: send gzip, deflate or nothing")
    for window in (bits, -15) if encoding == "deflate" else (bits,):  # some send deflate without its frame
        stream = zlib.decompressobj(window)
        try:
            result = stream.decompress(body, PAYLOAD_MOST)
        except zlib.error as error:
            reason = str(error)
            continue
        if stream.unconsumed_tail or len(result) >= PAYLOAD_MOST:
            raise _Refused(413, f"the body unpacks to more than {PAYLOAD_MOST // 1024**2} MiB")
        if not stream.eof:
            raise _Refused(400, "the compressed body ends early")
        return result
    raise _Refused(400, f"the body is not {encoding}: {reason}")


def application(sink: Sink) -> Callable[[MutableMapping[str, Any], Receive, Send], Awaitable[None]]:
    """The ASGI application that takes what exporters post."""

    async def app(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
        kind = headers.get("content-type", "").split(";")[0].strip().lower()
        try:
            if scope["method"] != "POST":
                raise _Refused(405, "spans are posted here: POST /v1/traces")
            path = scope["path"].rstrip("/")
            if not path.endswith(("/v1/traces", *_OTHER)) and path:
                raise _Refused(404, f"nothing is taken at {scope['path']}: post traces to /v1/traces")
            body = await _body(receive)
            if not path.endswith(_OTHER):
                _take(sink, unpacked(body, headers.get("content-encoding", "").strip().lower()), kind)
            await _answer(send, 200, b"{}" if kind == _JSON else b"", kind or _PROTOBUF)
        except _Refused as refused:
            more = [(b"retry-after", str(RETRY_AFTER_S).encode())] if refused.status == 503 else []
            await _answer(
                send, refused.status, str(refused).encode("utf-8", "replace"), "text/plain; charset=utf-8", more
            )

    return app


def _take(sink: Sink, payload: bytes, kind: str) -> None:
    if sink.is_full():
        raise _Refused(503, "too much is waiting to be read: send it again")
    try:
        if kind == _JSON:
            sink.put(spans_of_json(payload), len(payload))
        elif kind in (_PROTOBUF, "application/protobuf"):
            sink.put(of_protobuf(payload), len(payload))
        else:
            raise _Refused(415, f"there is no Content-Type {kind!r} here: send {_PROTOBUF} or {_JSON}")
    except Malformed as error:
        raise _Refused(400, f"the body can't be read: {error}") from None


async def _body(receive: Receive) -> bytes:
    parts, size = [], 0
    while True:
        message = await receive()
        part = message.get("body", b"")
        size += len(part)
        if size > SENT_MOST:
            raise _Refused(413, f"the body is larger than {SENT_MOST // 1024**2} MiB")
        parts.append(part)
        if not message.get("more_body"):
            return b"".join(parts)


async def _answer(
    send: Send, status: int, body: bytes, kind: str, more: list[tuple[bytes, bytes]] | None = None
) -> None:
    headers = [(b"content-type", kind.encode("latin-1", "replace")), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": status, "headers": [*headers, *(more or [])]})
    await send({"type": "http.response.body", "body": body})


def listening(host: str, port: int) -> socket.socket:
    """A socket that listens. Raises AskLessError cant-listen."""
    try:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        found = socket.socket(family, socket.SOCK_STREAM)
        try:
            found.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            found.bind((host, port))
            found.listen(128)
        except BaseException:
            found.close()
            raise
    except OSError as error:
        raise AskLessError(
            "cant-listen",
            f"can't listen on {host}:{port}: {error.strerror}",
            "name another address, as in 127.0.0.1:14318",
        ) from None
    return found


@contextlib.contextmanager
def over_http(taken: socket.socket, sink: Sink) -> Iterator[None]:
    """Receive over HTTP while the block runs. Raises AskLessError otlp-extra-missing."""
    if find_spec("uvicorn") is None:
        raise AskLessError(
            "otlp-extra-missing", "receiving traces needs uvicorn", "install the extra: pip install 'ask-less[otlp]'"
        )
    import uvicorn
    from uvicorn.protocols.http.h11_impl import H11Protocol

    class Protocol(H11Protocol):
        """HTTP/1.1, and a word for who speaks gRPC to it."""

        def data_received(self, data: bytes) -> None:
            if data.startswith(_PREFACE):
                sink.grpc_on_http += 1
                told = WRONG_PORT.encode()
                head = f"HTTP/1.1 505 HTTP Version Not Supported\r\nContent-Length: {len(told)}\r\nConnection: close\r\n\r\n"
                self.transport.write(head.encode() + told)
                self.transport.close()
                return
            super().data_received(data)

    config = uvicorn.Config(
        application(sink), http=Protocol, ws="none", lifespan="off", log_config=None, access_log=False, server_header=False
    )  # fmt: skip
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, args=([taken],), name="askless-otlp-http", daemon=True)
    thread.start()
    try:
        yield
    finally:
        server.should_exit = True
        thread.join(10)
        taken.close()


@contextlib.contextmanager
def over_grpc(address: str, sink: Sink) -> Iterator[int]:
    """Receive over gRPC while the block runs; the port. Raises AskLessError: otlp-extra-missing, cant-listen."""
    if find_spec("grpc") is None:
        raise AskLessError(
            "otlp-extra-missing",
            "receiving traces over gRPC needs grpcio",
            "install the extra: pip install 'ask-less[otlp-grpc]'",
        )
    import grpc
    from opentelemetry.proto.collector.trace.v1 import trace_service_pb2, trace_service_pb2_grpc

    class Service(trace_service_pb2_grpc.TraceServiceServicer):
        """The published service."""

        def Export(self, request: Any, context: Any) -> Any:
            """Take spans."""
            if sink.is_full():
                context.abort(grpc.StatusCode.UNAVAILABLE, "too much is waiting to be read: send it again")
            sink.put(request, request.ByteSize())
            return trace_service_pb2.ExportTraceServiceResponse()

    server = grpc.server(
        ThreadPoolExecutor(2, "askless-otlp-grpc"),
        options=[("grpc.max_receive_message_length", PAYLOAD_MOST), ("grpc.so_reuseport", 0)],
    )
    add: Any = trace_service_pb2_grpc.add_TraceServiceServicer_to_server
    add(Service(), server)
    try:
        port = server.add_insecure_port(address)
    except RuntimeError:
        port = 0
    if not port:
        raise AskLessError(
            "cant-listen", f"can't listen on {address}", "name another address with --grpc, or --grpc off"
        )
    server.start()
    try:
        yield int(port)
    finally:
        server.stop(grace=5).wait()
