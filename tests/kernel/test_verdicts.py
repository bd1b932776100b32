"""The kernel as the judge: random rule sets loaded for real, packets sent, and the deciding rule read off the counters.

The seed of a rule set is printed on failure, and all counts at the end of every run.
"""

from __future__ import annotations

import os
import random
from collections import Counter
from collections.abc import Callable
from ipaddress import ip_network

import pytest

from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober, Verdict
from aiguille.model import Action, Device, State
from aiguille.packets import Packet
from aiguille.readers import iptables
from aiguille.readers.files import decode
from tests.kernel.wire import BEHIND, INSIDE, OWN, Firewall, address

SEED = int(os.environ.get("AIGUILLE_KERNEL_SEED", "20261125"))
SETS, PACKETS = int(os.environ.get("AIGUILLE_KERNEL_SETS", "12")), 50
"""Rule sets for each of four runs (two families, with and without translation), and packets for each."""

OPEN = (
    "*raw\n:PREROUTING ACCEPT [0:0]\nCOMMIT\n*mangle\n:PREROUTING ACCEPT [0:0]\nCOMMIT\n"
    "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT DROP [0:0]\n-A INPUT -m conntrack --ctstate NEW\nCOMMIT\n"
)
"""Loaded while flows are opened, in place of what the rule set before has left in any table."""

EACH_KIND = pytest.mark.parametrize(
    ("family", "translate"),
    [(4, False), (4, True), (6, False), (6, True)],
    ids=["4-plain", "4-translated", "6-plain", "6-translated"],
)
"""Rule sets of each family, with and without translation."""

CHAINS = ("INPUT", "FORWARD", "one", "two", "three")
PORTS = (22, 53, 80, 443, 8080)
ICMP = {4: (8, 0, 13), 6: (128, 129)}


class Maker:
    """Makes rule sets and packets that meet one another often."""

    def __init__(self, seed: int, family: int, translate: bool) -> None:
        self.rnd = random.Random(seed)
        self.family = family
        self.translate = translate
        self.sport = 20000 + seed * 997 % 20000
        hosts = [ip_network(text) for text in BEHIND[family]]
        self.sources = [[str(net[1 + n]) for n in range(6)] for net in hosts]
        self.proto = "icmp" if family == 4 else "ipv6-icmp"

    def addresses(self, mine: bool) -> str:
        rnd, bits = self.rnd, 32 if self.family == 4 else 128
        side = rnd.randrange(3)
        host = rnd.choice(self.sources[side])
        draw = rnd.random()
        option = "-s" if mine else "-d"
        negated = "! " if rnd.random() < 0.25 else ""
        if draw < 0.35:
            return f"{negated}{option} {host}/{rnd.choice((bits, bits - 1, bits - 2, bits - 8))}"
        if draw < 0.5:
            first, last = sorted(rnd.sample(range(6), 2))
            name = "src" if mine else "dst"
            return f"-m iprange {negated}--{name}-range {self.sources[side][first]}-{self.sources[side][last]}"
        if draw < 0.6:
            mask = "255.0.0.3" if self.family == 4 else "ffff::3"
            return f"{negated}{option} {host}/{mask}"
        own = OWN[self.family][side]
        return f"{negated}{option} {own if not mine else host}/{bits}"

    def ports(self, protocol: str) -> str:
        rnd = self.rnd
        negated = "! " if rnd.random() < 0.3 else ""
        draw = rnd.random()
        if draw < 0.4:
            low = rnd.choice(PORTS)
            return f"-p {protocol} -m {protocol} {negated}--dport {low}:{max(low, rnd.choice(PORTS))}"
        if draw < 0.6:
            return f"-p {protocol} -m {protocol} {negated}--sport {rnd.choice(('1024:65535', '0:30000', '53'))}"
        chosen = ",".join(map(str, sorted(rnd.sample(PORTS, 2))))
        return f"-p {protocol} -m multiport {negated}--{rnd.choice(('dports', 'ports'))} {chosen},9000:9100"

    def match(self, chain: str) -> str:
        rnd, parts = self.rnd, []
        if rnd.random() < 0.35:
            parts.append(f"{'! ' if rnd.random() < 0.3 else ''}-i {rnd.choice((*INSIDE, 'v+'))}")
        if chain == "FORWARD" and rnd.random() < 0.3:
            parts.append(f"{'! ' if rnd.random() < 0.3 else ''}-o {rnd.choice(INSIDE)}")
        if rnd.random() < 0.4:
            parts.append(self.addresses(mine=True))
        elif rnd.random() < 0.4:
            parts.append(self.addresses(mine=False))
        draw = rnd.random()
        if draw < 0.3:
            parts.append(self.ports(rnd.choice(("tcp", "udp"))))
        elif draw < 0.4:
            name = "icmp --icmp-type" if self.family == 4 else "icmp6 --icmpv6-type"
            parts.append(f"-p {self.proto} -m {name} {rnd.choice(ICMP[self.family])}")
        elif draw < 0.5:
            flags = rnd.choice(("SYN SYN", "SYN,ACK SYN", "FIN,SYN,RST,ACK SYN", "ALL NONE", "ACK ACK"))
            parts.append(f"-p tcp -m tcp {'! ' if rnd.random() < 0.3 else ''}--tcp-flags {flags}")
        elif draw < 0.58:
            parts.append(f"{'! ' if rnd.random() < 0.4 else ''}-p {rnd.choice(('tcp', 'udp', self.proto, '253'))}")
        if rnd.random() < 0.25:
            states = ",".join(rnd.sample(("NEW", "ESTABLISHED", "INVALID", "UNTRACKED", "RELATED"), rnd.choice((1, 2))))
            parts.append(f"-m conntrack {'! ' if rnd.random() < 0.3 else ''}--ctstate {states}")
        if rnd.random() < 0.06:
            parts.append(f"-m mark {'! ' if rnd.random() < 0.4 else ''}--mark {rnd.choice(('0x1', '0x2/0x2', '0x0'))}")
        if rnd.random() < 0.05:
            parts.append(f"-m addrtype {'! ' if rnd.random() < 0.4 else ''}--dst-type LOCAL")
        if rnd.random() < 0.12:
            name, roles = rnd.choice((("hosts", 1), ("nets", 1), ("pairs", 2), ("both", 1)))
            ways = ",".join(rnd.choice(("src", "dst")) for _ in range(roles))
            parts.append(f"-m set {'! ' if rnd.random() < 0.4 else ''}--match-set {name} {ways}")
        if rnd.random() < 0.015:
            parts.append("-m limit --limit 1000/sec")
        return " ".join(parts)

    def sets(self) -> str:
        """Sets of every kind the rules look into, with entries that exclude."""
        rnd, family = self.rnd, "inet" if self.family == 4 else "inet6"
        hosts = [host for side in self.sources for host in side]
        length = {4: (30, 29, 24), 6: (126, 125, 120)}[self.family]
        lines = [f"create hosts hash:ip family {family}", f"create nets hash:net family {family}"]
        lines += [f"create pairs hash:net,port family {family}", "create both list:set"]
        lines += [f"add hosts {host}" for host in rnd.sample(hosts, 5)]
        seen = {f"{ip_network(f'{rnd.choice(hosts)}/{rnd.choice(length)}', strict=False)}" for _ in range(6)}
        lines += [f"add nets {net}{' nomatch' if rnd.random() < 0.4 else ''}" for net in sorted(seen)]
        pairs = {
            f"{ip_network(f'{rnd.choice(hosts)}/{rnd.choice(length)}', strict=False)},{rnd.choice(('tcp', 'udp'))}:{rnd.choice(PORTS)}"
            for _ in range(12)
        }
        lines += [f"add pairs {pair}{' nomatch' if rnd.random() < 0.2 else ''}" for pair in sorted(pairs)]
        return "\n".join([*lines, "add both hosts", "add both nets", ""])

    def rules(self) -> str:
        rnd, lines = self.rnd, ["*raw", ":PREROUTING ACCEPT [0:0]"]
        if rnd.random() < 0.5:
            lines.append(f"-A PREROUTING {self.ports('udp')} -j CT --notrack")
        if rnd.random() < 0.3:
            lines.append(f"-A PREROUTING {self.match('PREROUTING')} -j DROP")
        lines += ["COMMIT", "*mangle", ":PREROUTING ACCEPT [0:0]"]
        for _ in range(rnd.randrange(3)):
            lines.append(
                f"-A PREROUTING {self.match('PREROUTING')} -j MARK --set-xmark {rnd.choice(('0x1/0xffffffff', '0x2/0x2'))}"
            )
        lines.append("COMMIT")
        if self.translate:
            lines += self.translations()
        lines += [
            "*filter",
            *(f":{c} {rnd.choice(('ACCEPT', 'DROP'))} [0:0]" for c in CHAINS[:2]),
            ":OUTPUT DROP [0:0]",
        ]
        lines += [f":{c} - [0:0]" for c in CHAINS[2:]]
        for at, chain in enumerate(CHAINS):
            later = [c for c in CHAINS[max(2, at + 1) :]]
            for _ in range(rnd.randint(2, 7)):
                draw = rnd.random()
                if later and draw < 0.3:
                    action = f"-{rnd.choice('jjg')} {rnd.choice(later)}"
                else:
                    action = "-j " + rnd.choice(
                        ("ACCEPT", "ACCEPT", "DROP", "DROP", "REJECT", "RETURN", "LOG --log-level 7")
                    )
                lines.append(f"-A {chain} {self.match(chain)} {action}")
        return "\n".join([*lines, "COMMIT", ""])

    def translations(self) -> list[str]:
        rnd = self.rnd
        lines = [
            "*nat",
            ":PREROUTING ACCEPT [0:0]",
            ":INPUT ACCEPT [0:0]",
            ":OUTPUT ACCEPT [0:0]",
            ":POSTROUTING ACCEPT [0:0]",
        ]
        for _ in range(rnd.randint(1, 3)):
            target = rnd.choice(self.sources[2])
            shown = f"[{target}]" if self.family == 6 else target
            port = f":{rnd.choice(PORTS)}" if rnd.random() < 0.6 else ""
            protocol = rnd.choice(("tcp", "udp"))
            way = "" if rnd.random() < 0.5 else f"-i {rnd.choice(INSIDE[:2])} "
            if rnd.random() < 0.6:
                # Only what would leave by v2 anyhow is sent elsewhere, so that the interface out stays what the packet says.
                net = BEHIND[self.family][2]
                to = f"-j DNAT --to-destination {shown if port else target}{port}"
                lines.append(
                    f"-A PREROUTING {way}-d {net} -p {protocol} -m {protocol} --dport {rnd.choice(PORTS)} {to}"
                )
            else:
                own = OWN[self.family][rnd.randrange(3)]
                lines.append(
                    f"-A PREROUTING {way}-d {own} -p {protocol} -m {protocol} --dport {rnd.choice(PORTS)} "
                    f"-j REDIRECT --to-ports {rnd.choice(PORTS)}"
                )
        lines.append("-A POSTROUTING -o v1 -j MASQUERADE")
        return [*lines, "COMMIT"]

    def packet(self, met: set[frozenset[int]]) -> Packet:
        """A packet that opens a connection, or belongs to none, to the firewall or through it.

        met: pairs of addresses that spoke a protocol without ports before; a second such packet would be no new connection
        """
        while True:
            packet = self._any_packet()
            pair = frozenset((packet.source, packet.destination))
            if packet.protocol != 253:
                return packet
            # Translated sources could make the answer to one such packet out of another.
            if not self.translate and pair not in met:
                met.add(pair)
                return packet

    def _any_packet(self) -> Packet:
        rnd = self.rnd
        inward = rnd.randrange(3)
        source = address(rnd.choice(self.sources[inward]))
        if rnd.random() < 0.45:
            outward, destination = "", address(OWN[self.family][rnd.randrange(3)])
        else:
            leaves = rnd.choice([n for n in range(3) if n != inward])
            outward, destination = INSIDE[leaves], address(rnd.choice(self.sources[leaves]))
        self.sport += 1
        protocol = rnd.choice((6, 6, 6, 17, 17, 1 if self.family == 4 else 58, 253))
        state, flags, sport, dport, kind = State.NEW, None, None, None, None
        if protocol in (6, 17):
            sport, dport = self.sport, rnd.choice((*PORTS, 9050, 12345))
        if protocol == 6:
            flags = rnd.choice((2, 2, 2, 16, 18, 1, 0))
            # Without a connection that it belongs to, only SYN alone is anything but invalid (tcp_loose is off).
            state = State.NEW if flags == 2 else State.INVALID
        if protocol in (1, 58):
            kind = rnd.choice(ICMP[self.family])
            state = State.INVALID if kind in (0, 129) else State.NEW
        code = None if kind is None else 0
        return Packet(
            self.family, INSIDE[inward], outward, source, destination, protocol, sport, dport, kind, code, flags, state
        )

    def flows(self, count: int) -> list[tuple[Packet, Packet]]:
        """UDP packets through the firewall, each with the packet that answers it."""
        out = []
        for _ in range(count):
            a, b = self.rnd.sample(range(3), 2)
            self.sport += 1
            there = Packet(
                self.family, INSIDE[a], INSIDE[b], address(self.rnd.choice(self.sources[a])),
                address(self.rnd.choice(self.sources[b])), 17, self.sport, self.rnd.choice(PORTS),
            )  # fmt: skip
            back = Packet(
                self.family, INSIDE[b], INSIDE[a], there.destination, there.source, 17, there.dport, there.sport,
            )  # fmt: skip
            out.append((there, back))
        return out


def decided(
    moved: dict[tuple[str, str, int | str], int], device: Device, packet: Packet, verdict: Verdict
) -> set[tuple[str, str, int | str]]:
    """The rules or policies that can have decided, by the counters that moved: a refusal anywhere, else the filter's accept.

    Policies count that a way of the verdict names, as what the device sends in answer moves others.
    """
    named = {way.decided_by.chain.name for way in verdict.ways if way.decided_by.rule is None}
    stages = named or {"FORWARD" if packet.out_interface else "INPUT"}
    refused, accepted = set(), set()
    for table, chain, number in moved:
        if table == "nat" or (number == "policy" and chain not in stages):
            continue
        rulebase = next(r for r in device.rulebases if r.name == table)
        found = rulebase.chain(chain)
        assert found is not None
        action = found.policy if number == "policy" else found.rules[int(number) - 1].action
        if action in (Action.DROP, Action.REJECT):
            refused.add((table, chain, number))
        elif action is Action.ACCEPT and table == "filter":
            accepted.add((table, chain, number))
    return refused or accepted


@EACH_KIND
def test_verdict_and_deciding_rule_are_the_kernels(
    family: int, translate: bool, record_property: Callable[[str, object], None]
) -> None:
    counts: Counter[str] = Counter()
    met: set[frozenset[int]] = set()
    with Firewall() as firewall:
        for number in range(SETS):
            seed = SEED + 1000 * number + 10 * family + translate
            maker = Maker(seed, family, translate)
            firewall.load(family, OPEN)
            established = []
            if not translate:
                for there, back in maker.flows(6):
                    firewall.send(there)
                    firewall.send(back)
                    established.append(there)
            firewall.load_sets(maker.sets())
            dump = maker.rules()
            firewall.load(family, dump)
            saved = firewall.run("iptables-save" if family == 4 else "ip6tables-save")
            members = firewall.run("ipset", "save")
            device = iptables.read([decode("dump", saved.encode()), decode("sets", members.encode())], "kernel")
            assert not device.ledger.unread, (seed, device.ledger.unread)
            assert not device.ledger.problems, (seed, device.ledger.problems)
            prober = Prober(Programs(device))
            before = firewall.counters(family)
            packets = [maker.packet(met) for _ in range(PACKETS - len(established))]
            packets += [Packet(**{**_fields(p), "state": State.ESTABLISHED}) for p in established]
            for packet in packets:
                moved = firewall.counted(packet, before)
                verdict = prober.probe(packet)
                counts["packets"] += 1
                told = f"seed {seed}: {packet.sentence()}\n{saved}\n{members}\nmoved {sorted(map(str, moved))}"
                assert moved, f"the kernel never saw it: {told}"
                if not verdict.certain:
                    counts["not certain"] += 1
                    continue
                truth = decided(moved, device, packet, verdict)
                said = {
                    (
                        way.decided_by.rulebase.name,
                        way.decided_by.chain.name,
                        "policy" if way.decided_by.rule is None else way.decided_by.rule.number,
                    )
                    for way in verdict.ways
                }
                assert truth & said, f"kernel {truth}, probe {said}: {told}"
                counts["agreed"] += 1
                counts[verdict.verdict.value] += 1
    assert counts["packets"] == SETS * PACKETS
    assert counts["agreed"] > 0.8 * counts["packets"]
    assert min(counts["accept"], counts["drop"], counts["reject"]) > 0
    kind = "with translation" if translate else "plain"
    record_property("kernel", f"IPv{family} {kind}: {SETS} rule sets from seed {SEED}, {dict(sorted(counts.items()))}")


def _fields(packet: Packet) -> dict[str, object]:
    return {name: getattr(packet, name) for name in Packet.__slots__}
