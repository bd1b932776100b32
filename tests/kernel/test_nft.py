"""Random nft rule sets: the JSON form, the text form and the kernel must agree, rule by rule, on what happens to packets.

Every rule counts, right before its verdict; the rules that a packet moves must be exactly those that the probe names.
"""

from __future__ import annotations

import json
import os
from collections import Counter
from collections.abc import Callable, Iterator

import pytest
from msgspec.structs import replace

from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Chain, Device, Rule, State
from aiguille.packets import Packet
from aiguille.readers import nftables
from aiguille.readers.files import decode
from tests.kernel.test_verdicts import PORTS, Maker
from tests.kernel.wire import INSIDE, OWN, Firewall

SEED = int(os.environ.get("AIGUILLE_KERNEL_SEED", "20261125"))
SETS, PACKETS = int(os.environ.get("AIGUILLE_KERNEL_SETS", "10")), 50
OPEN = "flush ruleset\ntable inet open {\n chain forward {\n type filter hook forward priority 0\n ct state new counter\n }\n}\n"


class NftMaker(Maker):
    """Makes rule sets in nft's own language; packets come from the maker for iptables."""

    def match(self, chain: str) -> str:
        rnd, parts = self.rnd, []
        if rnd.random() < 0.3:
            way = rnd.choice(('"v0"', '"v*"', '{ "v0", "v1" }', "@ways", '!= "v2"'))
            parts.append(f"iifname {way}")
        if chain == "forward" and rnd.random() < 0.25:
            parts.append(f'oifname {rnd.choice(("", "!= "))}"{rnd.choice(INSIDE)}"')
        if rnd.random() < 0.55:
            parts.append(self.address_match())
        draw = rnd.random()
        not_ = rnd.choice(("", "", "!= "))
        low = rnd.choice(PORTS)
        proto = rnd.choice(("tcp", "udp"))
        if draw < 0.15:
            parts.append(f"{proto} dport {not_}{{ {low}, {low + 1}-{low + 400}, 9000-9100 }}")
        elif draw < 0.25:
            parts.append(f"{proto} sport {rnd.choice(('1024-65535', '>= 30000', '< 30000', '53'))}")
        elif draw < 0.33:
            parts.append(f"meta l4proto {{ tcp, udp }} th dport {not_}{low}")
        elif draw < 0.41:
            name = "icmp type" if self.family == 4 else "icmpv6 type"
            parts.append(f"{name} {not_}{rnd.choice(('echo-request', '{ echo-request, echo-reply }'))}")
        elif draw < 0.51:
            flags = ("tcp flags syn", "tcp flags & (fin|syn|rst|ack) == syn", "tcp flags == syn|ack", "tcp flags ! syn",
                     "tcp flags { syn, ack, fin }", "tcp flags != syn", "tcp flags & (syn|ack) != 0")  # fmt: skip
            parts.append(rnd.choice(flags))
        elif draw < 0.58:
            parts.append(f"meta l4proto {not_}{rnd.choice(('tcp', '{ udp, 253 }', self.proto))}")
        elif draw < 0.66:
            parts.append(f"{self.ip} {rnd.choice(('saddr', 'daddr'))} . {proto} dport {not_}@pairs")
        if rnd.random() < 0.25:
            states = rnd.sample(("new", "established", "invalid", "untracked", "related"), 2)
            forms = (
                ",".join(states),
                f"{{ {', '.join(states)} }}",
                states[0],
                f"!= {states[0]}",
                f"!= {{ {states[0]} }}",
            )
            parts.append(f"ct state {rnd.choice(forms)}")
        if rnd.random() < 0.06:
            parts.append(f"meta mark {rnd.choice(('1', '!= 0', '& 0x2 == 0x2'))}")
        if rnd.random() < 0.05:
            parts.append(f"fib daddr type {rnd.choice(('', '!= '))}local")
        if rnd.random() < 0.04:
            parts.append(f"meta nfproto {rnd.choice(('ipv4', 'ipv6'))}")
        if rnd.random() < 0.02:
            parts.append("limit rate 1000/second burst 5 packets")
        return " ".join(parts)

    @property
    def ip(self) -> str:
        return "ip" if self.family == 4 else "ip6"

    def address_match(self) -> str:
        rnd = self.rnd
        hosts = self.sources[rnd.randrange(3)]
        one, two = sorted(rnd.sample(range(6), 2))
        not_ = rnd.choice(("", "", "!= "))
        mask = "255.255.255.3" if self.family == 4 else "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ff03"
        wanted = "10.0.0.1" if self.family == 4 else "2001:db8::1"
        side = rnd.choice(("saddr", "daddr"))
        return f"{self.ip} {side} " + rnd.choice(
            (
                f"{not_}{hosts[one]}",
                f"{not_}{hosts[0]}/{30 if self.family == 4 else 126}",
                f"{not_}{hosts[one]}-{hosts[two]}",
                f"{not_}{{ {hosts[one]}, {hosts[two]}, {OWN[self.family][0]} }}",
                f"{not_}@hosts",
                f"& {mask} == {wanted}",
                f"{OWN[self.family][rnd.randrange(3)]}",
            )
        )

    def ruleset(self) -> str:
        rnd = self.rnd
        hosts = [host for side in self.sources for host in side]
        kind = "ipv4_addr" if self.family == 4 else "ipv6_addr"
        pairs = sorted({f"{rnd.choice(hosts)} . {rnd.choice(PORTS)}" for _ in range(8)})
        names = ["input", "forward", "one", "two", "three"]
        out = ["flush ruleset", "table inet main {"]
        out.append(f" set hosts {{ type {kind}; flags interval; elements = {{ {', '.join(rnd.sample(hosts, 5))} }}; }}")
        out.append(f" set pairs {{ type {kind} . inet_service; elements = {{ {', '.join(pairs)} }}; }}")
        out.append(' set ways { type ifname; elements = { "v0", "v2" }; }')
        out.append(
            " map verdicts { type inet_service : verdict; elements = { 22 : drop, 53 : jump three, 443 : accept }; }"
        )
        chains: dict[str, list[str]] = {}
        for at, name in enumerate(names):
            rules = chains[name] = []
            later = names[max(2, at + 1) :]
            for _ in range(rnd.randint(2, 7)):
                draw = rnd.random()
                if later and draw < 0.25:
                    verdict = f"{rnd.choice(('jump', 'jump', 'goto'))} {rnd.choice(later)}"
                elif draw < 0.33:
                    verdict = "meta mark set " + rnd.choice(("1", "meta mark | 2"))
                elif draw < 0.4 and later:
                    verdict = self.verdict_map(later)
                else:
                    verdict = rnd.choice(
                        ("accept", "accept", "drop", "drop", "reject", "return", "log level debug", "continue")
                    )
                # nft refuses a rule that speaks of two protocols.
                match = self.address_match() if "vmap" in verdict else self.match(name)
                rules.append(f"  {match} counter {verdict}")
        for name in reversed(names):
            base = ""
            if name in ("input", "forward"):
                base = f"  type filter hook {name} priority {rnd.choice(('0', '-5', 'filter + 1'))}; policy {rnd.choice(('accept', 'drop'))};"
            rules = "\n".join([base, *chains[name], "  counter"])
            out.append(f" chain {name} {{\n{rules}\n }}")
        out.append("}")
        if rnd.random() < 0.5:
            early = next(
                m
                for m in iter(lambda: self.match("pre"), None)
                if m is not None and "@" not in m and "nfproto" not in m
            )
            out.append(
                f"table {self.ip} early {{\n chain pre {{\n  type filter hook prerouting priority raw;\n  udp dport 53 counter notrack\n"
                f"  {early} counter {rnd.choice(('accept', 'drop'))}\n  counter\n }}\n}}"
            )
        return "\n".join([*out, ""])

    def verdict_map(self, later: list[str]) -> str:
        chain = self.rnd.choice(later)
        return self.rnd.choice(
            (
                f"tcp dport vmap {{ 22 : drop, 80-443 : jump {chain}, 8080 : accept }}",
                "udp dport vmap @verdicts",
                f'iifname vmap {{ "v0" : jump {chain}, "v1" : accept }}',
                "ct state vmap { invalid : drop, established : accept, related : accept }",
                f'iifname . meta l4proto vmap {{ "v0" . tcp : drop, "v1" . udp : goto {chain} }}',
            )
        )


def places(device: Device) -> Iterator[tuple[str, Chain, Rule]]:
    for rulebase in device.rulebases:
        for chain, rule in rulebase.rules():
            yield rulebase.name, chain, rule


def counters(text: str) -> dict[tuple[str, str, int], int]:
    """Packets counted by (table, chain, rule number)."""
    numbers: Counter[tuple[str, str]] = Counter()
    out = {}
    for one in json.loads(text)["nftables"]:
        if rule := one.get("rule"):
            key = (f"{rule['family']} {rule['table']}", rule["chain"])
            numbers[key] += 1
            counted = [s["counter"]["packets"] for s in rule["expr"] if "counter" in s]
            out[*key, numbers[key]] = counted[0] if counted else 0
    return out


@pytest.mark.parametrize("family", [4, 6])
def test_both_forms_and_the_kernel_agree(family: int, record_property: Callable[[str, object], None]) -> None:
    counts: Counter[str] = Counter()
    met: set[frozenset[int]] = set()
    with Firewall() as firewall:
        for number in range(SETS):
            seed = SEED + 7000 + 1000 * number + 10 * family
            maker = NftMaker(seed, family, False)
            firewall.run("nft", "-f", "-", text=OPEN)
            established = []
            for there, back in maker.flows(5):
                firewall.send(there)
                firewall.send(back)
                established.append(there)
            made = maker.ruleset()
            firewall.run("nft", "-f", "-", text=made)
            text, data = firewall.run("nft", "list", "ruleset"), firewall.run("nft", "-j", "list", "ruleset")
            device = nftables.read([decode("rules.json", data.encode())], "kernel")
            other = nftables.read([decode("rules.nft", text.encode())], "kernel")
            for one in (device, other, nftables.read([decode("made.nft", made.encode())], "kernel")):
                assert (one.ledger.unread, one.ledger.problems) == ((), ()), (seed, made)
            blank = device.rulebases[0].where
            assert blank is not None
            for mine, theirs in zip(places(device), places(other), strict=True):
                assert (mine[0], mine[1].name) == (theirs[0], theirs[1].name), seed
                assert replace(mine[2], where=blank) == replace(theirs[2], where=blank), (seed, mine[2], theirs[2])
            assert [replace(s, where=blank) for s in device.sets] == [replace(s, where=blank) for s in other.sets]

            prober = Prober(Programs(device))
            before = counters(data)
            packets = [maker.packet(met) for _ in range(PACKETS - len(established))]
            packets += [replace(p, state=State.ESTABLISHED) for p in established]
            for packet in packets:
                moved = sent(firewall, packet, before)
                verdict = prober.probe(packet)
                counts["packets"] += 1
                if not verdict.certain or not all(v.matched for v in verdict.ways[0].visits):
                    counts["not certain"] += 1
                    continue
                visited = {
                    (v.rulebase.name, v.chain.name, v.rule.number)
                    for v in verdict.ways[0].visits
                    if v.rule is not None and " : " not in v.rule.action_text
                }
                # A counter before a map counts what the map then does nothing about, too.
                maps = {(n, c.name, r.number) for n, c, r in places(device) if " : " in r.action_text}
                told = f"seed {seed}: {packet.sentence()}\n{text}\nkernel {sorted(moved)}\nprobe {sorted(visited)}"
                assert moved - maps == visited - maps, told
                counts["agreed"] += 1
                counts[verdict.verdict.value] += 1
    assert counts["packets"] == SETS * PACKETS
    assert counts["agreed"] > 0.8 * counts["packets"]
    assert min(counts["accept"], counts["drop"], counts["reject"]) > 0
    record_property("kernel", f"nft IPv{family}: {SETS} rule sets from seed {SEED}, {dict(sorted(counts.items()))}")


def sent(firewall: Firewall, packet: Packet, before: dict[tuple[str, str, int], int]) -> set[tuple[str, str, int]]:
    """Send a packet; the rules that counted it."""
    firewall.send(packet)
    moved: set[tuple[str, str, int]] = set()
    for _ in range(20):
        now = counters(firewall.run("nft", "-j", "list", "ruleset"))
        moved |= {key for key in now if now[key] != before.get(key, 0)}
        settled = moved and now == before
        before.clear()
        before.update(now)
        if settled:
            return moved
    return moved
