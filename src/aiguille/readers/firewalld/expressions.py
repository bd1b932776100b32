"""Pieces of rules in the form of nft's JSON (libnftables-json(5)), as firewalld writes them."""

from __future__ import annotations

import ipaddress
from typing import Any

from aiguille.model import NotUnderstoodError
from aiguille.readers.firewalld.element import Element
from aiguille.readers.literals import is_whole

Expr = list[dict[str, Any]]

_REFUSALS = {
    "icmp-host-prohibited": ("icmp", "host-prohibited"), "host-prohib": ("icmp", "host-prohibited"),
    "icmp-net-prohibited": ("icmp", "net-prohibited"), "net-prohib": ("icmp", "net-prohibited"),
    "icmp-admin-prohibited": ("icmp", "admin-prohibited"), "admin-prohib": ("icmp", "admin-prohibited"),
    "icmp6-adm-prohibited": ("icmpv6", "admin-prohibited"), "adm-prohibited": ("icmpv6", "admin-prohibited"),
    "icmp-net-unreachable": ("icmp", "net-unreachable"), "net-unreach": ("icmp", "net-unreachable"),
    "icmp-host-unreachable": ("icmp", "host-unreachable"), "host-unreach": ("icmp", "host-unreachable"),
    "icmp-port-unreachable": ("icmp", "port-unreachable"), "port-unreach": ("icmpx", "port-unreachable"),
    "icmp6-port-unreachable": ("icmpv6", "port-unreachable"),
    "icmp-proto-unreachable": ("icmp", "prot-unreachable"), "proto-unreach": ("icmp", "prot-unreachable"),
    "icmp6-addr-unreachable": ("icmpv6", "addr-unreachable"), "addr-unreach": ("icmpv6", "addr-unreachable"),
    "icmp6-no-route": ("icmpv6", "no-route"), "no-route": ("icmpv6", "no-route"),
}  # fmt: skip


def priority_of(one: Element) -> int:
    text = one.get("priority", "0")
    return int(text) if is_whole(text.removeprefix("-")) else 0


def matched(left: dict[str, Any], right: Any, op: str = "==") -> dict[str, Any]:
    return {"match": {"op": op, "left": left, "right": right}}


def payload(protocol: str, part: str) -> dict[str, Any]:
    return {"payload": {"protocol": protocol, "field": part}}


def meta(key: str, right: Any, op: str = "==") -> dict[str, Any]:
    return matched({"meta": {"key": key}}, right, op)


def states(*names: str) -> dict[str, Any]:
    return matched({"ct": {"key": "state"}}, {"set": list(names)})


def jump(target: str) -> dict[str, Any]:
    return {"jump": {"target": target}}


def goto(target: str) -> dict[str, Any]:
    return {"goto": {"target": target}}


def on_interface(way: str, name: str) -> dict[str, Any] | None:
    if name in ("+", "*"):
        return None
    return meta(way, f"{name[:-1]}*" if name.endswith("+") else name)


def address_value(text: str) -> Any:
    """An address or network as nft's JSON has it; IPv6 may stand in brackets. Raises NotUnderstoodError."""
    inside, _, after = text.removeprefix("[").partition("]") if text.startswith("[") else (text, "", "")
    text = inside + after
    try:
        if "/" not in text:
            return str(ipaddress.ip_address(text))
        network = ipaddress.ip_network(text, strict=False)
    except ValueError as error:
        raise NotUnderstoodError(f"'{text}' is not an address or a network") from error
    return {"prefix": {"addr": str(network.network_address), "len": network.prefixlen}}


def port_match(protocol: str, part: str, port: str) -> dict[str, Any]:
    return matched(payload(protocol, part), port_value(port))


def port_value(text: str) -> Any:
    """A port, a range ``20-30`` or a name, as nft's JSON has it."""
    first, dash, last = text.partition("-")
    if is_whole(first) and (not dash or is_whole(last)):
        return {"range": [int(first), int(last)]} if dash else int(first)
    return text


def forwarded(one: Element) -> Expr:
    """A forward-port: what it matches and where it leads."""
    expr: Expr = [port_match(one.get("protocol"), "dport", one.get("port"))]
    to_port, to_address = one.get("to-port"), one.get("to-addr").removeprefix("[").removesuffix("]")
    port = port_value(to_port) if to_port else None
    if to_address:
        expr.append({"dnat": {"addr": to_address, **({"port": port} if port is not None else {})}})
    else:
        expr.append({"redirect": {"port": port}})
    return expr


def mixed(source: dict[str, Any] | None, goal: dict[str, Any] | None) -> bool:
    """Whether two ends are addresses of different families."""
    ends = [one["match"]["left"].get("payload", {}).get("protocol") for one in (source, goal) if one is not None]
    return len(ends) == 2 and None not in ends and ends[0] != ends[1]


def limited(one: Element) -> dict[str, Any] | None:
    limit = one.child("limit")
    return None if limit is None else {"limit": {"text": f"rate {limit.get('value')}"}}


def verdict_of(one: Element) -> dict[str, Any]:
    if one.tag != "reject":
        return {one.tag: None}
    kind = one.get("type")
    if kind in ("tcp-reset", "tcp-rst"):
        return {"reject": {"type": "tcp reset"}}
    if kind in _REFUSALS:
        return {"reject": {"type": _REFUSALS[kind][0], "expr": _REFUSALS[kind][1]}}
    return {"reject": None}


def set_entry(text: str, kinds: list[str]) -> Any:
    """An entry of an ipset such as ``192.0.2.0/24``, ``192.0.2.1-192.0.2.9`` or ``192.0.2.1,tcp:80``."""
    parts = text.split(",")
    if len(parts) != len(kinds):
        raise NotUnderstoodError(f"'{text}' has {len(parts)} parts where {len(kinds)} were expected")
    out: list[Any] = []
    for part, kind in zip(parts, kinds, strict=True):
        if kind == "port":
            protocol, colon, port = part.rpartition(":")
            out += [protocol if colon else "tcp", port_value(port)]
        elif kind in ("ip", "net") and "-" in part:
            low, _, high = part.partition("-")
            out.append({"range": [low, high]})
        elif kind in ("ip", "net"):
            out.append(address_value(part))
        else:
            out.append(part)
    return out[0] if len(out) == 1 else {"concat": out}
