"""What the left-hand side of an nft expression looks at, and how values beside it are read (nft(8), "EXPRESSIONS")."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct

from aiguille.model import (
    Addresses,
    Condition,
    DestinationType,
    Field,
    IcmpType,
    InterfaceName,
    MaskedAddress,
    NotUnderstoodError,
    Numbers,
    Operand,
    State,
)
from aiguille.model.protocols import ICMP_TYPES, ICMPV6_TYPES, TCP_FLAGS
from aiguille.readers.literals import read_address, read_network, read_port, read_protocol

STATE_BITS = {
    "invalid": State.INVALID,
    "established": State.ESTABLISHED,
    "related": State.RELATED,
    "new": State.NEW,
    "untracked": State.UNTRACKED,
}
_BIT_NUMBERS = {1: "invalid", 2: "established", 4: "related", 8: "new", 64: "untracked"}
_FLAG_BITS = {name.lower(): bit for name, bit in TCP_FLAGS.items()} | {"ecn": 64}
_FAMILIES = {"ip": 4, "ipv4": 4, 2: 4, 2048: 4, "ip6": 6, "ipv6": 6, 10: 6, 34525: 6}
_ICMP_CODES = {
    4: ("net-unreachable", "host-unreachable", "prot-unreachable", "port-unreachable", "frag-needed", "", "", "", "",
        "net-prohibited", "host-prohibited", "", "", "admin-prohibited"),
    6: ("no-route", "admin-prohibited", "", "addr-unreachable", "port-unreachable", "policy-fail", "reject-route"),
}  # fmt: skip
"""Names nft prints for message codes, whatever the type; the place in the tuple is the number."""
_NFT_ICMP = {
    4: {"info-request": 15, "info-reply": 16},
    6: {"mld-listener-query": 130, "mld-listener-report": 131, "mld-listener-done": 132, "mld-listener-reduction": 132,
        "nd-router-solicit": 133, "nd-router-advert": 134, "nd-neighbor-solicit": 135, "nd-neighbor-advert": 136,
        "nd-redirect": 137, "router-renumbering": 138, "ind-neighbor-solicit": 141, "ind-neighbor-advert": 142,
        "mld2-listener-report": 143},
}  # fmt: skip

Read = Callable[[Any], Operand]


class Key(Struct, frozen=True):
    """A field of the packet: `guards` hold wherever it can be looked at, `read` makes an operand of one value.

    dimension: what a set over it looks up, in the words of `SetObject`
    """

    field: Field
    read: Read
    dimension: str
    guards: tuple[Condition, ...] = ()


def _pair(given: Any) -> tuple[Any, Any] | None:
    """The ends of a range, None if it is none."""
    if isinstance(given, dict) and set(given) == {"range"} and len(given["range"]) == 2:
        first, last = given["range"]
        return first, last
    return None


def _address(given: Any) -> Operand:
    if isinstance(given, str):
        return read_network(given)
    match given:
        case {"prefix": {"addr": str(text), "len": int(length)}}:
            return read_network(f"{text}/{length}")
        case {"range": [str(low), str(high)]}:
            family, first = read_address(low)
            other, last = read_address(high)
            if family == other and first <= last:
                return Addresses(family, first, last)
    raise NotUnderstoodError(f"'{spell(given)}' is not an address, a prefix or a range")


def _number(one: Callable[[Any], int], top: int) -> Read:
    def read(given: Any) -> Operand:
        if isinstance(given, int) and not isinstance(given, bool):
            first = last = given
        elif (ends := _pair(given)) is not None:
            first, last = one(ends[0]), one(ends[1])
        else:
            first = last = one(given)
        if not 0 <= first <= last <= top:
            raise NotUnderstoodError(f"'{spell(given)}' is not within 0-{top}, low end first")
        return Numbers(first, last)

    return read


def _integer(given: Any) -> int:
    if isinstance(given, int) and not isinstance(given, bool):
        return given
    raise NotUnderstoodError(f"'{spell(given)}' is not a number")


def _port(given: Any) -> int:
    return given if isinstance(given, int) and not isinstance(given, bool) else read_port(str(given))


def _protocol(given: Any) -> int:
    if isinstance(given, int) and not isinstance(given, bool):
        return given
    found = read_protocol(str(given))
    if found.first != found.last:
        raise NotUnderstoodError(f"'{spell(given)}' is not one protocol")
    return found.first


def _interface(given: Any) -> Operand:
    if not isinstance(given, str) or not given:
        raise NotUnderstoodError(f"'{spell(given)}' is not the name of an interface")
    if given.endswith("\\*"):
        return InterfaceName(given[:-2] + "*")
    return InterfaceName(given[:-1], prefix=True) if given.endswith("*") else InterfaceName(given)


def _state(given: Any) -> Operand:
    name = _BIT_NUMBERS.get(given, given) if isinstance(given, int) else given
    if name not in STATE_BITS:
        raise NotUnderstoodError(f"'{spell(given)}' is not one connection state")
    number = STATE_BITS[name].number
    return Numbers(number, number)


def _destination_type(given: Any) -> Operand:
    known = {str(kind): kind for kind in DestinationType if kind is not DestinationType.OTHER}
    if given not in known:
        raise NotUnderstoodError(f"'{spell(given)}' is not an address type we model")
    return Numbers(known[given].number, known[given].number)


def _family(given: Any) -> Operand:
    number = _FAMILIES.get(given, 0) if isinstance(given, (str, int)) else 0
    return Numbers(number, number)


def _icmp_type(family: int) -> Callable[[Any], int]:
    names = {4: ICMP_TYPES, 6: ICMPV6_TYPES}[family]

    def read(given: Any) -> int:
        if isinstance(given, int):
            return given
        if given in _NFT_ICMP[family]:
            return _NFT_ICMP[family][given]
        if given in names and names[given][1] is None:
            return names[given][0]
        raise NotUnderstoodError(f"'{spell(given)}' is not an ICMP type")

    return read


def _icmp_code(family: int) -> Callable[[Any], int]:
    def read(given: Any) -> int:
        if isinstance(given, int):
            return given
        if given and given in _ICMP_CODES[family]:
            return _ICMP_CODES[family].index(given)
        raise NotUnderstoodError(f"'{spell(given)}' is not an ICMP code")

    return read


def _icmp(family: int, part: str) -> Read:
    read = _number(_icmp_type(family) if part == "type" else _icmp_code(family), 255)

    def both(given: Any) -> Operand:
        found = read(given)
        if not isinstance(found, Numbers):
            raise TypeError(f"{found!r} is no range")
        if part == "type":
            return IcmpType(found.first, found.last)
        return IcmpType(0, 255, found.first, found.last)

    return both


def is_family(number: int) -> Condition:
    return Condition(Field.FAMILY, (Numbers(number, number),))


def is_protocol(number: int) -> Condition:
    return Condition(Field.PROTOCOL, (Numbers(number, number),))


_ports = _number(_port, 65535)
_protocols = _number(_protocol, 255)

META: dict[str, Key] = {
    "iifname": Key(Field.IN_INTERFACE, _interface, "interface"),
    "iif": Key(Field.IN_INTERFACE, _interface, "interface"),
    "oifname": Key(Field.OUT_INTERFACE, _interface, "interface"),
    "oif": Key(Field.OUT_INTERFACE, _interface, "interface"),
    "l4proto": Key(Field.PROTOCOL, _protocols, "protocol"),
    "nfproto": Key(Field.FAMILY, _family, "family"),
    "protocol": Key(Field.FAMILY, _family, "family"),
}
PAYLOAD: dict[tuple[str, str], Key] = {
    ("ip", "saddr"): Key(Field.SOURCE, _address, "address", (is_family(4),)),
    ("ip", "daddr"): Key(Field.DESTINATION, _address, "address", (is_family(4),)),
    ("ip", "protocol"): Key(Field.PROTOCOL, _protocols, "protocol", (is_family(4),)),
    ("ip6", "saddr"): Key(Field.SOURCE, _address, "address", (is_family(6),)),
    ("ip6", "daddr"): Key(Field.DESTINATION, _address, "address", (is_family(6),)),
    ("ip6", "nexthdr"): Key(Field.PROTOCOL, _protocols, "protocol", (is_family(6),)),
    ("th", "sport"): Key(Field.SOURCE_PORT, _ports, "port"),
    ("th", "dport"): Key(Field.DESTINATION_PORT, _ports, "port"),
    ("tcp", "flags"): Key(Field.TCP_FLAGS, _number(_integer, 255), "flags"),
}
for _name, _number_of in (("tcp", 6), ("udp", 17), ("udplite", 136), ("sctp", 132), ("dccp", 33)):
    PAYLOAD[_name, "sport"] = Key(Field.SOURCE_PORT, _ports, "port", (is_protocol(_number_of),))
    PAYLOAD[_name, "dport"] = Key(Field.DESTINATION_PORT, _ports, "port", (is_protocol(_number_of),))
for _name, _of in (("icmp", 4), ("icmpv6", 6)):
    for _part in ("type", "code"):
        PAYLOAD[_name, _part] = Key(Field.ICMP, _icmp(_of, _part), "message", (is_family(_of),))

_STATE = Key(Field.STATE, _state, "state")
_TYPE = Key(Field.DESTINATION_TYPE, _destination_type, "type")
_SOURCE_TYPE = Key(Field.SOURCE_TYPE, _destination_type, "type")

QUALIFIERS: dict[str, str] = {
    "numgen": "random share",
    "jhash": "share by address",
    "symhash": "share by address",
    "socket": "open socket",
    "osf": "operating system",
    "rt": "routing realm",
    "exthdr": "IPv6 headers",
    "tcp option": "TCP option",
    "ip option": "IP option",
    "sctp chunk": "SCTP chunks",
    "ipsec": "IPsec policy",
    "meta mark": "packet mark",
    "meta skuid": "local user",
    "meta skgid": "local user",
    "meta pkttype": "link-layer type",
    "meta length": "packet length",
    "meta cgroup": "control group",
    "meta cpu": "processor",
    "meta priority": "traffic class",
    "meta iifgroup": "interface group",
    "meta oifgroup": "interface group",
    "meta iiftype": "interface kind",
    "meta oiftype": "interface kind",
    "meta iifkind": "interface kind",
    "meta oifkind": "interface kind",
    "meta ibrname": "bridge port",
    "meta obrname": "bridge port",
    "meta rtclassid": "routing realm",
    "meta time": "time of day",
    "meta hour": "time of day",
    "meta day": "time of day",
    "meta random": "random share",
    "meta ipsec": "IPsec policy",
    "ct mark": "connection mark",
    "ct status": "connection detail",
    "ct helper": "connection helper",
    "ct label": "connection label",
    "ct bytes": "bytes of the connection",
    "ct packets": "bytes of the connection",
    "ct avgpkt": "bytes of the connection",
    "fib": "route",
    "payload ether": "hardware address",
    "payload vlan": "VLAN",
    "payload arp": "ARP",
    "payload ip": "IP header",
    "payload ip6": "IP header",
}
"""A part of an expression -> a short name for the condition, which a packet as we model it does not show."""


_SENT: dict[str, Key] = {
    "ip daddr": Key(Field.SENT_TO, _address, "address", (is_family(4),)),
    "ip6 daddr": Key(Field.SENT_TO, _address, "address", (is_family(6),)),
    "proto-dst": Key(Field.SENT_TO_PORT, _ports, "port"),
}
"""What a connection was opened to, before anything translated it (nft(8), "conntrack expressions")."""


def sent_key(left: Any, right: Any) -> Key | None:
    """The field of where a connection was opened to, None for another, and for lookups in sets, which are by fields of packets."""
    match left, right:
        case _, str() if right[:1] == "@":
            return None
        case {"ct": {"key": str(name), "dir": "original"}}, _:
            return _SENT.get(name)
        case _:
            return None


def key_of(left: Any) -> Key | None:
    """The field a left-hand side looks at, None if we do not model it."""
    match left:
        case {"meta": {"key": str(name)}}:
            return META.get(name)
        case {"payload": {"protocol": str(name), "field": str(part)}}:
            return PAYLOAD.get((name, part))
        case {"ct": {"key": "state"}}:
            return _STATE
        case {"fib": {"result": "type", "flags": ["daddr"]}}:
            return _TYPE
        case {"fib": {"result": "type", "flags": ["saddr"]}}:
            return _SOURCE_TYPE
        case _:
            return None


def qualifier_name(left: Any) -> str:
    """A short name for a condition on something that is not modelled."""
    if isinstance(left, dict) and len(left) == 1:
        ((kind, body),) = left.items()
        if kind in ("&", "|", "^", "<<", ">>") and isinstance(body, list) and body:
            return qualifier_name(body[0])
        if kind == "concat":
            return next((qualifier_name(part) for part in body if key_of(part) is None), "several fields")
        if kind == "fib" and isinstance(body, dict):
            return "address type" if body.get("result") == "type" else "reverse path"
        if isinstance(body, dict):
            detail = body.get("key", body.get("protocol", ""))
            known = QUALIFIERS.get(f"{kind} {detail}") or QUALIFIERS.get(kind)
            return known or f"{kind} {detail}".strip()
        return QUALIFIERS.get(str(kind), str(kind))
    return "condition"


def flag_bits(given: Any) -> int:
    """TCP flags as a number: by name, as a list, or added up."""
    match given:
        case bool():
            pass
        case int():
            return given
        case str() if given in _FLAG_BITS:
            return _FLAG_BITS[given]
        case [*parts] | {"|": [*parts]}:
            total = 0
            for part in parts:
                total |= flag_bits(part)
            return total
    raise NotUnderstoodError(f"'{spell(given)}' is not a set of TCP flags")


def state_bits(given: Any) -> int:
    """Connection states as the bits that nft compares."""
    numbers = {name: bit for bit, name in _BIT_NUMBERS.items()}
    match given:
        case bool():
            pass
        case int():
            return given
        case str() if given in numbers:
            return numbers[given]
        case [*parts] | {"|": [*parts]}:
            total = 0
            for part in parts:
                total |= state_bits(part)
            return total
    raise NotUnderstoodError(f"'{spell(given)}' is not a set of connection states")


def states_where(holds: Callable[[int], bool]) -> tuple[Operand, ...]:
    """The states whose bit fulfils a test."""
    return tuple(
        Numbers(STATE_BITS[name].number, STATE_BITS[name].number) for bit, name in _BIT_NUMBERS.items() if holds(bit)
    )


def masked_address(mask: Any, given: Any) -> Operand:
    """Addresses that equal a value in the bits of a mask."""
    if not isinstance(mask, str) or not isinstance(given, str):
        raise NotUnderstoodError(f"'{spell(mask)}' is not a mask for '{spell(given)}'")
    family, bits = read_address(mask)
    other, wanted = read_address(given)
    if family != other:
        raise NotUnderstoodError(f"'{given}' mixes the two address families")
    return MaskedAddress(family, wanted, bits)


SET_TYPES: dict[str, Key] = {
    "ipv4_addr": PAYLOAD["ip", "saddr"],
    "ipv6_addr": PAYLOAD["ip6", "saddr"],
    "inet_service": PAYLOAD["th", "dport"],
    "inet_proto": META["l4proto"],
    "ifname": META["iifname"],
    "iface_index": META["iif"],
    "nf_proto": META["nfproto"],
    "ether_type": META["protocol"],
    "icmp_type": PAYLOAD["icmp", "type"],
    "icmp_code": PAYLOAD["icmp", "code"],
    "icmpv6_type": PAYLOAD["icmpv6", "type"],
    "icmpv6_code": PAYLOAD["icmpv6", "code"],
    "ct_state": _STATE,
    "fib_addrtype": _TYPE,
}
"""Types of named sets -> a key that reads their values; which field is looked up the rule says."""


def spell(given: Any) -> str:
    """A right- or left-hand side in a few words, near to what nft's text says."""
    match given:
        case {"prefix": {"addr": addr, "len": length}}:
            return f"{addr}/{length}"
        case {"range": [low, high]}:
            return f"{spell(low)}-{spell(high)}"
        case {"set": [*parts]}:
            shown = ", ".join(spell(part) for part in parts[:6])
            return f"{{ {shown}{', ...' if len(parts) > 6 else ''} }}"
        case {"concat": [*parts]}:
            return " . ".join(spell(part) for part in parts)
        case {"payload": {"protocol": name, "field": part}}:
            return f"{name} {part}"
        case {"elem": {"val": val}}:
            return spell(val)
        case {"fib": {"result": result, "flags": [*flags]}}:
            return f"fib {' . '.join(map(str, flags))} {result}"
        case {"text": str(said)}:
            return said
        case {"numgen": _} | {"jhash": _} | {"symhash": _}:
            return _spell_share(given)
        case dict():
            ((kind, body),) = list(given.items())[:1] or [("", "")]
            if kind in ("&", "|", "^", "<<", ">>") and isinstance(body, list):
                return f" {kind} ".join(spell(part) for part in body)
            if isinstance(body, dict):
                return " ".join([kind, *(spell(v) for v in body.values())])
            return f"{kind} {'' if body is None else spell(body)}".strip()
        case list():
            return ",".join(spell(part) for part in given)
        case True:
            return "exists"
        case False:
            return "missing"
        case _:
            return str(given)


def _spell_share(given: dict[str, Any]) -> str:
    """A number drawn for each packet, or made from what it holds."""
    ((kind, body),) = given.items()
    words = [kind, *(spell(body[k]) for k in ("mode", "expr") if k in body), "mod", str(body.get("mod"))]
    words += [f"{k} {body[k]}" for k in ("seed", "offset") if body.get(k)]
    return " ".join(words)
