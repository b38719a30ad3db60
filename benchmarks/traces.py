"""Spans a second that are received, put together and written, over merely decoding the same
payloads; and the memory it takes.

All in one run, in one process: the payloads are made first, as exporters send them (512 spans each,
the request's span last).
"""

from __future__ import annotations

import argparse
import resource
import tempfile
import time
from pathlib import Path
from typing import Any

from askless.sources.attribution.grouper import GroupingOptions
from askless.sources.otlp.decoding import spans_of_protobuf
from askless.sources.otlp.services import Services
from askless.sources.otlp.trace_assembly import Traces

SPANS, EACH = 1_000_000, 512
PAYLOADS = 40  # different ones; they are sent again with other trace ids
AIM = 2.0


def message_of(payload: bytes) -> Any:
    """A payload merely decoded."""
    from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

    return ExportTraceServiceRequest.FromString(payload)


def payloads(count: int) -> list[bytes]:
    """Requests of 31 queries each, so many spans a payload."""
    from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

    result = []
    for number in range(count):
        message = ExportTraceServiceRequest()
        of_resource = message.resource_spans.add()
        of_resource.resource.attributes.add(key="service.name").value.string_value = "office"
        scope = of_resource.scope_spans.add()
        scope.scope.name = "pg"
        for request in range(EACH // 32):
            trace = (number * 1000 + request).to_bytes(16, "big")
            for query in range(32):
                is_request = query == 31
                start_ns = 1_795_000_000_000_000_000 + number * 10_000_000 + query * 100_000
                span = scope.spans.add(
                    trace_id=trace, span_id=(query + 1).to_bytes(8, "big"), kind=2 if is_request else 3,
                    parent_span_id=b"" if is_request else (32).to_bytes(8, "big"), name="GET" if is_request else "SELECT",
                    start_time_unix_nano=start_ns, end_time_unix_nano=start_ns + 90_000,
                )  # fmt: skip
                known = (
                    {"http.request.method": "GET", "http.route": f"/calls/{request}", "url.path": "/calls/1"}
                    if is_request
                    else {
                        "db.system.name": "postgresql", "db.query.text": f"SELECT name FROM vessel_{query} WHERE id = $1",
                        "db.query.parameter.0": str(query), "server.address": "10.0.0.7", "db.namespace": "harbour",
                        "network.peer.address": "10.0.0.7", "db.user": "harbour",
                    }
                )  # fmt: skip
                for key, value in known.items():
                    span.attributes.add(key=key).value.string_value = value
        result.append(message.SerializeToString())
    return result


def main() -> None:
    """Measure, and say what was aimed at."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--spans", type=int, default=SPANS)
    wanted = parser.parse_args().spans
    made = payloads(PAYLOADS)
    turns = -(-wanted // (EACH * PAYLOADS))
    began_s = time.process_time()
    for _ in range(turns):
        for one in made:
            message_of(one)
    decoding_s = time.process_time() - began_s
    decoded, began_s = [message_of(one) for one in made], time.process_time()
    for message in decoded:  # the names and values of all attributes, and nothing more
        for of_resource in message.resource_spans:
            for of_scope in of_resource.scope_spans:
                for span in of_scope.spans:
                    for pair in span.attributes:
                        _ = pair.key, pair.value.string_value
    reading_s = (time.process_time() - began_s) * turns
    before_mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    with tempfile.TemporaryDirectory() as folder:
        services = Services(Path(folder), GroupingOptions())
        now, began_s = 0, time.process_time()
        for turn in range(turns):
            traces = Traces(services.target, 10, 10)
            for one in made:
                now += 1
                traces.add(spans_of_protobuf(one).spans, now)
                traces.settle(now)
            traces.close()
            if turn == 0:
                first_mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        services.close(traces)
        whole_s = time.process_time() - began_s
    count = turns * EACH * PAYLOADS
    last_mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{count:,} spans: decoding alone {count / decoding_s:,.0f} a second, all of it {count / whole_s:,.0f} a second"
    )
    print(
        f"all of it takes {whole_s / decoding_s:.1f} times the decoding (aim: {AIM}); reading the attributes alone takes "
        f"{reading_s / decoding_s:.1f} times it"
    )
    print(
        f"memory: {before_mib:.0f} MiB before, {first_mib:.0f} after the first {EACH * PAYLOADS:,} spans, {last_mib:.0f} at the end"
    )


if __name__ == "__main__":
    main()
