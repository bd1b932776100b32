"""Marks that rules of the export set: sets of packets say nothing with certainty that the walk of one packet denies."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

import aiguille
from aiguille.analysis.decide import Decider
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Direction, State
from aiguille.packets import Packet
from aiguille.readers import iptables
from aiguille.readers.files import decode

DUMP = """*mangle
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
:SET - [0:0]
{mangle}
COMMIT
*nat
:PREROUTING ACCEPT [0:0]
{nat}
COMMIT
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
{filter}
COMMIT
"""
PORTS = (22, 80, 8080, 3128)


class Sets:
    """Random rule sets that set marks, translate, and ask for marks."""

    def __init__(self, seed: int) -> None:
        self.draw = random.Random(seed)

    def some(self, *options: str) -> str:
        return self.draw.choice(options)

    def match(self) -> str:
        port = f"-p tcp -m tcp --dport {self.draw.choice(PORTS)}"
        return " ".join(
            filter(
                None, (self.some("", "-i eth0", "-i eth1"), self.some("", "-s 10.0.0.0/8"), self.some("", port, port))
            )
        )

    def test(self) -> str:
        return (
            f"-m mark {self.some('', '!')} --mark {self.some('0x0', '0x1', '0x1/0x1', '0x2/0x2', '0x10/0x30')}".replace(
                "  ", " "
            )
        )

    def dump(self) -> str:
        sets = ("0x1/0xffffffff", "0x1/0x1", "0x2/0x2", "0x10/0x30", "0x0/0x1", "0x3/0x0")
        mangle = [f"-A {self.some('PREROUTING', 'SET', 'POSTROUTING')} {self.match()} -j MARK --set-xmark {self.some(*sets)}"
                  for _ in range(self.draw.randint(1, 3))]  # fmt: skip
        mangle += [f"-A PREROUTING {self.match()} -j SET" for _ in range(self.draw.randint(0, 2))]
        targets = ("DNAT --to-destination 10.0.0.7:22", "DNAT --to-destination 10.0.0.7", "REDIRECT --to-ports 3128")
        nat = [f"-A PREROUTING {self.match()} -p tcp -j {self.some(*targets)}" for _ in range(self.draw.randint(0, 2))]
        nat = [line if line.count("-p tcp") == 1 else line.replace(" -p tcp -j", " -j") for line in nat]
        rules = [
            f"-A {chain} {self.match()} {self.some('', self.test(), self.test())} -j {self.some('ACCEPT', 'DROP')}"
            for chain in ("INPUT", "FORWARD")
            for _ in range(4)
        ]
        return DUMP.format(mangle="\n".join(mangle), nat="\n".join(nat), filter="\n".join(rules))

    def packet(self) -> Packet:
        leaves = self.draw.random() < 0.5
        to = self.draw.choice((0x0A000007, 0x0A000008, 0xC0000201))
        source = self.draw.choice((0x0A010101, 0xC6336407))
        state = self.draw.choice((State.NEW, State.NEW, State.ESTABLISHED))
        enters = self.some("eth0", "eth1", "eth2")
        return Packet(
            4, enters, "eth3" if leaves else "", source, to, 6, 40000, self.draw.choice(PORTS), None, None, 2, state
        )


@pytest.mark.parametrize("seed", range(60))
def test_certain_of_sets_is_certain_of_packets(seed: int) -> None:
    sets = Sets(seed)
    device = iptables.read([decode("rules.v4", sets.dump().encode())], "gw")
    programs = Programs(device)
    prober = Prober(programs)
    deciders = {d: Decider(p) for d in Direction if (p := programs.get(4, d)) is not None}
    for _ in range(40):
        sent = sets.packet()
        for way in (verdict := prober.probe(sent)).ways:
            seen = next(visit for visit in reversed(way.visits) if visit.rulebase.name.endswith("filter")).packet
            direction = Direction.THROUGH_DEVICE if seen.out_interface else Direction.TO_DEVICE
            decider = deciders[direction]
            said = {end.accepts for end in decider.ends(seen.point(decider.program.space))}
            assert said >= {not way.verdict.refuses}, (
                f"{sent.sentence()} seen as {seen.sentence()}: {said}, {verdict.verdict}"
            )


OPEN = "-A INPUT -m mark --mark 0x10 -j ACCEPT\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT"


@pytest.mark.parametrize(
    ("mangle", "found"),
    [
        # A mark for one port hides nothing of the others, and what gets in by it is told with the port to send to.
        ("-A PREROUTING -i eth0 -p tcp -m tcp --dport 8080 -j MARK --set-xmark 0x10/0xffffffff", {"ssh", "8080"}),
        # The jump that leads to where marks are set counts as well.
        (
            "-A PREROUTING -i eth0 -p tcp -m tcp --dport 8080 -j SET\n-A SET -j MARK --set-xmark 0x10/0xffffffff",
            {"ssh", "8080"},
        ),
        # What leaves is marked too late for this, and nothing else marks: who does is not known.
        ("-A POSTROUTING -j MARK --set-xmark 0x10/0xffffffff", {"ssh"}),
        # A rule base that refuses what leaves by a mark has marks of its own.
        (
            "-A PREROUTING -i eth0 -j MARK --set-xmark 0x10/0xffffffff\n-A POSTROUTING -m mark --mark 0x2 -j DROP",
            {"ssh"},
        ),
        # Marks kept with connections are not followed.
        (
            "-A PREROUTING -j CONNMARK --restore-mark\n-A PREROUTING -i eth0 -j MARK --set-xmark 0x10/0xffffffff",
            {"ssh"},
        ),
    ],
)
def test_a_mark_hides_what_may_carry_it_alone(mangle: str, found: set[str], tmp_path: Path) -> None:
    nat = "-A PREROUTING -i eth0 -p tcp -m tcp --dport 8080 -j REDIRECT --to-ports 3128"
    text = DUMP.format(mangle=mangle, nat=nat, filter=OPEN)
    (tmp_path / "rules.v4").write_text(text, encoding="utf-8")
    (tmp_path / "ip-route.json").write_text(
        '[{"dst": "default", "dev": "eth0", "gateway": "192.0.2.254"}]', encoding="utf-8"
    )
    (tmp_path / "ip-addr.json").write_text(
        '[{"ifname": "eth0", "flags": ["UP"], "addr_info": [{"family": "inet", "local": "192.0.2.1", "prefixlen": 24}]}]',
        encoding="utf-8",
    )
    audit = aiguille.audit(aiguille.read([tmp_path]))
    said = " ".join(f"{one.detail} {one.proof.packet.dport}" for one in audit.findings
                    if one.proof is not None and one.proof.certain and one.check.startswith("access."))  # fmt: skip
    assert {word for word in ("ssh", "8080") if word in said} == found
