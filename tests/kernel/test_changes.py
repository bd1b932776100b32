"""Changes made for real, with iptables and nft themselves, lead to what `--as-if` says they would."""

from __future__ import annotations

import random
from datetime import date

import pytest

from aiguille.analysis.changes import as_if
from aiguille.analysis.compare import changes, differences
from aiguille.analysis.edits import Edit, rule_edits
from aiguille.estate.wordings import in_their_words
from aiguille.model import Device, Estate
from aiguille.readers import iptables, nftables
from aiguille.readers.files import decode
from tests.kernel.conftest import Namespace

SEED = 20261128

CONDITIONS = (
    "-p tcp --dport 22", "-s 10.0.0.0/24 -p tcp --dport 443", "-p udp --dport 53:60", "-i eth0 -p tcp", "! -s 192.0.2.0/24 -p icmp",
    "-m conntrack --ctstate ESTABLISHED,RELATED", "-s 198.51.100.7", "-p tcp -m multiport --dports 25,80,8000:8100",
)  # fmt: skip
EXPRESSIONS = (
    "tcp dport 22", "ip saddr 10.0.0.0/24 tcp dport 443", "udp dport 53-60", 'iifname "eth0" meta l4proto tcp',
    "ct state established,related", "ip saddr { 198.51.100.7, 198.51.100.9 }", "tcp dport { 25, 80, 8000-8100 }",
)  # fmt: skip


def estate(device: Device) -> Estate:
    return Estate((device,), as_of=date(2026, 11, 28))


def dump(namespace: Namespace) -> Device:
    return iptables.read([decode("rules.v4", namespace.run("iptables-save").encode())], "gw")


def listing(namespace: Namespace) -> Device:
    return nftables.read([decode("rules.nft", namespace.run("nft", "list", "ruleset").encode())], "gw")


@pytest.mark.parametrize("turn", range(12))
def test_commands_of_iptables_do_what_they_are_said_to_do(namespace: Namespace, turn: int) -> None:
    draw = random.Random(SEED + turn)
    for _ in range(6):
        target = draw.choice(("ACCEPT", "DROP", "REJECT"))
        namespace.run("iptables", "-A", "INPUT", *draw.choice(CONDITIONS).split(), "-j", target)
    lengths = {"INPUT": 6, "FORWARD": 0}
    before, commands = dump(namespace), []
    for _ in range(draw.randint(1, 4)):
        chain = draw.choice(("INPUT", "INPUT", "FORWARD"))
        rule = f"{draw.choice(CONDITIONS)} -j {draw.choice(('ACCEPT', 'DROP'))}"
        kind = draw.choice("AIRDP") if lengths[chain] else draw.choice("AP")
        place = draw.randint(1, lengths[chain]) if lengths[chain] else 1
        command = {
            "A": f"-A {chain} {rule}", "I": f"-I {chain} {place} {rule}", "R": f"-R {chain} {place} {rule}",
            "D": f"-D {chain} {place}", "P": f"-P {chain} {draw.choice(('ACCEPT', 'DROP'))}",
        }[kind]  # fmt: skip
        lengths[chain] += {"A": 1, "I": 1, "D": -1}.get(kind, 0)
        commands.append(f"iptables {command}")
        namespace.run("iptables", *command.split())
    (said,) = as_if(estate(before), commands, in_their_words).devices
    real = dump(namespace)
    assert not differences(said, real), commands
    # The programs may spell a rule otherwise; none is missing, too many or elsewhere.
    assert {one.edit for one in rule_edits(said, real)} <= {Edit.CHANGED}, commands
    # What `compare` tells of the real change is what it tells of the one said.
    told = [[(c.traffic.words(), c.before, c.after) for c in changes(before, other)] for other in (said, real)]
    assert told[0] == told[1], commands


@pytest.mark.parametrize("turn", range(8))
def test_commands_of_nft_do_what_they_are_said_to_do(namespace: Namespace, turn: int) -> None:
    draw = random.Random(SEED + turn)
    namespace.run(
        "nft",
        "-f",
        "-",
        text="table inet filter { chain input { type filter hook input priority 0; policy drop; }; }\n",
    )
    for _ in range(4):
        namespace.run("nft", f"add rule inet filter input {draw.choice(EXPRESSIONS)} {draw.choice(('accept', 'drop'))}")
    before, commands = listing(namespace), []
    for count in range(draw.randint(1, 3)):
        verb = draw.choice(("add", "insert"))
        where = f" index {draw.randrange(4 + count)}" if draw.random() < 0.5 else ""
        command = f"{verb} rule inet filter input{where} {draw.choice(EXPRESSIONS)} {draw.choice(('accept', 'drop', 'reject'))}"
        commands.append(command)
        namespace.run("nft", command)
    (said,) = as_if(estate(before), commands, in_their_words).devices
    real = listing(namespace)
    assert not differences(said, real), commands
    # The programs may spell a rule otherwise; none is missing, too many or elsewhere.
    assert {one.edit for one in rule_edits(said, real)} <= {Edit.CHANGED}, commands


@pytest.mark.parametrize(
    ("sentence", "command"),
    [
        ("remove rule 2 of INPUT", "-D INPUT 2"),
        ("put above rule 1 of INPUT: drop tcp from 10.0.0.0/25 to any:22,80", "-I INPUT 1 -s 10.0.0.0/25 -p tcp -m multiport --dports 22,80 -j DROP"),
        ("put last in FORWARD: drop udp from 10.1.0.0/16 to 192.0.2.9:53 entering eth1 leaving eth0",
         "-A FORWARD -s 10.1.0.0/16 -d 192.0.2.9 -i eth1 -o eth0 -p udp --dport 53 -j DROP"),
        ("set default of FORWARD to drop", "-P FORWARD DROP"),
    ],
)  # fmt: skip
def test_our_sentences_say_what_the_commands_say(namespace: Namespace, sentence: str, command: str) -> None:
    for rule in ("-p tcp --dport 22 -j ACCEPT", "-s 10.0.0.0/8 -j ACCEPT", "-p udp -j DROP"):
        namespace.run("iptables", "-A", "INPUT", *rule.split())
    before = dump(namespace)
    namespace.run("iptables", *command.split())
    (said,) = as_if(estate(before), [sentence]).devices
    assert not differences(said, dump(namespace))
    assert differences(said, before)
