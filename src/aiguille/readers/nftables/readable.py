"""What must hold of a packet for a statement to take effect on it.

A statement that reads or writes a header's field, the connection or an entry of a map ends the rule for packets that have none
(NFT_BREAK in the kernel's expressions); nft adds a match on the protocol where one is missing and does not list it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from aiguille.model import Condition, Field, NotUnderstoodError, Numbers, Qualifier, State
from aiguille.readers.nftables.conditions import Conditions, Matched, bare
from aiguille.readers.nftables.keys import is_family, is_protocol, key_of, qualifier_name, spell

_HEADERS = {
    "ip": (is_family(4),),
    "ip6": (is_family(6),),
    "icmp": (is_family(4), is_protocol(1)),
    "icmpv6": (is_family(6), is_protocol(58)),
    "tcp": (is_protocol(6),),
    "udp": (is_protocol(17),),
    "udplite": (is_protocol(136),),
    "sctp": (is_protocol(132),),
    "dccp": (is_protocol(33),),
    "esp": (is_protocol(50),),
    "ah": (is_protocol(51),),
}
_TRACKED = Condition(
    Field.STATE, tuple(Numbers(s.number, s.number) for s in (State.INVALID, State.UNTRACKED)), negated=True
)
_ALWAYS = frozenset(
    ["mark", "priority", "cpu", "nfproto", "l4proto", "protocol", "length", "random", "time", "day", "hour"]
)
"""What `meta` knows of every packet."""
_OF_EVERY_CONNECTION = frozenset(
    ["mark", "zone", "direction", "status", "id", "l3proto", "protocol", "proto-src", "proto-dst"]
)

_JOINED = frozenset(["concat", "|", "&", "^", "<<", ">>"])
Elements = Callable[[Any], list[tuple[Any, Any]] | None]


def needed_to_read(value: Any, conditions: Conditions, elements: Elements) -> Matched:
    """What must hold for a value to be there. Raises NotUnderstoodError.

    elements: the elements of a map's data, None where they change at run time
    """
    out = Matched()
    todo = [value]
    while todo:
        one = todo.pop()
        match one:
            case {"map": {"key": key, "data": data}}:
                _add(out, _looked_up(key, elements(data), spell(data), conditions))
            case {"payload": {"protocol": str(name)}} if name in _HEADERS:
                out.conditions += _HEADERS[name]
            case {"ct": {"key": "state"}} | {"rt": {"key": "mtu" | "classid"}} | {"numgen": _} | {"symhash": _}:
                pass
            case {"ct": {"key": str(name)}} if name in _OF_EVERY_CONNECTION:
                out.conditions.append(_TRACKED)
            case {"meta": {"key": str(name)}} if name in _ALWAYS:
                pass
            case {"jhash": {"expr": inner}} | {"elem": {"val": inner}}:
                todo.append(inner)
            case dict() if _JOINED.issuperset(one):
                todo += one.values()
            case list():
                todo += one
            case dict() if set(one) & {"range", "prefix", "set"}:
                pass
            case dict():
                out.qualifiers.append(Qualifier(qualifier_name(one), f"{spell(one)} is read"))
            case _:
                pass
    return out


def needed_to_write(key: Any) -> Matched:
    """What must hold for a statement to set something. Raises NotUnderstoodError if later rules would see it as we do not."""
    match key:
        case {"payload": {"protocol": str(name), "field": field}}:
            if key_of(key) is not None:
                raise NotUnderstoodError(
                    f"'{name} {field} set' changes what later rules look at, which we do not follow"
                )
            if name in _HEADERS:
                return Matched(list(_HEADERS[name]))
        case {"tcp option": _}:
            return Matched(list(_HEADERS["tcp"]))
        case {"meta": _} | {"ct": _}:
            return Matched()
    return Matched(qualifiers=[Qualifier(qualifier_name(key), f"{spell(key)} is set")])


def _looked_up(key: Any, found: list[tuple[Any, Any]] | None, name: str, conditions: Conditions) -> Matched:
    """What must hold for a map to have an entry for a packet."""
    if found is None:
        return Matched(qualifiers=[Qualifier("map", f"{spell(key)} map {name}, which changes at run time")])
    keys = [bare(one) for one, _ in found]
    if "*" in keys:
        return needed_to_read(key, conditions, lambda _: None)
    return conditions.match({"op": "==", "left": key, "right": {"set": keys}})


def _add(out: Matched, more: Matched) -> None:
    out.conditions += more.conditions
    out.marks += more.marks
    out.qualifiers += more.qualifiers
