"""A seeded generator of rule sets like those of large sites.

Eight zones, each with an interface and a /16; objects are hosts, small and large networks nested in one another; groups
hold 2 to 12 objects of one zone; 80 services, some in groups; one field in ten is "any", no two in one rule. Objects are drawn
from a pool that grows with the number of rules; hosts crowd in few networks, so that networks and groups overlap and many
rules end up hidden, by one rule or by the union of several.
"""

from __future__ import annotations

import json
import random
from dataclasses import dataclass, replace
from ipaddress import ip_address

ZONES = 8


@dataclass(frozen=True, slots=True)
class GeneratedRule:
    """One rule as plain ranges. Empty tuples stand for any.

    zone_in, zone_out: 0 to 7, None for any; source, destination: (first, last) of IPv4 addresses, both included
    protocol: 6 or 17, None for any; ports: destination ports
    """

    zone_in: int | None
    zone_out: int | None
    source: tuple[tuple[int, int], ...]
    destination: tuple[tuple[int, int], ...]
    protocol: int | None
    ports: tuple[int, ...]
    accept: bool


def generate(count: int, seed: int = 20261101) -> list[GeneratedRule]:
    """`count` rules; equal seeds give equal rules."""
    rnd = random.Random(seed)
    pool = max(24, count // 10)
    objects = [_objects(rnd, zone, pool) for zone in range(ZONES)]
    groups = [[_group(rnd, objects[zone]) for _ in range(max(6, pool // 4))] for zone in range(ZONES)]
    services = [(rnd.choice((6, 6, 6, 17)), rnd.randrange(1, 10000)) for _ in range(80)]
    return [_rule(rnd, objects, groups, services) for _ in range(count)]


def _objects(rnd: random.Random, zone: int, count: int) -> list[tuple[int, int]]:
    base = (10 << 24) + (zone << 16)
    out = []
    for _ in range(count):
        bits = rnd.choices((32, 28, 24, 20, 16), (50, 12, 25, 10, 3))[0]
        # Hosts crowd in few networks, as they do in reality.
        net = rnd.randrange(48) << 8 if rnd.random() < 0.8 else rnd.randrange(256) << 8
        first = (base + net + rnd.randrange(256)) >> (32 - bits) << (32 - bits)
        out.append((first, first + (1 << (32 - bits)) - 1))
    return out


def _group(rnd: random.Random, objects: list[tuple[int, int]]) -> tuple[tuple[int, int], ...]:
    return tuple(sorted(set(rnd.choices(objects, k=rnd.randint(2, 12)))))


def _rule(
    rnd: random.Random,
    objects: list[list[tuple[int, int]]],
    groups: list[list[tuple[tuple[int, int], ...]]],
    services: list[tuple[int, int]],
) -> GeneratedRule:
    here, there = rnd.sample(range(ZONES), 2)
    anything = [rnd.random() < 0.1 for _ in range(3)]
    while sum(anything) > 1:
        anything = [rnd.random() < 0.1 for _ in range(3)]

    def ends(zone: int) -> tuple[tuple[int, int], ...]:
        return (rnd.choice(objects[zone]),) if rnd.random() < 0.5 else rnd.choice(groups[zone])

    protocol, port = rnd.choice(services)
    ports: tuple[int, ...] = (port,)
    if rnd.random() < 0.3:
        alike = [p for proto, p in services if proto == protocol]
        ports = tuple(sorted(set(rnd.choices(alike, k=rnd.randint(2, 12)))))
    return GeneratedRule(
        None if rnd.random() < 0.1 else here,
        None if rnd.random() < 0.1 else there,
        () if anything[0] else ends(here),
        () if anything[1] else ends(there),
        None if anything[2] else protocol,
        () if anything[2] else ports,
        rnd.random() < 0.75,
    )


_COMMON = ((6, 22), (6, 25), (6, 80), (6, 443), (6, 3306), (6, 5432), (6, 8080), (17, 53), (17, 123), (17, 161))


def hosting(count: int, seed: int = 20261102) -> list[GeneratedRule]:
    """Rules as they pile up where servers of hundreds of tenants stand, for figures on what the tool was not tuned on.

    A tenant has a network of 32 to 256 addresses behind one of seven interfaces; rules open a few of ten services on its servers, to
    anybody, to a tenant next door, or to offices of 1 to 6 networks of any size; one in eight refuses. Requests come again, as nobody
    looks whether they are met already.
    """
    rnd = random.Random(seed)
    tenants = []
    for number in range(max(20, count // 25)):
        bits = rnd.choice((24, 25, 26, 26, 27))
        first = (172 << 24) + (16 << 16) + (number << 8)
        offices = tuple(_anywhere(rnd) for _ in range(rnd.randint(1, 6)))
        tenants.append((1 + number % 7, (first, first + (1 << (32 - bits)) - 1), offices))
    out: list[GeneratedRule] = []
    while len(out) < count:
        if out and rnd.random() < 0.05:
            out.append(replace(rnd.choice(out[-400:]), accept=rnd.random() < 0.9))
            continue
        zone, (first, last), offices = rnd.choice(tenants)
        whole = rnd.random() < 0.2
        servers = sorted({rnd.randint(first + 1, last - 1) for _ in range(rnd.randint(1, 5))})
        other = rnd.choice(tenants)
        came, source = rnd.choice(((0, ()), (0, offices), (0, offices[:1]), (other[0], (other[1],))))
        protocol = rnd.choice(_COMMON)[0]
        ports = sorted({port for kind, port in rnd.choices(_COMMON, k=rnd.randint(1, 4)) if kind == protocol})
        anything = not ports or rnd.random() < 0.05
        out.append(
            GeneratedRule(
                None if rnd.random() < 0.2 else came,
                zone if rnd.random() < 0.7 else None,
                source,
                ((first, last),) if whole else tuple((one, one) for one in servers),
                None if anything else protocol,
                () if anything else tuple(ports),
                rnd.random() < 0.875,
            )
        )
    return out


def _anywhere(rnd: random.Random) -> tuple[int, int]:
    """A network of any size somewhere outside."""
    bits = rnd.choice((32, 32, 29, 28, 24, 24, 22, 16))
    first = rnd.randrange(20 << 24, 160 << 24) >> (32 - bits) << (32 - bits)
    return first, first + (1 << (32 - bits)) - 1


def widened(address: int, last: int = 0) -> int:
    """The IPv6 address for one of IPv4: that is the network below 2001:db8::/32, and `last` its host (RFC 3849)."""
    return 0x20010DB8 << 96 | address << 64 | last


def as_ipv6(rules: list[GeneratedRule]) -> list[GeneratedRule]:
    """The same rules with a network of IPv6 for every address of IPv4."""
    return [
        replace(
            rule,
            source=tuple((widened(a), widened(b, (1 << 64) - 1)) for a, b in rule.source),
            destination=tuple((widened(a), widened(b, (1 << 64) - 1)) for a, b in rule.destination),
        )
        for rule in rules
    ]


def as_dump(rules: list[GeneratedRule]) -> str:
    """The rules as a dump of iptables-save, or of ip6tables-save, which look alike; several addresses stand behind one option,
    as iptables-restore accepts them."""
    wide = any(first >> 32 for rule in rules for first, _ in rule.source + rule.destination)
    lines = [
        f"# Generated by ip{'6' * wide}tables-save v1.8.9 on Sun Nov  1 08:00:00 2026",
        "*filter",
        ":INPUT DROP [0:0]",
        ":FORWARD DROP [0:0]",
        ":OUTPUT ACCEPT [0:0]",
    ]
    for number, rule in enumerate(rules):
        words = [f"[{number}:{60 * number}] -A FORWARD"]
        words += [
            f"-{option} {','.join(map(_network, v))}"
            for option, v in (("s", rule.source), ("d", rule.destination))
            if v
        ]
        words += [f"-{option} zone{v}" for option, v in (("i", rule.zone_in), ("o", rule.zone_out)) if v is not None]
        if rule.protocol is not None:
            name = "tcp" if rule.protocol == 6 else "udp"
            if len(rule.ports) == 1:
                words.append(f"-p {name} -m {name} --dport {rule.ports[0]}")
            else:
                words.append(f"-p {name} -m multiport --dports {','.join(map(str, rule.ports))}")
        words.append(f'-m comment --comment "request {number % 997}" -j {"ACCEPT" if rule.accept else "DROP"}')
        lines.append(" ".join(words))
    return "\n".join([*lines, "COMMIT", ""])


def _network(span: tuple[int, int]) -> str:
    first, last = span
    whole = 32 if first < 1 << 32 else 128
    return f"{ip_address(first)}/{whole - (last - first).bit_length()}"


def as_nft(rules: list[GeneratedRule]) -> tuple[str, str]:
    """The rules as `nft list ruleset` prints them and as `nft -j list ruleset` does, in one line."""
    lines = ["table inet site {", "\tchain forward {", "\t\ttype filter hook forward priority filter; policy drop;"]
    objects: list[dict[str, object]] = [
        {"metainfo": {"version": "1.0.6", "json_schema_version": 1}},
        {"table": {"family": "inet", "name": "site", "handle": 1}},
        {"chain": {"family": "inet", "table": "site", "name": "forward", "handle": 1, "type": "filter", "hook": "forward",
                   "prio": 0, "policy": "drop"}},
    ]  # fmt: skip
    for number, rule in enumerate(rules):
        words: list[str] = []
        expr: list[dict[str, object]] = []

        def match(left: dict[str, object], text: str, right: object, said: str, words=words, expr=expr) -> None:  # type: ignore[no-untyped-def]
            words.append(f"{text} {said}")
            expr.append({"match": {"op": "==", "left": left, "right": right}})

        for key, zone in (("iifname", rule.zone_in), ("oifname", rule.zone_out)):
            if zone is not None:
                match({"meta": {"key": key}}, key, f"zone{zone}", f'"zone{zone}"')
        for field, spans in (("saddr", rule.source), ("daddr", rule.destination)):
            if spans:
                values = [_as_prefix(span) for span in spans]
                right = values[0] if len(values) == 1 else {"set": values}
                said = ", ".join(map(_short, spans))
                payload: dict[str, object] = {"payload": {"protocol": "ip", "field": field}}
                match(payload, f"ip {field}", right, said if len(spans) == 1 else f"{{ {said} }}")
        if rule.protocol is not None:
            name = "tcp" if rule.protocol == 6 else "udp"
            ports = rule.ports[0] if len(rule.ports) == 1 else {"set": list(rule.ports)}
            said = ", ".join(map(str, rule.ports))
            payload = {"payload": {"protocol": name, "field": "dport"}}
            match(payload, f"{name} dport", ports, said if len(rule.ports) == 1 else f"{{ {said} }}")
        verdict = "accept" if rule.accept else "drop"
        comment = f"request {number % 997}"
        words.append(f'counter packets {number} bytes {60 * number} {verdict} comment "{comment}"')
        expr += [{"counter": {"packets": number, "bytes": 60 * number}}, {verdict: None}]
        lines.append("\t\t" + " ".join(words))
        objects.append(
            {
                "rule": {
                    "family": "inet",
                    "table": "site",
                    "chain": "forward",
                    "handle": number + 2,
                    "comment": comment,
                    "expr": expr,
                }
            }
        )
    return "\n".join([*lines, "\t}", "}", ""]), json.dumps({"nftables": objects}) + "\n"


def _short(span: tuple[int, int]) -> str:
    return _network(span).removesuffix("/32")


def _as_prefix(span: tuple[int, int]) -> object:
    address, _, length = _network(span).partition("/")
    return address if length == "32" else {"prefix": {"addr": address, "len": int(length)}}
