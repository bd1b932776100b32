"""What the match options of iptables mean (iptables(8), iptables-extensions(8), version 1.8).

`MODELLED` holds the options that become exact conditions. `QUALIFIERS` names the modules whose options are understood but
depend on something a single packet does not show: a rate, the time of day, a user, a list filled at run time.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec import Struct

from aiguille.model import (
    Addresses,
    Condition,
    DestinationType,
    Field,
    FlagTest,
    InterfaceName,
    MaskedAddress,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    Operand,
    State,
)
from aiguille.model.protocols import TCP_FLAGS
from aiguille.readers.literals import (
    read_address_range,
    read_icmp,
    read_network,
    read_port,
    read_ports,
    read_protocol,
)

Operands = tuple[Operand, ...]


class Option(Struct, frozen=True):
    """An option that becomes a condition: how many words follow it, the field, and how the words are read."""

    words: int
    field: Field
    read: Callable[[list[str], int], Operands]


def _interface(words: list[str], _family: int) -> Operands:
    name = words[0]
    return (InterfaceName(name[:-1], prefix=True) if name.endswith("+") else InterfaceName(name),)


_NUMBER = re.compile(r"(?<!\w)0(?:[xX]([0-9a-fA-F]+)|(\d+))(?!\w)")
_PARTS = re.compile(r"\d+(\.\d+){0,2}")


def _decimal(text: str) -> str:
    """Numbers as iptables takes them (strtoul(3), base 0): ``022`` is 18 and ``0x16`` is 22."""

    def read(found: re.Match[str]) -> str:
        if found[1] is not None:
            return str(int(found[1], 16))
        if "8" in found[2] or "9" in found[2]:
            raise NotUnderstoodError(f"'{found[0]}' begins like an octal number and is none")
        return str(int(found[2], 8))

    return _NUMBER.sub(read, text) if "0" in text else text


def _address(text: str) -> str:
    """An address of IPv4 in full: what is left out at its end is 0, as in ``10/8`` and ``192.168/16``."""
    return text + ".0" * (3 - text.count(".")) if _PARTS.fullmatch(text) else text


def _network(words: list[str], family: int) -> Operands:
    return tuple(_one_network(part, family) for part in words[0].split(","))


def _one_network(text: str, family: int) -> Addresses | MaskedAddress:
    head, slash, tail = text.partition("/")
    length = _decimal(tail)
    if slash and length == "0":
        return read_network("0.0.0.0/0" if family == 4 else "::/0")  # whatever stands before it, a name as well
    return read_network(f"{_address(_decimal(head)) if family == 4 else head}{slash}{length}")


def _range(words: list[str], family: int) -> Operands:
    ends = [_address(_decimal(end)) if family == 4 else end for end in words[0].split("-")]
    return (read_address_range("-".join(ends)),)


def _protocol(words: list[str], _family: int) -> Operands:
    # Protocol 0 stands for every one (iptables(8), --protocol).
    text = _decimal(words[0])
    return (read_protocol("all" if text == "0" else text),)


def _ports(words: list[str], _family: int) -> Operands:
    return (read_ports(_decimal(words[0])),)


def _port_list(words: list[str], _family: int) -> Operands:
    return tuple(_multiport(part) for part in _decimal(words[0]).split(","))


def _multiport(part: str) -> Numbers:
    if ":" in part:
        return read_ports(part)
    port = read_port(part)
    return Numbers(port, port)


def _icmp(words: list[str], family: int) -> Operands:
    return (read_icmp(_decimal(words[0]), family),)


def _flag_mask(text: str) -> int:
    if text == "NONE":
        return 0
    if text == "ALL":
        return 0x3F
    mask = 0
    for name in text.split(","):
        if name not in TCP_FLAGS:
            raise NotUnderstoodError(f"'{name}' is not a TCP flag")
        mask |= TCP_FLAGS[name]
    return mask


def _flags(words: list[str], _family: int) -> Operands:
    return (FlagTest(_flag_mask(words[0]), _flag_mask(words[1])),)


def _syn(_words: list[str], _family: int) -> Operands:
    return (FlagTest(_flag_mask("FIN,SYN,RST,ACK"), TCP_FLAGS["SYN"]),)


def _states(words: list[str], _family: int) -> Operands:
    found: list[Operand] = []
    for name in words[0].split(","):
        if name.lower() not in tuple(State):
            # SNAT and DNAT are states only in name: they ask about translation, which other states do not exclude.
            raise NotUnderstoodError(f"'{name}' is not a connection state we model")
        number = State(name.lower()).number
        found.append(Numbers(number, number))
    return tuple(found)


_TYPES = {
    "UNICAST": DestinationType.UNICAST,
    "LOCAL": DestinationType.LOCAL,
    "BROADCAST": DestinationType.BROADCAST,
    "MULTICAST": DestinationType.MULTICAST,
}


def _types(words: list[str], family: int) -> Operands:
    names = words[0].split(",")
    for name in names:
        if name not in _TYPES:
            raise NotUnderstoodError(f"'{name}' is not an address type we model")
    kinds = {_TYPES[name] for name in names}
    if family == 6:
        # Of IPv6 every address that is no multicast is a unicast, and the types of a list hold together (Linux, xt_addrtype.c).
        if len(kinds) == 1:
            kinds = (
                {DestinationType.UNICAST, DestinationType.LOCAL, DestinationType.OTHER} if "UNICAST" in names else kinds
            )
        elif kinds == {DestinationType.UNICAST, DestinationType.LOCAL}:
            kinds = {DestinationType.LOCAL}
        else:
            raise NotUnderstoodError(f"with IPv6 no address is of the types '{words[0]}' at once")
    return tuple(Numbers(kind.number, kind.number) for kind in sorted(kinds))


def _set(words: list[str], _family: int) -> Operands:
    roles = tuple(words[1].split(","))
    if not {"src", "dst"}.issuperset(roles):
        raise NotUnderstoodError(f"'{words[1]}' does not say src or dst for each part of a set's entries")
    return (Named(NameKind.SET, words[0], roles),)


TURNING: dict[str, tuple[Field, ...]] = {
    "--return-nomatch": (Field.SET,),
    "--limit-iface-in": (Field.DESTINATION_TYPE, Field.SOURCE_TYPE),
    "--limit-iface-out": (Field.DESTINATION_TYPE, Field.SOURCE_TYPE),
}
"""Options that are not modelled and with which others of their match may hold where they would not hold by themselves."""

BASE: dict[str, Option] = {
    "-s": Option(1, Field.SOURCE, _network),
    "-d": Option(1, Field.DESTINATION, _network),
    "-i": Option(1, Field.IN_INTERFACE, _interface),
    "-o": Option(1, Field.OUT_INTERFACE, _interface),
    "-p": Option(1, Field.PROTOCOL, _protocol),
}
BASE_LONG = {
    "--source": "-s",
    "--src": "-s",
    "--destination": "-d",
    "--dst": "-d",
    "--in-interface": "-i",
    "--out-interface": "-o",
    "--protocol": "-p",
    "--proto": "-p",
}

_PORT_OPTIONS = {
    "--sport": Option(1, Field.SOURCE_PORT, _ports),
    "--source-port": Option(1, Field.SOURCE_PORT, _ports),
    "--dport": Option(1, Field.DESTINATION_PORT, _ports),
    "--destination-port": Option(1, Field.DESTINATION_PORT, _ports),
}
_STATE = Option(1, Field.STATE, _states)

MODELLED: dict[str, dict[str, Option]] = {
    "tcp": {
        **_PORT_OPTIONS,
        "--tcp-flags": Option(2, Field.TCP_FLAGS, _flags),
        "--syn": Option(0, Field.TCP_FLAGS, _syn),
    },
    "udp": _PORT_OPTIONS,
    "udplite": _PORT_OPTIONS,
    "sctp": _PORT_OPTIONS,
    "dccp": _PORT_OPTIONS,
    "icmp": {"--icmp-type": Option(1, Field.ICMP, _icmp)},
    "icmp6": {"--icmpv6-type": Option(1, Field.ICMP, _icmp)},
    "icmpv6": {"--icmpv6-type": Option(1, Field.ICMP, _icmp)},
    "ipv6-icmp": {"--icmpv6-type": Option(1, Field.ICMP, _icmp)},
    "multiport": {
        "--dports": Option(1, Field.DESTINATION_PORT, _port_list),
        "--destination-ports": Option(1, Field.DESTINATION_PORT, _port_list),
        "--sports": Option(1, Field.SOURCE_PORT, _port_list),
        "--source-ports": Option(1, Field.SOURCE_PORT, _port_list),
        "--ports": Option(1, Field.EITHER_PORT, _port_list),
    },
    "iprange": {
        "--src-range": Option(1, Field.SOURCE, _range),
        "--dst-range": Option(1, Field.DESTINATION, _range),
    },
    "state": {"--state": _STATE},
    "conntrack": {
        "--ctstate": _STATE,
        "--ctorigdst": Option(1, Field.SENT_TO, _network),
        "--ctorigdstport": Option(1, Field.SENT_TO_PORT, _ports),
    },
    "addrtype": {
        "--dst-type": Option(1, Field.DESTINATION_TYPE, _types),
        "--src-type": Option(1, Field.SOURCE_TYPE, _types),
    },
    "set": {"--match-set": Option(2, Field.SET, _set)},
    "mark": {},
    "comment": {},
}

QUALIFIERS: dict[str, str] = {
    "addrtype": "address type",
    "ah": "IPsec header",
    "bpf": "packet program",
    "cgroup": "control group",
    "cluster": "cluster share",
    "connbytes": "bytes of the connection",
    "connlabel": "connection label",
    "connlimit": "number of connections",
    "connmark": "connection mark",
    "conntrack": "connection detail",
    "cpu": "processor",
    "dccp": "DCCP detail",
    "devgroup": "interface group",
    "dscp": "traffic class",
    "dst": "IPv6 destination options",
    "ecn": "congestion bits",
    "esp": "IPsec header",
    "eui64": "interface identifier",
    "frag": "fragment",
    "geoip": "country",
    "hashlimit": "rate limit",
    "hbh": "IPv6 hop-by-hop options",
    "helper": "connection helper",
    "hl": "hop limit",
    "ipcomp": "IPcomp header",
    "ipv6header": "IPv6 headers",
    "ipvs": "virtual server",
    "l2tp": "L2TP header",
    "length": "packet length",
    "limit": "rate limit",
    "mac": "hardware address",
    "mark": "packet mark",
    "mh": "mobility header",
    "nfacct": "accounting",
    "osf": "operating system",
    "owner": "local user",
    "physdev": "bridge port",
    "pkttype": "link-layer type",
    "policy": "IPsec policy",
    "quota": "quota",
    "rateest": "estimated rate",
    "realm": "routing realm",
    "recent": "recently seen addresses",
    "rpfilter": "reverse path",
    "rt": "IPv6 routing header",
    "sctp": "SCTP chunks",
    "set": "set detail",
    "socket": "open socket",
    "srh": "segment routing header",
    "statistic": "random share",
    "string": "text in the packet",
    "tcp": "TCP option",
    "tcpmss": "TCP segment size",
    "time": "time of day",
    "tos": "type of service",
    "ttl": "time to live",
    "u32": "packet bytes",
    "weburl": "web address",
}
"""Module -> a short name for the condition. Modelled modules stand here for the options of theirs that are not."""

IMPLIED: dict[int, str] = {6: "tcp", 17: "udp", 136: "udplite", 132: "sctp", 33: "dccp", 1: "icmp", 58: "icmp6"}
"""The module whose options may follow ``-p`` without ``-m``."""


def read_condition(option: Option, words: list[str], family: int, negated: bool) -> Condition:
    """The condition an option with its words states; raises NotUnderstoodError."""
    return Condition(option.field, option.read(words, family), negated)
