"""TCP segments out of files of recorded packets (pcap, pcapng), frame by frame, by the package
`dpkt`.
"""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from askless.core.errors import AskLessError
from askless.sources.packets.tcp_streams import Segment

BLOCK_MOST = 16 * 1024**2  # bytes
_MAGIC = (
    b"\xa1\xb2\xc3\xd4",
    b"\xd4\xc3\xb2\xa1",
    b"\xa1\xb2\x3c\x4d",
    b"\x4d\x3c\xb2\xa1",
    b"\x0a\x0d\x0d\x0a",
)


class SkippedPackets:
    """What could not be used: packets by reason, and files that were not read to their end."""

    def __init__(self) -> None:
        self.counts: dict[str, int] = {}
        self.torn: dict[Path, str] = {}

    def add(self, why: str) -> None:
        """One more."""
        self.counts[why] = self.counts.get(why, 0) + 1


class _TooLarge(Exception):
    """More is to be read at once than any packet has."""


# of a block of pcapng, of a record of pcap and of its modified form: a file may end before one
_HEADER_BYTES = (8, 16, 24)


class _Bounded:
    """A stream that refuses to read more at once than a block may have, or less than a packet has.

    dpkt takes what is left of a torn file for a whole packet.
    """

    def __init__(self, stream: Any) -> None:
        self._stream = stream
        self.name = getattr(stream, "name", "")
        self.seek, self.tell = stream.seek, stream.tell

    def read(self, size: int = -1) -> bytes:
        """See `io.BufferedReader.read`. Raises _TooLarge, and EOFError if fewer bytes are left."""
        if not 0 <= size <= BLOCK_MOST:
            raise _TooLarge
        data = bytes(self._stream.read(size))
        if len(data) < size and (data or size not in _HEADER_BYTES):
            raise EOFError
        return data


def segments(path: Path, odd: SkippedPackets) -> Iterator[Segment]:
    """The TCP segments of a file, as they are there. A file that ends in the middle of a packet is
    read up to it.

    Raises AskLessError: packets-missing, packets-unreadable, dpkt-missing.
    """
    try:
        import dpkt
    except ImportError:
        raise AskLessError(
            "dpkt-missing",
            "reading packets needs the package dpkt",
            "install it: pip install 'ask-less[packets]'",
        ) from None
    try:
        stream = gzip.open(path) if path.suffix == ".gz" else path.open("rb")  # noqa: SIM115  (closed below)
    except OSError as error:
        raise AskLessError(
            "packets-missing", f"can't read {path}: {error.strerror}", "check the path"
        ) from None
    with stream:
        bounded: Any = _Bounded(stream)
        try:
            if stream.read(4) not in _MAGIC:
                raise ValueError
            stream.seek(0)
            reader = dpkt.pcap.UniversalReader(bounded)
        except (
            ValueError,
            OSError,
            EOFError,
            OverflowError,
            LookupError,
            AttributeError,
            TypeError,
            _TooLarge,
            zlib.error,
            dpkt.Error,
        ):
            raise AskLessError(
                "packets-unreadable",
                f"{path} is not a packet file",
                "record one: tcpdump -i any -w FILE port 5432",
            ) from None
        kinds = _links(dpkt)
        link = kinds.get(reader.datalink())
        if link is None:
            raise AskLessError(
                "packets-unreadable",
                f"{path} was recorded on a link of kind {reader.datalink()}, which is not "
                "supported",
                "record with tcpdump -i any, or on the network interface",
            )
        packets = iter(reader)
        while True:
            try:
                at_s, frame = next(packets)
            except StopIteration:
                return
            except _TooLarge:
                odd.torn[path] = f"a block of more than {BLOCK_MOST // 1024**2} MiB is not a packet"
                return
            except (dpkt.Error, OSError, EOFError, ValueError, IndexError, zlib.error):
                odd.torn[path] = "the file ends in the middle of a packet"
                return
            try:
                segment = _segment(dpkt, link(frame), int(at_s * 1_000_000) * 1000)
            except (dpkt.Error, ValueError, IndexError, AttributeError, TypeError):
                odd.add("a frame that can't be read")
                continue
            if segment is not None:
                yield segment


def _links(dpkt: Any) -> dict[int, Any]:
    """What unpacks a frame, by the kind of link that it was recorded on."""

    def raw(frame: bytes) -> Any:
        return dpkt.ip6.IP6(frame) if frame[0] >> 4 == 6 else dpkt.ip.IP(frame)

    return {
        dpkt.pcap.DLT_EN10MB: lambda frame: dpkt.ethernet.Ethernet(frame).data,
        dpkt.pcap.DLT_LINUX_SLL: lambda frame: dpkt.sll.SLL(frame).data,
        dpkt.pcap.DLT_LINUX_SLL2: lambda frame: dpkt.sll2.SLL2(frame).data,
        dpkt.pcap.DLT_NULL: lambda frame: raw(frame[4:]),
        dpkt.pcap.DLT_LOOP: lambda frame: raw(frame[4:]),
        dpkt.pcap.DLT_RAW: raw,
        12: raw,
        14: raw,
        101: raw,
        228: raw,
        229: raw,
    }


def _segment(dpkt: Any, packet: Any, at_ns: int) -> Segment | None:
    """The TCP segment in an IP packet, None if there is none."""
    if isinstance(packet, dpkt.ip.IP):
        hosts = bytes(packet.src), bytes(packet.dst)
        whole = packet.len - packet.hl * 4
        if packet.offset or packet.mf:
            raise ValueError("a fragment")
    elif isinstance(packet, dpkt.ip6.IP6):
        hosts = bytes(packet.src), bytes(packet.dst)
        whole = packet.plen
    else:
        return None
    tcp = packet.data
    if not isinstance(tcp, dpkt.tcp.TCP):
        return None
    data = bytes(tcp.data)
    # a network card that cuts packets itself leaves the length out
    length = whole - tcp.off * 4 if whole else len(data)
    data = data[:length]
    return Segment(
        (hosts[0], tcp.sport),
        (hosts[1], tcp.dport),
        tcp.seq,
        tcp.ack,
        tcp.flags,
        data,
        max(length, 0),
        at_ns,
    )
