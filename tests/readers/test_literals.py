"""Addresses, ports, protocols and message types as formats spell them, and how they are refused."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import ip_address, ip_network
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from aiguille.model import Addresses, IcmpType, MaskedAddress, NotUnderstoodError, Numbers
from aiguille.model.protocols import PORT_NAMES, PROTOCOL_NAMES, PROTOCOLS
from aiguille.model.spelling import spell_operand
from aiguille.readers.literals import (
    read_address,
    read_address_range,
    read_icmp,
    read_network,
    read_number,
    read_port,
    read_ports,
    read_protocol,
)
from aiguille.readers.mapped.spoken import spoken_address, spoken_service, spoken_side


@given(st.integers(0, 2**32 - 1), st.integers(0, 32))
def test_networks_are_those_of_the_standard_library(value: int, length: int) -> None:
    text = f"{ip_address(value)}/{length}"
    expected = ip_network(text, strict=False)
    assert read_network(text) == Addresses(4, int(expected[0]), int(expected[-1]))
    assert read_network(f"{ip_address(value)}/{expected.netmask}") == read_network(text)
    assert read_address(str(ip_address(value))) == (4, value)


@given(st.integers(0, 2**128 - 1), st.integers(0, 128))
def test_networks_of_ipv6_too(value: int, length: int) -> None:
    text = f"{ip_address(value | 1 << 127)}/{length}"
    expected = ip_network(text, strict=False)
    assert read_network(text) == Addresses(6, int(expected[0]), int(expected[-1]))


GOOD: list[tuple[Callable[..., object], tuple[object, ...], object]] = [
    (read_network, ("10.0.0.1/255.0.0.255",), MaskedAddress(4, 0x0A000001, 0xFF0000FF)),
    (read_network, ("::1:2/::ffff:ffff",), MaskedAddress(6, 0x10002, 0xFFFFFFFF)),
    (read_address_range, ("10.0.0.1-10.0.0.3",), Addresses(4, 0x0A000001, 0x0A000003)),
    (read_address_range, ("2001:db8::1",), Addresses(6, 0x20010DB8 << 96 | 1, 0x20010DB8 << 96 | 1)),
    (read_port, ("0",), 0),
    (read_port, ("https",), 443),
    (read_ports, ("8000:8080",), Numbers(8000, 8080)),
    (read_ports, (":1023",), Numbers(0, 1023)),
    (read_ports, ("1024:",), Numbers(1024, 65535)),
    (read_ports, ("53-60", "-"), Numbers(53, 60)),
    (read_protocol, ("TCP",), Numbers(6, 6)),
    (read_protocol, ("89",), Numbers(89, 89)),
    (read_protocol, ("all",), Numbers(0, 255)),
    (read_icmp, ("any", 4), IcmpType(0, 255)),
    (read_icmp, ("echo-request", 4), IcmpType(8, 8)),
    (read_icmp, ("echo-request", 6), IcmpType(128, 128)),
    (read_icmp, ("port-unreachable", 4), IcmpType(3, 3, 3, 3)),
    (read_icmp, ("3/1", 4), IcmpType(3, 3, 1, 1)),
    (read_number, ("0xff",), 255),
    (read_number, ("12",), 12),
]
BAD: list[tuple[Callable[..., object], tuple[object, ...]]] = [
    *(
        (read_network, (text,))
        for text in ("10.0.0.0/33", "10.0.0/8", "10.0.0.0/::1", "x", "", "10.0.0.0/8/8", "2001:db8::/129", "010.0.0.1")
    ),
    *((read_address_range, (text,)) for text in ("10.0.0.2-10.0.0.1", "10.0.0.1-2001:db8::1", "10.0.0.1-")),
    *((read_port, (text,)) for text in ("65536", "-1", "", "4_43", " 443", "٤٤٣", "nonsuch")),
    *((read_ports, (text,)) for text in ("90:80", "80:70000", "a:b")),
    *((read_protocol, (text,)) for text in ("256", "tpc", "", "-6")),
    *((read_icmp, (text, 4)) for text in ("256", "8/256", "echo", "8/", "neighbour-solicitation")),
    *((read_number, (text,)) for text in ("0x1ffffffff", "-1", "", "1.5")),
]


@pytest.mark.parametrize(("read", "arguments", "expected"), GOOD)
def test_literals(read: Callable[..., object], arguments: tuple[object, ...], expected: object) -> None:
    assert read(*arguments) == expected


@pytest.mark.parametrize(("read", "arguments"), BAD)
def test_literals_that_are_refused_say_what_was_written(
    read: Callable[..., object], arguments: tuple[object, ...]
) -> None:
    with pytest.raises(NotUnderstoodError) as caught:
        read(*arguments)
    assert "'" in str(caught.value)


def test_every_protocol_name_leads_to_its_number_and_back() -> None:
    for number, name in PROTOCOL_NAMES.items():
        assert PROTOCOLS[name] == number
        assert read_protocol(name) == Numbers(number, number)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("HTTP, HTTPS", "tcp/80 udp/80 tcp/443 udp/443"),
        ("RDP (3389)", "tcp/3389 udp/3389"),
        ("SSH (2222)", "tcp/2222 udp/2222"),
        ("SQL Server TCP 1433", "tcp/1433"),
        ("backup agent (tcp/10080)", "tcp/10080"),
        ("DNS + NTP", "tcp/53 udp/53 tcp/123 udp/123"),
        ("HTTP/HTTPS", "tcp/80 udp/80 tcp/443 udp/443"),
        ("web and smb", "tcp/80 tcp/443 tcp/445"),
        ("IPsec", "esp udp/500 udp/4500"),
        ("WinRM", "tcp/5985-5986"),
        ("3389", "tcp/3389 udp/3389"),
        ("443, 3380-3390", "tcp/443 udp/443 tcp/3380-3390 udp/3380-3390"),
        ("tcp 3389 udp 3390", "tcp/3389 udp/3390"),
        ("TCP *", "tcp"),
        ("UDP any port", "udp"),
        ("not (3389)", None),
        ("all except rdp", None),
        ("70000", None),
        ("citrix (1494)", None),
        ("web-8080", None),
        ("HTTP, thing", None),
        ("", None),
    ],
)
def test_services_as_people_call_them(text: str, expected: str | None) -> None:
    found = spoken_service(text)
    assert (None if found is None else " ".join(map(spell_operand, found))) == expected


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Internet", "internet"),
        ("the WAN side", "internet"),
        ("any (internet)", "internet"),
        ("Guest WiFi", "guests"),
        ("guests", "guests"),
        ("the office network", "office"),
        ("DMZ webserver", None),
        ("lan and dmz", None),
        ("lan, dmz", None),
        ("network", None),
        ("lan2", None),
        ("", None),
    ],
)
def test_names_that_say_a_side_and_nothing_more(text: str, expected: str | None) -> None:
    assert spoken_side(text) == expected


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("LAN 192.168.10.0/24", "192.168.10.0/24"),
        ("10.1.0.5 (print server)", "10.1.0.5"),
        ("clients: 10.1.0.5 - 10.1.0.9", "10.1.0.5-10.1.0.9"),
        ("hall 2 10.1.0.5", None),
        ("10.1.0.5 and 10.1.0.6", None),
        ("net_10.1.0.0", None),
        ("office", None),
        ("old 10.1.0.999", None),
        ("not 10.1.0.0/24", None),
        ("any except 10.1.0.0/24", None),
        ("!10.1.0.0/24", None),
        ("all but the office (10.1.0.0/24)", None),
        ("outside of 10.1.0.0/24", None),
    ],
)
def test_an_address_beside_a_name_for_it(text: str, expected: str | None) -> None:
    found = spoken_address(text)
    assert (None if found is None else spell_operand(found)) == expected


def test_names_of_ports_are_those_of_the_system() -> None:
    table = Path("/etc/services")
    if not table.exists():
        pytest.skip("this system names no services (package netbase)")
    ports: dict[str, set[int]] = {}
    for line in table.read_text().splitlines():
        name, *rest = [*line.partition("#")[0].split(), ""]
        for one in (name, *rest[1:]):
            if name and one:
                ports.setdefault(one, set()).add(int(rest[0].partition("/")[0]))
    known = {name: min(held) for name, held in ports.items() if len(held) == 1 and name in PORT_NAMES}
    assert len(known) > 300
    assert {name: read_port(name) for name in known} == known
