"""What the packet filter's own programs print is what we read."""

from __future__ import annotations

import json
import re
import shlex
from pathlib import Path

from aiguille.analysis.compare import differences
from aiguille.demo import files
from aiguille.model import Field
from aiguille.readers import iptables
from aiguille.readers.files import decode
from tests.helpers import run
from tests.kernel.conftest import Namespace


def bare(dump: str) -> list[str]:
    """A dump without comments and counters, which time and traffic change, tables in alphabetical order."""
    lines = [re.sub(r"\[\d+:\d+\]\s*", "", line).strip() for line in dump.splitlines() if not line.startswith("#")]
    tables = "\n".join(lines).split("COMMIT")
    return sorted(table.strip() for table in tables if table.strip())


def test_the_sample_dumps_are_what_the_kernel_would_print(namespace: Namespace) -> None:
    for name, tool in (("iptables.v4", "iptables"), ("iptables.v6", "ip6tables")):
        dump = files()[f"exports/valley-gw/{name}"].decode()
        namespace.run(f"{tool}-restore", text=dump)
        assert bare(namespace.run(f"{tool}-save")) == bare(dump)


def test_a_namespace_filled_by_hand_is_audited(namespace: Namespace, tmp_path: Path) -> None:
    for command in (
        "-P INPUT DROP",
        "-N admin",
        "-A INPUT -i lo -j ACCEPT",
        "-A INPUT -m state --state ESTABLISHED -j ACCEPT",
        "-A INPUT -p tcp -m multiport --dports 20:23,443 -j admin",
        "-A admin -s 10.0.0.0/8 -j RETURN",
        "-A admin -j ACCEPT",
        "-t nat -A POSTROUTING -o wan0 -j MASQUERADE",
    ):
        namespace.run("iptables", *command.split())
    (tmp_path / "host.v4").write_text(namespace.run("iptables-save", "-c"))
    done = run("audit", "host.v4", "--json", cwd=tmp_path)
    assert done.returncode == 1, done.stderr
    data = json.loads(done.stdout)
    found = {f["check"]: f for f in data["findings"]}
    reachable = found["access.reachable-from-outside"]
    assert "ssh" in reachable["detail"]
    assert reachable["witness"]["in"] == "wan0"
    assert not reachable["witness"]["src"].startswith("10.")
    assert [e["text"].split("] ")[1] for e in reachable["evidence"]] == [
        "-A INPUT -p tcp -m multiport --dports 20:23,443 -j admin",
        "-A admin -j ACCEPT",
    ]
    follows = {one["check"] for f in data["findings"] for one in f["consequences"]}
    assert {"deny.through-device", "deny.from-device", "logging.refusals"} <= set(found) | follows
    assert "access.cleartext" in {one["check"] for one in reachable["consequences"]}
    assert any("assumed: wan0 is outside" in note for note in data["notes"])


SHOWN = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
:svc - [0:0]
:svc2 - [0:0]
-A INPUT -i lo -j ACCEPT
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -p icmp -m icmp --icmp-type 8 -j ACCEPT
-A INPUT ! -i eth1 -p tcp -m multiport --dports 80,443,8000:8080 -m comment --comment "web and more, TCK-7" -j ACCEPT
-A INPUT -s 10.0.0.0/8 ! -d 10.1.1.1/32 -p tcp -m tcp --sport 1024:65535 --dport 22 -j svc
-A INPUT -p tcp -m tcp --tcp-flags FIN,SYN,RST,ACK SYN -m limit --limit 5/sec --limit-burst 10 -j LOG --log-prefix "syn: "
-A INPUT -m addrtype --dst-type BROADCAST -j DROP
-A INPUT -p udp -m udp ! --dport 53 -j REJECT --reject-with icmp-port-unreachable
-A INPUT -m iprange --src-range 192.0.2.5-192.0.2.9 -j ACCEPT
-A INPUT -m mark --mark 0x1/0xff -j ACCEPT
-A INPUT -p 47 -j DROP
-A svc -p tcp -g svc2
-A svc -j RETURN
COMMIT
"""


def test_what_iptables_prints_for_people_is_what_it_saves(namespace: Namespace) -> None:
    namespace.run("iptables-restore", text=SHOWN)
    shown = namespace.run("iptables", "-L", "-n", "-v", "--line-numbers")
    (saved,) = [iptables.read([decode("save", namespace.run("iptables-save").encode())], "a")]
    (printed,) = [iptables.read([decode("list", shown.encode())], "b")]
    assert not printed.ledger.unread
    assert "ask for iptables-save" in printed.ledger.problems[0].why
    assert not list(differences(saved, printed))
    for one, other in zip(saved.rulebases[0].chains, printed.rulebases[0].chains, strict=True):
        mine, theirs = ([(r.match, r.action, r.target, r.qualifiers, r.marks) for r in c.rules] for c in (one, other))
        assert mine == theirs
    # Without -v the listing hides interfaces: nothing in it is certain.
    poor = iptables.read([decode("list", namespace.run("iptables", "-L", "-n").encode())], "c")
    assert all(rule.qualifiers for _, rule in poor.rulebases[0].rules())


OPTIONS = """
-m addrtype --src-type LOCAL --dst-type LOCAL,BROADCAST --limit-iface-in
-m addrtype ! --dst-type ANYCAST
-p ah -m ah --ahspi 1:5
-m cgroup --path a/b
-m cluster --cluster-total-nodes 2 --cluster-local-node 1 --cluster-hash-seed 0xdeadbeef
-m connbytes --connbytes 10:20 --connbytes-dir both --connbytes-mode packets
-p tcp -m connlimit --connlimit-above 3 --connlimit-mask 24
-m connmark --mark 1/3
-m conntrack --ctproto tcp --ctorigsrc 10.0.0.0/8 --ctstatus ASSURED --ctexpire 10:20 --ctdir ORIGINAL
-m conntrack ! --ctstate SNAT,NEW
-m cpu --cpu 0
-m devgroup --src-group 1
-m dscp --dscp-class EF
-p tcp -m ecn --ecn-tcp-cwr --ecn-ip-ect 1
-p esp -m esp --espspi 5
-f
-m hashlimit --hashlimit-above 10/min --hashlimit-burst 5 --hashlimit-mode srcip,dstport --hashlimit-name x
-m helper --helper ftp
-p icmp -m icmp ! --icmp-type 3/1
-m iprange ! --src-range 192.0.2.4-192.0.2.9
-m length --length 10:20
-m limit --limit 3/min --limit-burst 8
-m mac --mac-source 00:11:22:33:44:55
-m mark ! --mark 0x1/0x3
-p tcp -m multiport --ports 1,2:3
-p tcp -m multiport ! --dports 1,2:3
-m owner --uid-owner 0
-m physdev --physdev-in eth0
-m pkttype --pkt-type broadcast
-m policy --dir in --pol ipsec --mode tunnel --strict --reqid 3 --proto esp
-m quota --quota 1000
-m realm --realm 3
-m recent --name r --update --seconds 60 --hitcount 4 --rttl --rsource
-m rpfilter --loose --validmark --invert
-p sctp -m sctp --chunk-types any INIT,DATA --dport 5
-m socket --transparent --nowildcard
-m statistic --mode nth --every 3 --packet 0
-m string --algo bm --string "a b\\"c" --to 100 --icase
-p tcp -m tcp --tcp-option 5 --syn --sport 3
-p tcp -m tcpmss --mss 10:20
-m time --timestart 01:00 --timestop 02:00 --weekdays Mon,Tue --kerneltz
-m tos --tos 0x10/0x3f
-m ttl --ttl-gt 5
-m u32 --u32 "0>>22&0x3C@12>>26&7=0x7"
-m comment --comment "a \\"quoted\\" -j DROP"
! -s 10.0.0.0/8 ! -d 10.0.0.0/255.0.255.0 ! -i eth0
! -p tcp
"""


def test_whatever_the_match_options_print_is_exact_or_a_named_condition(namespace: Namespace) -> None:
    loaded = 0
    for line in OPTIONS.strip().splitlines():
        done = namespace.try_run("iptables", "-A", "INPUT", *shlex.split(line), "-j", "ACCEPT")
        loaded += done  # some matches need kernel modules that not every machine has
    assert loaded >= 35
    device = iptables.read([decode("a.v4", namespace.run("iptables-save").encode())], "a")
    assert not device.ledger.unread
    rules = [rule for base in device.rulebases for _, rule in base.rules()]
    assert len(rules) == loaded
    for rule in rules:
        assert not any(q.name == "not understood" for q in rule.qualifiers)
        if not rule.qualifiers and not rule.marks:
            plain = {c.field for c in rule.match.conditions} | ({Field.STATE} if rule.comment else set())
            assert plain, device.text(rule.where)


SPELLINGS = (
    "-s 0/0", "-s 10/8", "-s 192.168/16", "-s 10.1", "-s 0", "-s 010.0.0.1", "-s 0x0a.0.0.1", "-s 1.2.3.4/0", "-s any/0", "-s /0", "-d 0/0 -s 10/010",
    "-s 10.0.0.0/0x8", "-s 172.16/255.240.0.0", "-s 10/8,192.168/16", "-p 0", "-p 00", "-p all", "-p 0x6", "-p 021", "-p tcp --dport 0x16",
    "-p tcp --dport 022", "-p tcp --dport 22:", "-p tcp --dport :022", "-p tcp -m multiport --dports 022,0x17", "-p udp -m multiport --ports 010:020",
    "-p icmp --icmp-type 010", "-m iprange --src-range 010.0.0.1-10.0.0.9", "-m iprange --dst-range 10.1-10.2",
)  # fmt: skip
SPELLINGS_6 = ("-s 0/0", "-s 0::0/0", "-p 0", "-p 072", "-s 2001:db8::/040")

SHORTENED = (
    "-t nat PREROUTING -p tcp --dport 80 -j DNAT --to 10.0.0.5:8080", "-t nat PREROUTING -p tcp --dport 80 -j DNAT --to-dest 10.0.0.5 --rand",
    "-t nat PREROUTING -p tcp --dport 80 -j REDIRECT --to 8080", "-t nat PREROUTING -p udp --dport 53 -j REDIRECT --to-port 5353",
    "-t nat POSTROUTING -s 10.0.0.0/8 -j SNAT --to 192.0.2.1", "-t nat POSTROUTING -s 10.0.0.0/8 -j MASQUERADE --random",
    "-t mangle PREROUTING -j MARK --or 0x1", "-t mangle PREROUTING -j CONNMARK --restore", "-t raw PREROUTING -p udp -j CT --not",
    "-t filter INPUT -p tcp -j REJECT --rej tcp-reset", "-t raw PREROUTING -p tcp -j CT --helper ftp",
)  # fmt: skip
"""Targets whose options are written by their beginnings alone."""


def test_what_people_write_is_what_the_kernel_keeps(namespace: Namespace) -> None:
    """Short addresses, octal and hexadecimal numbers, protocol 0: a script of each says what the dump after it says."""
    for tool, spellings in (("iptables", SPELLINGS), ("ip6tables", SPELLINGS_6)):
        for words in spellings:
            namespace.run(tool, "-F", "INPUT")
            namespace.run(tool, *f"-A INPUT {words} -j DROP".split())
            kept = iptables.read([decode("kept", namespace.run(f"{tool}-save").encode())], "kept")
            script = f"#!/bin/sh\n{tool} -A INPUT {words} -j DROP\n"
            written = iptables.read([decode("fw.sh", script.encode())], "kept")
            assert not written.ledger.unread, words
            assert not differences(kept, written), words
    for words in SHORTENED:
        _, table, chain, *rest = words.split()
        namespace.run("iptables", "-t", table, "-F")
        namespace.run("iptables", "-t", table, "-A", chain, *rest)
        kept = iptables.read([decode("kept", namespace.run("iptables-save", "-t", table).encode())], "kept")
        script = f"#!/bin/sh\niptables -t {table} -A {chain} {' '.join(rest)}\n"
        written = iptables.read([decode("fw.sh", script.encode())], "kept")
        mine, theirs = (
            [(r.action, r.effects, r.reply) for base in one.rulebases for _, r in base.rules()]
            for one in (written, kept)
        )
        assert mine == theirs, words
        assert not written.ledger.unread, words
    for words in ("-j CT --not-known", "-j MARK --set 1", "-j SET --put x src"):
        assert not namespace.try_run("iptables", "-t", "raw", "-A", "PREROUTING", *words.split())
        refused = iptables.read([decode("fw.sh", f"#!/bin/sh\niptables -t raw -A PREROUTING {words}\n".encode())], "x")
        assert all(rule.unread for base in refused.rulebases for _, rule in base.rules()), words
    for words in ("-s 10.0.0.0/08", "-s 256.1", "-s 1.2.3.4.5", "-p tcp --dport 08", "-p 256"):
        assert not namespace.try_run("iptables", *f"-A INPUT {words} -j DROP".split())
        refused = iptables.read([decode("fw.sh", f"#!/bin/sh\niptables -A INPUT {words} -j DROP\n".encode())], "kept")
        assert refused.ledger.unread, words
