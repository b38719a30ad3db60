"""Files of packets: whatever order, copies, gaps and links they come with, what was said is what
was said.
"""

from __future__ import annotations

import os
import random
import shutil
import socket
import subprocess
import sys
from collections import Counter
from collections.abc import Hashable
from pathlib import Path
from typing import Any

import dpkt
import pytest
from hypothesis import given, strategies as st

from askless.capture.reading import read
from askless.sources.packets.tcp_streams import ACK, FIN, SYN, Segment, Streams
from tests.conftest import program, run
from tests.servers import Server
from tests.wire.conversations import MySql as M, Postgres as P, Turn
from tests.wire.test_postgresql import EXTENDED, SIMPLE

HERE = Path(__file__).parent
CLIENT, SERVER = ("client", 40000), ("server", 5432)


class Heard:
    """What streams tell, by connection."""

    def __init__(self) -> None:
        self.said_by: dict[tuple[int, bool], bytes] = {}
        self.order: list[str] = []
        self.losses = self.endings = 0

    def began(self, number: int, client: Hashable, whole: bool, at_ns: int) -> None:
        self.order.append(f"{number} {'whole' if whole else 'late'}")

    def said(self, number: int, client: bool, data: bytes, at_ns: int) -> None:
        self.said_by[number, client] = self.said_by.get((number, client), b"") + data

    def lost(self, number: int) -> None:
        self.losses += 1

    def ended(self, number: int, at_ns: int) -> None:
        self.endings += 1


def conversation(turns: list[Turn], first: int = 2**32 - 40, piece: int = 9) -> list[Segment]:
    """A connection's segments, its numbers running over."""
    numbers, segments, at_ns = {"client": first, "server": 77}, [], 0

    def send(side: str, flags: int, data: bytes = b"") -> None:
        nonlocal at_ns
        at_ns += 1000
        ends = (CLIENT, SERVER) if side == "client" else (SERVER, CLIENT)
        other = "server" if side == "client" else "client"
        segments.append(
            Segment(*ends, numbers[side], numbers[other], flags, data, len(data), at_ns)
        )
        numbers[side] = (numbers[side] + len(data) + bool(flags & (SYN | FIN))) % 2**32

    send("client", SYN)
    send("server", SYN | ACK)
    for side, said in turns:
        for start in range(0, len(said), piece):
            send(side, ACK, said[start : start + piece])
    send("client", FIN | ACK)
    send("server", FIN | ACK)
    return segments


def heard(segments: list[Segment]) -> Heard:
    result = Heard()
    streams = Streams(lambda end: end == SERVER, result)
    for segment in segments:
        streams.segment(segment)
    streams.close(10**9)
    return result


TALK: list[Turn] = [
    ("client", bytes(range(50))),
    ("server", bytes(range(100, 200))),
    ("client", b"more"),
    ("server", b"less" * 9),
]


@given(st.integers(0, 10_000), st.floats(0, 0.5), st.floats(0, 0.5), st.integers(1, 60))
def test_order_and_copies_do_not_matter(
    seed: int, swapped: float, copied: float, piece: int
) -> None:
    chance = random.Random(seed)
    segments = conversation(TALK, piece=piece)
    opening, rest, closing = segments[:2], segments[2:-2], segments[-2:]
    for place in range(len(rest) - 1):
        if chance.random() < swapped:
            rest[place], rest[place + 1] = rest[place + 1], rest[place]
    rest = [copy for segment in rest for copy in ([segment] * (1 + (chance.random() < copied)))]
    found = heard([*opening, *rest, *closing])
    assert found.said_by[1, True] == b"".join(said for side, said in TALK if side == "client")
    assert found.said_by[1, False] == b"".join(said for side, said in TALK if side == "server")
    assert (found.losses, found.endings, found.order) == (0, 1, ["1 whole"])


@given(st.sets(st.integers(2, 20), min_size=1, max_size=6))
def test_what_is_missing_is_told_and_never_made_up(missing: set[int]) -> None:
    segments = conversation(TALK, piece=9)
    found = heard([segment for place, segment in enumerate(segments) if place not in missing])
    left = b"".join(
        s.data for p, s in enumerate(segments) if p not in missing and s.source == CLIENT
    )
    assert found.said_by.get((1, True), b"") == left, "what is there is told"
    inner = [place for place in missing if place < len(segments) - 2 and segments[place].length]
    assert not inner or found.losses or max(inner) >= len(segments) - 4


def test_overlapping_and_cut_segments() -> None:
    syn, syn_ack, *rest = conversation([("client", b"abcdef")], first=10, piece=6)
    again = rest[0]._replace(sequence=9, data=b"zzabcdefgh", length=10)
    found = heard([syn, syn_ack, rest[0]._replace(data=b"ab", length=4), again])
    assert found.said_by[1, True] == b"ab" + b"efgh" and found.losses == 1


def to_file(
    path: Path, segments: list[Segment], link: str = "ethernet", size: int = 1 << 16
) -> Path:
    """The segments as a file of packets."""
    hosts = {"client": "10.0.0.1", "server": "10.0.0.7"}
    kinds = {"ethernet": 1, "vlan": 1, "ipv6": 1, "null": 0, "raw": 101, "cooked": 113}
    with path.open("wb") as file:
        writer: Any = (
            dpkt.pcapng.Writer(file)
            if path.suffix == ".pcapng"
            else dpkt.pcap.Writer(file, linktype=kinds[link], snaplen=1 << 18)
        )
        for segment in segments:
            (source, sport), (target, dport) = segment.source, segment.target  # type: ignore[misc]
            tcp = dpkt.tcp.TCP(
                sport=sport,
                dport=dport,
                seq=segment.sequence,
                ack=segment.acknowledged,
                flags=segment.flags,
                data=segment.data,
            )
            if link == "ipv6":
                packet = dpkt.ip6.IP6(
                    src=b"\xfd" + source.encode().ljust(15, b"\0"),
                    dst=b"\xfd" + target.encode().ljust(15, b"\0"),
                    nxt=6,
                    data=tcp,
                )
                packet.plen = len(tcp)
            else:
                packet = dpkt.ip.IP(
                    src=socket.inet_aton(hosts[source]),
                    dst=socket.inet_aton(hosts[target]),
                    p=6,
                    data=tcp,
                )
                packet.len = len(packet)
            kind = 0x86DD if link == "ipv6" else 0x0800
            mac = bytes(12)
            frame = {
                "ethernet": mac + kind.to_bytes(2, "big"), "ipv6": mac + kind.to_bytes(2, "big"),
                "vlan": mac + b"\x81\x00\x00\x07\x08\x00", "null": b"\x02\0\0\0", "raw": b"", "cooked": bytes(14) + b"\x08\x00",
            }[link] + bytes(packet)  # fmt: skip
            writer.writepkt(frame[:size], segment.at_ns / 1e9)
    return path


LET_IN = (
    P.message("R", b"\0\0\0\0")
    + P.setting("application_name", "tide")
    + P.message("K", bytes(8))
    + P.ready()
)
WHOLE: list[Turn] = [
    ("client", b"\0\0\0\x08\x04\xd2\x16\x2f"), ("server", b"N"),
    ("client", P.startup(user="harbour", database="office")), ("server", P.message("R", b"\0\0\0\x03")),
    ("client", P.message("p", b"the password\0")), ("server", LET_IN), *SIMPLE, *EXTENDED,
]  # fmt: skip
TEXTS = [
    "SELECT id, name FROM berth", "UPDATE berth SET name = 'a;b'", "BEGIN", "SELECT nonsense", "ROLLBACK",
    *["SELECT id, name FROM berth WHERE id = $1"] * 2, "SELECT 1/$1", "SELECT id, name FROM berth WHERE id = $1",
]  # fmt: skip


def texts(capture: Path) -> list[str]:
    return [request.text(i) for request in read(capture) for i in range(len(request))]


@pytest.mark.parametrize(
    "link", ["ethernet", "vlan", "ipv6", "null", "raw", "cooked", "pcapng", "gz"]
)
def test_files_of_every_kind(link: str, tmp_path: Path) -> None:
    name = "calls.pcapng" if link == "pcapng" else "calls.pcap"
    file = to_file(
        tmp_path / name,
        conversation(WHOLE, piece=70),
        "ethernet" if link in ("pcapng", "gz") else link,
    )
    if link == "gz":
        subprocess.run(["gzip", str(file)], check=True)
        file = file.with_suffix(".pcap.gz")
    host = "*" if link == "ipv6" else "10.0.0.7"
    ran = run("capture", "packets", file, "-o", tmp_path / "calls", "--server", f"{host}:5432")
    assert ran.code == 0, ran.err
    assert texts(tmp_path / "calls") == TEXTS
    assert link == "ipv6" or {request.path for request in read(tmp_path / "calls")} == {
        "10.0.0.1:40000"
    }
    assert "the password" not in (tmp_path / "calls" / "packets.askless.jsonl").read_text()


def test_encrypted_late_cut_and_foreign(tmp_path: Path) -> None:
    encrypted = conversation([*WHOLE[:1], ("server", b"S"), ("client", b"\x16\x03\x01 unreadable")])
    late = [
        s
        for s in conversation(
            [("client", b"\0" * 7), ("server", P.row(b"1")), ("server", P.ready()), *SIMPLE]
        )
        if not s.flags & SYN
    ]
    second = [
        s._replace(
            **{k: ("client", 40001) for k in ("source", "target") if getattr(s, k) == CLIENT}
        )
        for s in late
    ]
    file = to_file(tmp_path / "calls.pcap", [*encrypted, *second])
    ran = run("capture", "packets", file, "-o", tmp_path / "calls", "--server", "10.0.0.7:5432")
    assert ran.code == 0 and "1 connection not read: an encrypted connection" in ran.err
    assert (
        "1 connection started before the recording" in ran.err
        and texts(tmp_path / "calls") == TEXTS[:5]
    )
    file = to_file(tmp_path / "cut.pcap", conversation(WHOLE, piece=200), size=90)
    ran = run("capture", "packets", file, "-o", tmp_path / "cut", "--server", "10.0.0.7:5432")
    assert "its start is incomplete" in ran.err or "cut off" in ran.err
    torn = tmp_path / "torn.pcap"
    torn.write_bytes(to_file(tmp_path / "w.pcap", conversation(WHOLE, piece=70)).read_bytes()[:-30])
    ran = run("capture", "packets", torn, "-o", tmp_path / "torn", "--server", "10.0.0.7:5432")
    assert ran.code == 0 and texts(tmp_path / "torn") == TEXTS
    assert "torn.pcap: the file ends in the middle of a packet" in ran.err
    judged = ("gate", tmp_path / "torn", "--baseline", tmp_path / "calls")
    refused = run(*judged)
    assert refused.code == 2 and "the file ends in the middle of a packet" in refused.err, (
        refused.err
    )
    assert run(*judged, "--allow-damaged").code != 2


def test_mysql_whose_beginning_was_not_seen(tmp_path: Path) -> None:
    """Whether definitions end with a packet of their own shows in the first result."""
    columns = [("id", 3), ("name", 253)]
    for modern in (False, True):
        turns: list[Turn] = [
            ("client", M.query("SELECT id, name FROM berth")),
            ("server", M.result(columns, [[1, "North"]], modern=modern)),
        ]
        file = to_file(
            tmp_path / f"{modern}.pcap",
            [s for s in conversation([*turns, *turns], piece=400) if not s.flags & SYN],
        )
        ran = run(
            "capture",
            "packets",
            file,
            "-o",
            tmp_path / str(modern),
            "--server",
            "mysql://10.0.0.7:5432",
        )
        assert ran.code == 0, ran.err
        rows = [
            request.samples[i]
            for request in read(tmp_path / str(modern))
            for i in range(len(request))
        ]
        assert rows == [((1, "North"),)] * 2


@pytest.mark.parametrize(
    "words, said",
    [
        (["nowhere.pcap", "--server", "10.0.0.7:5432"], "can't read nowhere.pcap"),
        ([HERE / "test_packets.py", "--server", "10.0.0.7:5432"], "is not a packet file"),
        (["FILE", "--server", "10.0.0.7:9999"], "does not identify the database system"),
        (["FILE", "--server", "postgresql://10.0.0.8"], "goes to or from port 5432"),
        (["FILE"], "the database server is not specified"),
        (["FILE", "--server", "oracle://10.0.0.8:1"], "does not identify the database system"),
        (["FILE", "--server", "no-such-host.invalid:5432"], "names an unknown host"),
    ],
)
def test_bad_words(words: list[Any], said: str, tmp_path: Path) -> None:
    file = to_file(tmp_path / "calls.pcap", conversation(SIMPLE))
    ran = run(
        "capture",
        "packets",
        "-o",
        tmp_path / "calls",
        *[file if word == "FILE" else word for word in words],
    )
    assert ran.code == 2 and said in ran.err and "Traceback" not in ran.err, ran.err


def may_record_packets() -> bool:
    found = shutil.which("tcpdump")
    return (
        found is not None
        and os.geteuid() == 0
        and subprocess.run([found, "-D"], capture_output=True, check=False).returncode == 0
    )


@pytest.mark.skipif(not may_record_packets(), reason="tcpdump is not installed, or may not record")
def test_packets_and_the_relay_record_the_same(postgresql: Server, tmp_path: Path) -> None:
    file = tmp_path / "calls.pcap"
    words = [
        "tcpdump",
        "-i",
        "lo",
        "-U",
        "-B",
        "65536",
        "-w",
        str(file),
        "port",
        str(postgresql.port),
    ]
    recorder = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    assert recorder.stderr is not None
    while "listening on" not in (line := recorder.stderr.readline()):
        if not line:
            pytest.skip("tcpdump may not record here")
    ran = program(
        "capture", "relay", "-o", tmp_path / "relayed", "--to", f"postgresql://127.0.0.1:{postgresql.port}",
        "--", sys.executable, HERE / "clients_postgresql.py",
    )  # fmt: skip
    assert ran.code == 7, ran.err
    with postgresql.connect("postgres") as last:  # what tcpdump has written to is read until this
        last.execute("SELECT 'the last of all'")
    while b"the last of all" not in file.read_bytes():
        assert recorder.poll() is None
    recorder.terminate()
    recorder.communicate()
    ran = run(
        "capture",
        "packets",
        file,
        "-o",
        tmp_path / "packets",
        "--server",
        f"postgresql://127.0.0.1:{postgresql.port}",
    )
    assert ran.code == 0, ran.err

    def kept(capture: Path) -> Counter[Any]:
        return Counter(
            (
                request.text(i),
                request.parameters[i],
                request.rows[i],
                request.bytes[i],
                request.digests[i],
            )
            for request in read(capture)
            for i in range(len(request))
            if "the last of all" not in request.text(i)
        )

    assert kept(tmp_path / "packets") == kept(tmp_path / "relayed")
