"""Tables of packets: rows read together and rows read one by one say the same."""

from __future__ import annotations

from ipaddress import IPv6Address

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from aiguille.model import UsageError
from aiguille.packets import COLUMNS, Packet, Sketch
from aiguille.packets import table as tables
from aiguille.packets.rows import Fault
from aiguille.packets.table import TableFile
from aiguille.space import Space, Symbols

HEADER = ",".join(COLUMNS)
SYMBOLS = Symbols(("eth0", "eth1", "ppp9"), ("ppp",))
SPACES = {family: Space(family, SYMBOLS) for family in (4, 6)}

NAMES = st.sampled_from(("eth0", "eth1", "eth0.10", "ppp3", "any", "", " eth0", "Ätna", "x" * 70))
ADDRESSES = st.sampled_from(
    ("10.0.0.1", "255.255.255.255", "224.0.0.1", "0.0.0.0", "1.2.3.04", "1.2.3.256", "1.2.3", "1.2.3.4.5", "1..2.3", ".1.2.3",
     "1.2.3.", "1111.2.3.4", "10.0.0.0/8", " 10.0.0.1", "10.0.0.1 ", "", "2001:db8::1", "ff02::1", "::ffff:1.2.3.4", "x", "1.2.3.4x")
) | st.integers(0, 2**32 - 1).map(lambda n: ".".join(str(n >> s & 255) for s in (24, 16, 8, 0)))  # fmt: skip
PORTS = st.sampled_from(("", "0", "65535", "65536", "00080", "080", "-1", "+5", "1_0", " 80", "8a", "9" * 30)) | (
    st.integers(0, 70000).map(str)
)
ROWS = st.tuples(
    st.sampled_from(("a", "", "ö", "back\\slash", "a long name of a packet", "\x0b\x1c\x85")),
    NAMES, NAMES, ADDRESSES, ADDRESSES,
    st.sampled_from(("tcp", "udp", "icmp", "ipv6-icmp", "47", "any", "", "TCP", "300", "ip")),
    PORTS, PORTS,
    st.sampled_from(("", "8", "256", "x")), st.sampled_from(("", "0", "-0")),
    st.sampled_from(("", "SYN", "SYN|ACK", "NONE", "FOO")), st.sampled_from(("", "new", "established", "fresh", "New")),
).map(",".join)  # fmt: skip
LINES = st.lists(ROWS | st.sampled_from(("", "short,eth0", HEADER, "," * 11, "," * 12)), max_size=12)


def told(data: bytes) -> list[tuple[int, str, Packet | Sketch | Fault]]:
    """Line, id and meaning of every row."""
    file = TableFile(data)
    out: list[tuple[int, str, Packet | Sketch | Fault]] = []
    for part in file.parts:
        table = file.read(part, SYMBOLS)
        read: dict[int, Packet | Sketch] = dict(table.others)
        for group in table.groups:
            packets = {row: group.packet(SPACES[group.family], at) for at, row in enumerate(group.rows.tolist())}
            assert all(
                (bool(p.in_interface), bool(p.out_interface)) == (group.comes, group.leaves) for p in packets.values()
            )
            assert not read.keys() & packets.keys()
            read |= packets
        assert sorted(read) == list(range(len(table.ids)))
        out += ((table.lines[row], table.ids[row], read[row]) for row in read)
        out += ((fault.line, fault.id, fault) for fault in table.faults)
    return sorted(out, key=lambda one: one[0])


@given(LINES, st.sampled_from(("\n", "\r\n")), st.booleans(), st.sampled_from((40, 1 << 20)))
@example(["p,eth0,,10.0.0.1,10.0.0.2,tcp,1,2,,,,"], "\n", False, 1 << 20)
@example(["p,eth0,,10.0.0.1,10.0.0.2,icmp,,,8,0,,new"] * 3, "\r\n", True, 40)
def test_rows_read_together_are_those_read_one_by_one(lines: list[str], end: str, ended: bool, size: int) -> None:
    rows = end.join(lines) + (end if ended else "")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(tables, "PART", size)
        together = told(f"\ufeff{HEADER}{end}{rows}".encode())
    # A quote anywhere makes the reader go row by row.
    assert together == told(f'"id"{HEADER[2:]}{end}{rows}'.encode())


SIX = st.text("0123abfF:.%g", max_size=24) | st.ip_addresses(v=6).flatmap(
    lambda one: st.sampled_from(
        (str(one), one.exploded.upper(), f"{one}%eth0", f"{one}:", f"::{int(one) & 0xFFFF:05x}")
    )
)


@given(SIX)
@example("::ffff:1.2.3.4")
@example("::1.2.3.04")
@example("1::2::3")
@example("2001:db8::1\0")
def test_addresses_are_those_of_the_standard_library(text: str) -> None:
    rows = [f"a,eth0,,{text},2001:db8::2,tcp,1,2,,,,"]
    ((_, _, found),) = told("\n".join([HEADER, *rows]).encode())
    try:
        wanted: int | None = int(IPv6Address(text))
    except ValueError:
        wanted = None
    assert (found.source if isinstance(found, Packet) else None) == wanted


def test_many_spellings_find_their_own_class() -> None:
    """More names than the table of classes has room for without a clash."""
    lines = [
        f"{n},if{n % 5000},,10.0.{n >> 8 & 255}.{n & 255},192.0.2.1,icmp,,,{n % 256},{n // 256},,"
        for n in range(30_000)
    ]
    found = told("\n".join([HEADER, *lines]).encode())
    for number, (line, name, packet) in enumerate(found):
        assert isinstance(packet, Packet)
        assert (line, name, packet.in_interface) == (number + 2, str(number), f"if{number % 5000}")
        assert (packet.icmp_type, packet.icmp_code, packet.source & 0xFFFF) == (
            number % 256,
            number // 256,
            number & 0xFFFF,
        )


def test_what_is_no_table() -> None:
    for data, why in (
        (b"", "lacks id"),
        (b"id,src\n", "lacks in, out"),
        (f"{HEADER},more\n".encode(), "unknown more"),
        (",".join(reversed(COLUMNS)).encode(), "another order"),
        (f'"id{"d" * 140_000}"'.encode(), "field larger"),
    ):
        with pytest.raises(UsageError, match=why):
            TableFile(data)
    assert TableFile(HEADER.encode()).parts == ()
    with pytest.raises(UnicodeDecodeError):
        TableFile(HEADER.encode() + b"\n\xff")
