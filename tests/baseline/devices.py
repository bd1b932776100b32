"""Devices for the tables of check cases, each out of a few words."""

from __future__ import annotations

from msgspec.structs import replace

from aiguille.model import Addresses, Device, Interface, Side
from aiguille.readers import decode, mapped
from aiguille.readers.literals import read_address_range, read_network
from tests.helpers import dialect, filter_table, linux, with_zones

OUT, IN, GUEST = ("eth0", Side.OUTSIDE), ("eth1", Side.INSIDE), ("eth2", Side.GUEST)
SSH = "-p tcp -m tcp --dport 22"
WEB = "-p tcp -m tcp --dport 443"
EST = "-m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT"


def zoned(rules: str, **more: object) -> Device:
    """An outside on eth0 and an office on eth1."""
    return with_zones(filter_table(rules, **more), out=OUT, office=IN)  # type: ignore[arg-type]


def three(rules: str, **more: object) -> Device:
    """An outside, an office of 10.0.1.0/24 on eth1, guests of 10.0.2.0/24 on eth2."""
    device = filter_table(rules, **more)  # type: ignore[arg-type]
    return with_zones(device, out=OUT, office=(*IN, "10.0.1.0/24"), guests=(*GUEST, "10.0.2.0/24"))


def both(four: str, six: str, **more: object) -> Device:
    """IPv4 and IPv6 rules of one device."""
    one, other = zoned(four, **more), zoned(six, family=6, **more)
    return replace(one, rulebases=one.rulebases + other.rulebases)


def bare() -> Device:
    """A device whose export tells nothing but its name."""
    return replace(zoned(""), rulebases=())


def addressed(rules: str, *own: str) -> Device:
    """A device that knows its addresses, all on the outside."""
    interface = Interface("eth0", None, tuple(read_address_range(one) for one in own))
    return replace(zoned(rules), interfaces=(interface,))


def sheet(*rows: str, more: tuple[str, ...] = ()) -> Device:
    """A plain rule sheet that refuses what no rule lets through."""
    defaults = ("settings", "setting,value", "when nothing matches,deny", "when nothing matches to the device,deny")
    text = "\n".join(["rules", *rows, *defaults, *more])
    return mapped.read(dialect("sheet"), [decode("sheet", text.encode())], "test")[0]


def told(make: str, text: str, name: str = "export") -> Device:
    """A device of a mapped make."""
    return mapped.read(dialect(make), [decode(name, text.encode())], "test")[0]


def gate(body: str) -> Device:
    """A Veskara gateway with an outside, lifts of 10.0.3.0/24 and huts of 10.0.4.0/24."""
    head = (
        "~~ Veskara zone gateway\n"
        "socket w { holds 192.0.2.1/28, in s, answers [ web ping ] }\n"
        "socket l { holds 10.0.3.1/24, in lifts }\n"
        "socket h { holds 10.0.4.1/24, in huts }\n"
        "area s { faces outside }\narea lifts { faces inside }\narea huts { faces inside }\n"
    )
    return told("veskara", head + body)


def host(**files: str) -> Device:
    """A Linux host; names of files with __ for / and _dot_ for a dot."""
    return linux({name.replace("__", "/").replace("_dot_", "."): text for name, text in files.items()})


def perimeter(body: str, face: str = "") -> Device:
    """An Ormelune appliance with a street face and a house face."""
    return told(
        "ormelune",
        '<ormelune edition="3" saved="2026-11-04T06:30:00"><house><title>p</title></house><faces>'
        f'<face key="street" toward="street"><holds>192.0.2.66/28</holds>{face}</face>'
        '<face key="ops" toward="house"><holds>10.0.4.1/24</holds></face></faces>'
        f"{body}</ormelune>",
    )


def entry(title: str, to: str, port: str, extra: str = "", of: str = "everybody") -> str:
    """An entry of an Ormelune face."""
    return (
        f"<arrivals><entry title='{title}'><verdict>welcome</verdict><of>{of}</of><to>{to}</to>"
        f"<carrying over='tcp' to-port='{port}'/>{extra}</entry></arrivals>"
    )


def network(text: str) -> Addresses:
    found = read_network(text)
    assert isinstance(found, Addresses)
    return found
