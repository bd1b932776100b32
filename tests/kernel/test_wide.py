"""Every option the kernel's packet filter takes here: what is certain of a rule set with any of them is what the kernel does.

Random rule sets of iptables whose conditions, sets, marks and targets go far beyond what sets of packets can follow; what a reader
cannot follow may make an answer uncertain, never wrong. A quarter of the runs give interface addresses and routes beside the dump.
"""

from __future__ import annotations

import os
import re
import subprocess
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import aiguille
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober, Verdict
from aiguille.packets import Packet
from tests.kernel.test_verdicts import EACH_KIND, PORTS, Maker, decided
from tests.kernel.wire import OWN, Firewall, address

SEED = int(os.environ.get("AIGUILLE_KERNEL_SEED", "20261125"))
SETS, PACKETS = int(os.environ.get("AIGUILLE_KERNEL_SETS", "6")), 50

CONDITIONS = (
    "-m connmark {not}--mark {mark}",
    "-m connmark {not}--mark {mark}",
    "-m mark {not}--mark {mark}",
    "-m mark {not}--mark {mark}",
    "-m mark {not}--mark {mark}",
    "-m addrtype {not}--dst-type {type}",
    "-m addrtype {not}--dst-type {type}",
    "-m addrtype {not}--dst-type {type},{type}",
    "-m addrtype {not}--src-type {type}",
    "-m addrtype --dst-type {type} --limit-iface-in",
    "-m conntrack {not}--ctstatus {status}",
    "-m conntrack {not}--ctproto {proto}",
    "-m conntrack {not}--ctorigsrc {host}",
    "-m conntrack {not}--ctorigdst {host}",
    "-m conntrack {not}--ctorigdstport {port}",
    "-m conntrack {not}--ctreplsrc {host}",
    "-m conntrack --ctdir {dir}",
    "-m conntrack {not}--ctexpire 1:30",
    "-m conntrack --ctstate {state}",
    "-m state {not}--state {state}",
    "-m pkttype {not}--pkt-type {pkttype}",
    "-m length {not}--length {length}",
    "-m mac {not}--mac-source 02:00:00:00:00:0{n}",
    "-m statistic --mode nth {not}--every 2 --packet 0",
    "-m statistic --mode random {not}--probability 0.5",
    "-m hashlimit --hashlimit-upto 1/min --hashlimit-burst 1 --hashlimit-mode srcip --hashlimit-name x{n}",
    "-m hashlimit --hashlimit-above 100/sec --hashlimit-name y{n}",
    "-m recent --name r {not}--rcheck",
    "-m recent --name r --update --seconds 60",
    "-m recent --name r --set",
    "-m connlimit --connlimit-above 1 --connlimit-mask 0",
    "-m connlimit --connlimit-upto 100",
    "-m quota {not}--quota 100000",
    "-m limit --limit 1/hour --limit-burst 1",
    "-m time --timestart 00:00 --timestop 23:59",
    "-m time --weekdays Mon,Tue",
    "-m policy --dir in --pol {pol}",
    "-m string {not}--string data --algo bm",
    "-m devgroup {not}--src-group 0x0",
    "-m socket",
    "-m rpfilter",
    "-m rpfilter --invert",
    "-m cpu {not}--cpu 0",
    "-m helper {not}--helper ftp",
    "-m dscp {not}--dscp 0x0a",
    "-m tos {not}--tos 0x10/0x3f",
    "-m u32 {not}--u32 0>>22&0x3C@0=1",
    "-m comment --comment x",
    "-p tcp -m tcp {not}--tcp-option 2",
    "-p tcp -m tcpmss {not}--mss 536:1400",
    "-p tcp -m tcp --syn -m multiport {not}--sports {port},1024:65535",
    "{not}-p {name}",
    "{not}-p {name}",
    "-p sctp -m sctp {not}--dport {port}",
    "-p sctp -m multiport {not}--dports {port},80",
    "-p udplite -m multiport --dports {port},80",
    "-p dccp -m dccp {not}--dport {port}",
    "-p esp -m esp {not}--espspi 1:500",
    "-p ah -m ah {not}--ahspi 1:500",
    "-m physdev --physdev-in v0",
    "-m physdev {not}--physdev-is-bridged",
    "-m iprange {not}--src-range {range} {not}--dst-range {range}",
    "-m set {not}--match-set {set}",
    "-m set {not}--match-set {set}",
    "-m set {not}--match-set {set}",
    "-m set {not}--match-set {set}",
    "-m set --match-set {set} --return-nomatch",
    "-m set --match-set {set} ! --update-counters",
    "-m set --match-set counted src --packets-gt 0",
    "{not}-i {iface}+",
    "{not}-s {host}/{odd}",
    "-s {host},{host}",
)
FOUR = ("{not}-f", "-m ttl {not}--ttl-eq 64", "-m ttl --ttl-gt 10", "-m realm {not}--realm 0", "-p icmp -m icmp {not}--icmp-type any",
        "-p icmp -m icmp {not}--icmp-type 8/0", "-p icmp -m icmp --icmp-type echo-request")  # fmt: skip
SIX = ("-m hl --hl-eq 64", "-m hl --hl-gt 10", "-m ipv6header --soft {not}--header frag", "-m frag --fragfirst", "-m dst", "-m hbh",
       "-m rt {not}--rt-type 0", "-m eui64", "-p icmpv6 -m icmp6 {not}--icmpv6-type 128/0")  # fmt: skip
MANGLES = (
    "-j MARK --set-xmark 0x1/0xffffffff", "-j MARK --set-xmark 0x2/0x2", "-j MARK --or-mark 0x4", "-j MARK --and-mark 0xfe",
    "-j MARK --xor-mark 0x3", "-j MARK --set-mark 0x3", "-j CONNMARK --set-xmark 0x1/0xffffffff", "-j CONNMARK --set-mark 0x2",
    "-j CONNMARK --save-mark", "-j CONNMARK --restore-mark", "-j CONNMARK --restore-mark --nfmask 0x2 --ctmask 0x2",
    "-j CONNMARK --or-mark 0x4", "-j TTL --ttl-set 64", "-j HL --hl-set 64", "-j DSCP --set-dscp 0x0a", "-j TOS --set-tos 0x10",
    "-p tcp -m tcp --tcp-flags SYN,RST SYN -j TCPMSS --set-mss 1400", "-j CLASSIFY --set-class 1:1", "-j HMARK --hmark-tuple src --hmark-mod 2 --hmark-rnd 1 --hmark-offset 1",
    "-j SET --add-set filled src", "-j SET --add-set filled src --exist", "-j SET --del-set filled src", "-j SET --map-set marked src --map-mark",
    "-j ACCEPT", "-j RETURN", "-j CHECKSUM --checksum-fill", "-j TRACE", "-j NFLOG --nflog-group 1", "-j TEE --gateway {own}",
    "-j CT --notrack", "-j CT --zone 0", "-j CT --ctevents new", "-j TPROXY --on-port 1 --on-ip {own} --tproxy-mark 0x1/0x1",
)  # fmt: skip
TARGETS = ("ACCEPT", "ACCEPT", "ACCEPT", "DROP", "DROP", "REJECT", "RETURN", "LOG --log-level 7", "NFLOG --nflog-group 1", "one", "two",
           "SET --add-set filled src", "NFQUEUE --queue-num 1 --queue-bypass", "AUDIT --type drop", "CONNMARK --set-mark 0x1",
           "MARK --set-mark 0x1", "CONNSECMARK --save", "SYNPROXY", "LED --led-trigger-id x", "RATEEST --rateest-name x --rateest-interval 250ms --rateest-ewmalog 500ms")  # fmt: skip
TYPES = ("UNSPEC", "UNICAST", "LOCAL", "BROADCAST", "ANYCAST", "MULTICAST", "BLACKHOLE", "UNREACHABLE", "PROHIBIT")
NAMES = ("ipencap", "ipip", "hip", "manet", "ddp", "ax.25", "igmp", "gre", "esp", "udplite", "sctp", "all", "0", "253", "ospf", "etherip",
         "wesp", "rohc", "mobility-header", "ipv6-icmp", "icmp", "tcp", "rspf", "vmtp", "mpls-in-ip", "shim6", "ethernet")  # fmt: skip


class WideMaker(Maker):
    """Draws from all that can be said; packets come from the maker for plain rule sets, and go to broadcasts and groups as well."""

    usable: frozenset[str] = frozenset()

    def filled(self, template: str) -> str:
        rnd = self.rnd
        hosts = [host for side in self.sources for host in side] + list(OWN[self.family])
        low, high = sorted(rnd.sample(self.sources[rnd.randrange(3)], 2), key=address)
        text = template
        for key, value in (
            ("{mark}", lambda: rnd.choice(("0x0", "0x1", "0x2", "0x3", "0x2/0x2", "0x0/0x4", "0x4/0x6"))),
            ("{type}", lambda: rnd.choice(TYPES)),
            ("{status}", lambda: rnd.choice(("DNAT", "SNAT", "NONE", "EXPECTED", "SEEN_REPLY", "ASSURED", "CONFIRMED", "DNAT,SNAT"))),
            ("{proto}", lambda: rnd.choice(("tcp", "udp", "253"))),
            ("{host}", lambda: rnd.choice(hosts)),
            ("{port}", lambda: str(rnd.choice(PORTS))),
            ("{dir}", lambda: rnd.choice(("ORIGINAL", "REPLY"))),
            ("{state}", lambda: ",".join(rnd.sample(("NEW", "ESTABLISHED", "INVALID", "UNTRACKED", "RELATED"), 2))),
            ("{pkttype}", lambda: rnd.choice(("unicast", "broadcast", "multicast"))),
            ("{length}", lambda: rnd.choice(("0:40", "41:1500", "32"))),
            ("{n}", lambda: str(rnd.randrange(3))),
            ("{pol}", lambda: rnd.choice(("ipsec", "none"))),
            ("{name}", lambda: rnd.choice(NAMES)),
            ("{range}", lambda: f"{low}-{high}"),
            ("{set}", lambda: rnd.choice(self.looks)),
            ("{iface}", lambda: rnd.choice(("v", "v0", "eth", "lo"))),
            ("{odd}", lambda: "255.0.255.1" if self.family == 4 else "ffff:0:ffff::1"),
            ("{own}", lambda: OWN[self.family][0]),
            ("{not}", lambda: "! " if rnd.random() < 0.35 else ""),
        ):  # fmt: skip
            while key in text:
                text = text.replace(key, value(), 1)
        return text

    @property
    def looks(self) -> tuple[str, ...]:
        """How rules look into the sets: names with the ends of a packet."""
        two = self.rnd.choice(("src,src", "dst,dst", "src,dst", "dst,src"))
        three = self.rnd.choice(("src,dst,src", "dst,dst,dst", "src,dst,dst", "dst,dst,src"))
        one = self.rnd.choice(("src", "dst"))
        return (
            *(f"{name} {one}" for name in ("hosts", "nets", "masked", "ports", "timed", "filled", "counted", "listed", "bits", "marked")),
            *(f"{name} {two}" for name in ("ways", "pairs", "hostport", "netnet", "hostmark", "listed2", "hostmac")),
            *(f"{name} {three}" for name in ("triple", "netportnet", "hostporthost")),
            f"ranged {one}",
        )  # fmt: skip

    def match(self, chain: str) -> str:
        rnd = self.rnd
        base = super().match(chain) if rnd.random() < 0.5 else ""
        # The plain maker's own draws of what stands in the table as well would name a protocol or a module twice.
        parts = [base] if base else []
        for _ in range(rnd.choice((1, 1, 2))):
            more = self.filled(rnd.choice((*CONDITIONS, *(FOUR if self.family == 4 else SIX))))
            taken = " ".join(parts)
            if not (("-p " in more and "-p " in taken) or any(f"{o} " in taken for o in (" -i", "-s", "-m set", more.split(" --")[0]) if f"{o} " in more)):  # fmt: skip
                parts.append(more)
        return " ".join(parts)

    def sets(self) -> str:
        rnd, f = self.rnd, "inet" if self.family == 4 else "inet6"
        hosts = [host for side in self.sources for host in side] + list(OWN[self.family])
        full = 32 if self.family == 4 else 128
        h = lambda: rnd.choice(hosts)  # noqa: E731
        net = lambda: f"{h()}/{rnd.choice((full - 2, full - 3, full - 8, full))}"  # noqa: E731
        port = lambda: f"{rnd.choice(('tcp', 'udp', 'sctp'))}:{rnd.choice(PORTS)}"  # noqa: E731
        no = lambda: rnd.choice(("", "", " nomatch"))  # noqa: E731
        mask = f" netmask {full - rnd.choice((3, 6))}" if rnd.random() < 0.6 else ""
        if not mask and rnd.random() < 0.5:
            mask = f" bitmask {'255.255.0.255' if self.family == 4 else 'ffff::ffff'}"
        every = {
            f"hosts hash:ip family {f}": [h() for _ in range(5)],
            f"nets hash:net family {f}": [net() + no() for _ in range(5)],
            f"masked hash:ip family {f}{mask}": [h() for _ in range(3)],
            "ports bitmap:port range 0-65535": [str(rnd.choice(PORTS)) for _ in range(3)] + ["9000-9100"],
            f"timed hash:ip family {f} timeout 600": [h() + rnd.choice(("", " timeout 0", " timeout 300")) for _ in range(4)],
            f"filled hash:ip family {f}": [h()],
            f"counted hash:ip family {f} counters comment": [f'{h()} packets {rnd.choice((0, 5))} comment "x"' for _ in range(4)],
            f"marked hash:ip family {f} skbinfo": [f"{h()} skbmark 0x1/0xff" for _ in range(4)],
            f"ways hash:net,iface family {f}": [f"{net()},{rnd.choice(('v0', 'v1', 'physdev:v0', 'eth0'))}{no()}" for _ in range(5)] + [f"{'0.0.0.0' if self.family == 4 else '::'}/0,v{rnd.randrange(3)}"],
            f"pairs hash:net,port family {f}": [f"{net()},{port()}{no()}" for _ in range(8)],
            f"hostport hash:ip,port family {f}": [f"{h()},{rnd.choice((port(), str(rnd.choice(PORTS)), 'icmp:echo-request' if self.family == 4 else 'icmpv6:echo-request', '253:0'))}" for _ in range(8)],
            f"netnet hash:net,net family {f}": [f"{net()},{net()}{no()}" for _ in range(6)],
            f"hostmark hash:ip,mark family {f}{rnd.choice(('', ' markmask 0x2'))}": [f"{h()},{rnd.choice(('0x0', '0x1', '0x2', '0x3'))}" for _ in range(8)],
            f"triple hash:ip,port,ip family {f}": [f"{h()},{port()},{h()}" for _ in range(9)],
            f"netportnet hash:net,port,net family {f}": [f"{net()},{port()},{net()}{no()}" for _ in range(9)],
            f"hostporthost hash:ip,port,net family {f}": [f"{h()},{port()},{net()}{no()}" for _ in range(9)],
            "hostmac hash:mac": [f"02:00:00:00:00:0{n}" for n in rnd.sample(range(3), 2)],
        }  # fmt: skip
        if self.family == 4:
            every["bits bitmap:ip range 10.0.0.0/22" + rnd.choice(("", " netmask 30"))] = [
                rnd.choice(self.sources[0]),
                rnd.choice(self.sources[1]),
            ]
            every["ranged hash:ip"] = [f"{self.sources[0][0]}-{self.sources[0][4]}"]
        else:
            every["bits hash:ip family inet6"], every["ranged hash:ip family inet6"] = [h()], [h()]
        lines = [f"create {head}" for head in every] + ["create listed list:set", "create listed2 list:set"]
        for head, entries in every.items():
            lines += [f"add {head.split()[0]} {entry} -exist" for entry in entries]
        return "\n".join([*lines, "add listed hosts", "add listed masked", "add listed nets", "add listed2 pairs", "add listed2 ways", ""])  # fmt: skip

    def rules(self) -> str:
        rnd = self.rnd
        lines = ["*raw", ":PREROUTING ACCEPT [0:0]"]
        lines += [
            f"-A PREROUTING {self.match('PREROUTING')} {self.filled(rnd.choice(MANGLES[-8:]))}"
            for _ in range(rnd.randrange(2))
        ]
        lines += ["COMMIT", "*mangle", ":PREROUTING ACCEPT [0:0]", ":FORWARD ACCEPT [0:0]"]
        for _ in range(rnd.randrange(6)):
            lines.append(
                f"-A {rnd.choice(('PREROUTING', 'PREROUTING', 'FORWARD'))} {self.match('PREROUTING')} {self.filled(rnd.choice(MANGLES))}"
            )
        lines.append("COMMIT")
        if self.translate:
            lines += self.translations()
        lines += [
            "*filter",
            *(f":{c} {rnd.choice(('ACCEPT', 'DROP'))} [0:0]" for c in ("INPUT", "FORWARD")),
            ":OUTPUT DROP [0:0]",
            ":one - [0:0]",
            ":two - [0:0]",
        ]
        for chain in ("INPUT", "FORWARD", "one", "two"):
            targets = [
                t
                for t in TARGETS
                if t not in (("one", "two") if chain == "two" else ("one",) if chain == "one" else ())
            ]
            lines += [
                f"-A {chain} {self.match(chain)} -{rnd.choice('jjjg') if t in ('one', 'two') else 'j'} {t}"
                for t in rnd.choices(targets, k=rnd.randint(3, 7))
            ]
        return "\n".join([*lines, "COMMIT", ""])

    def _any_packet(self) -> Packet:
        rnd = self.rnd
        made = super()._any_packet()
        if rnd.random() < 0.15:
            groups = (
                ("255.255.255.255", "224.0.0.1", "192.0.2.63", "192.0.2.127")
                if self.family == 4
                else ("ff02::1", "ff02::1", "2001:db8:0:a0::")
            )
            self.sport += 1
            return Packet(
                self.family,
                made.in_interface,
                "",
                made.source,
                address(rnd.choice(groups)),
                17,
                self.sport,
                rnd.choice(PORTS),
            )
        if rnd.random() < 0.08:
            self.sport += 1
            return Packet(
                self.family,
                made.in_interface,
                made.out_interface,
                made.source,
                made.destination,
                132,
                self.sport,
                rnd.choice(PORTS),
            )
        return made


def loaded(firewall: Firewall, family: int, dump: str) -> str:
    """Load a dump without the lines this kernel refuses."""
    program = "iptables-restore" if family == 4 else "ip6tables-restore"
    lines = dump.splitlines()
    while True:
        done = subprocess.run(
            ["ip", "netns", "exec", firewall.ns, program],
            input="\n".join([*lines, ""]),
            capture_output=True,
            text=True,
            check=False,
        )
        if done.returncode == 0:
            return "\n".join(lines)
        bad = [
            int(word)
            for word in done.stderr.replace(":", " ").split()
            if word.isdigit() and 0 < int(word) <= len(lines)
        ]
        commits = [n for n in bad if lines[n - 1].startswith("-A")]
        if commits:
            del lines[commits[0] - 1]
            continue
        # A table as a whole is refused: find its first rule that does not load alone.
        for at, line in enumerate(lines):
            if line.startswith("-A"):
                heads = [one for one in lines if not one.startswith("-A")]
                table = max(n for n, one in enumerate(lines[:at]) if one.startswith("*"))
                where = heads.index(lines[table]) + 1
                while heads[where].startswith(":"):
                    where += 1
                alone = [*heads[:where], line, *heads[where:]]
                tried = subprocess.run(
                    ["ip", "netns", "exec", firewall.ns, program, "--test"],
                    input="\n".join([*alone, ""]),
                    capture_output=True,
                    text=True,
                    check=False,
                )
                if tried.returncode:
                    del lines[at]
                    break
        else:
            raise AssertionError(done.stderr + dump)


def load_sets(firewall: Firewall, text: str) -> None:
    """Load sets without the kinds and entries this kernel refuses."""
    lines = text.splitlines()
    while True:
        try:
            return firewall.load_sets("\n".join([*lines, ""]))
        except AssertionError as error:
            found = re.search(r"Error in line (\d+)", str(error))
            if found is None:
                raise
            bad = lines[int(found[1]) - 1].split()
            lines = [one for one in lines if one.split() != bad and not (bad[0] == "create" and bad[1] in one.split())]


def open_because(verdict: Verdict) -> set[str]:
    """The conditions that leave a verdict open."""
    rules = [visit.rule for way in verdict.ways for visit in way.visits if visit.rule is not None and not visit.matched]
    return {one.name for rule in rules for one in rule.qualifiers} or {"a set, a mark or a target"}


def usual(reasons: Counter[str]) -> str:
    return ", ".join(f"{name} {count}" for name, count in reasons.most_common(8))


@EACH_KIND
def test_what_is_certain_is_what_the_kernel_does(
    family: int, translate: bool, tmp_path: Path, record_property: Callable[[str, object], None]
) -> None:
    counts: Counter[str] = Counter()
    reasons: Counter[str] = Counter()
    wrong = []
    met: set[frozenset[int]] = set()
    with Firewall() as firewall:
        for number in range(SETS):
            seed = SEED + 1000 * number + 10 * family + translate + 500
            maker = WideMaker(seed, family, translate)
            firewall.load(family, "*raw\nCOMMIT\n*mangle\nCOMMIT\n*nat\nCOMMIT\n*filter\nCOMMIT\n")
            load_sets(firewall, maker.sets())
            loaded(firewall, family, maker.rules())
            saved = firewall.run("iptables-save" if family == 4 else "ip6tables-save")
            home = tmp_path / str(number)
            home.mkdir()
            files = {"rules.v4" if family == 4 else "rules.v6": saved, "ipset.save": firewall.run("ipset", "save")}
            if number % 4 == 0:
                files |= {
                    "ip-addr.json": firewall.run("ip", "-j", "addr"),
                    f"ip-route{'6' if family == 6 else ''}.json": firewall.run("ip", "-j", f"-{family}", "route"),
                }
            for name, text in files.items():
                (home / name).write_text(text)
            estate = aiguille.read(home)
            (device,) = estate.devices
            prober = Prober(Programs(device))
            before = firewall.counters(family)
            for packet in [maker.packet(met) for _ in range(PACKETS)]:
                moved = firewall.counted(packet, before)
                counts["packets"] += 1
                if not moved:
                    counts["never seen"] += 1
                    continue
                verdict = prober.probe(packet)
                if not verdict.certain:
                    counts["not certain"] += 1
                    reasons.update(open_because(verdict))
                    continue
                truth = decided(moved, device, packet, verdict)
                said = {
                    (
                        w.decided_by.rulebase.name,
                        w.decided_by.chain.name,
                        "policy" if w.decided_by.rule is None else w.decided_by.rule.number,
                    )
                    for w in verdict.ways
                }
                # What a target swallows by itself moves no counter after it.
                if not (truth & said or (not truth and verdict.verdict.refuses)):
                    wrong.append(
                        f"seed {seed} {number}: {packet.sentence()}\nkernel {truth}, probe {said}\nmoved {sorted(map(str, moved))}\n{saved}\n{files['ipset.save']}"
                    )
                counts["certain"] += 1
                counts[verdict.verdict.value] += 1
    assert not wrong, "\n\n".join(wrong[:20])
    assert counts["certain"] > 0.3 * counts["packets"]
    kind = "with translation" if translate else "plain"
    record_property(
        "kernel",
        f"every option, iptables IPv{family} {kind}: {SETS} rule sets from seed {SEED}, {dict(sorted(counts.items()))}; open by {usual(reasons)}",
    )
