"""Every statement nft takes here: what is certain of a rule set with any of them is what the kernel does.

Random rule sets whose conditions, maps and statements go far beyond what sets of packets can follow. Two tables of the judge's own,
which are no part of the exports, count the packets that arrive and those that come through; text and JSON are both held against them.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import time
from collections import Counter
from collections.abc import Callable

from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober, Visit
from aiguille.model import Action, Device
from aiguille.packets import Packet
from aiguille.readers import nftables
from aiguille.readers.files import decode
from tests.kernel.test_verdicts import EACH_KIND, PORTS
from tests.kernel.test_wide import WideMaker, open_because, usual
from tests.kernel.wire import OWN, Firewall

SEED = int(os.environ.get("AIGUILLE_KERNEL_SEED", "20261125"))
SETS, PACKETS = int(os.environ.get("AIGUILLE_KERNEL_SETS", "6")), 50
JUDGE = """table inet judge {
 chain seen { type filter hook prerouting priority -500; counter; }
 chain in { type filter hook input priority 2000; counter drop; }
 chain through { type filter hook forward priority 2000; counter drop; }
}
"""

CONDITIONS = (
    "meta length {not}{length}", "meta nfproto {not}{nfproto}", "meta l4proto {not}{name}", "meta l4proto > 6", "meta protocol {ip}",
    "meta priority {not}0", "meta mark {not}{mark}", "meta mark {not}{mark}", "meta mark & {mark} == {mark}", "meta mark < 3",
    "meta mark {not}{ {mark}, 0x9 }", "meta mark {not}0x0-0x2", "ct mark {not}{mark}", "ct mark {not}{mark}", "ct mark & 0x2 == 0x2",
    "iif {not}{iface}", "iifname {not}{iface}", "iiftype {not}ether", "meta iifkind veth", "meta pkttype {not}{pkttype}",
    "meta cpu {not}0", "iifgroup {not}0", "oifgroup 0", "meta cgroup 0", "meta skuid 0", "meta ipsec missing", "meta hour \"00:00\"-\"23:59\"",
    "meta day { Monday, Tuesday }", "meta time > \"2020-01-01\"", "meta random < 1000000000", "socket transparent 1", "socket mark 1", "socket wildcard 0",
    "osf name \"Linux\"", "fib daddr type {not}{type}", "fib daddr type {not}{type}", "fib daddr type { {type}, {type} }", "fib saddr type {not}{type}",
    "fib daddr . iif type {not}{type}", "fib saddr . iif oif missing", "fib saddr . iif oif != 0", "fib saddr oifname {not}\"v0\"", "fib daddr . mark type local", "rt {ip} nexthop {host}",
    "rt mtu > 100", "rt classid 0", "rt ipsec missing", "numgen inc mod 2 == 0", "numgen random mod 3 < 2", "jhash {ip} saddr mod 2 == 0",
    "symhash mod 2 == 0", "ether saddr {not}02:00:00:00:00:0{n}", "ether type {ether}", "tcp dport & 0xff00 == 0x0100", "tcp dport & 1 == 1",
    "tcp sport {not}1024-65535", "tcp dport > 80", "tcp dport <= 53", "udp dport {not}{ {port}, 9000-9100 }", "th dport {not}{port}", "th sport >= 30000",
    "tcp flags {flags}", "tcp flags {flags}", "tcp flags & (syn | ack) {cmp} {flag}", "tcp flags syn / fin,syn,rst,ack", "tcp flags != ack / ack,fin",
    "tcp window > 100", "tcp doff {not}5", "tcp urgptr 0", "tcp option maxseg exists", "tcp option maxseg missing", "tcp option maxseg size 1-1400",
    "udp length {not}12", "udp checksum 0", "sctp dport {not}{port}", "sctp chunk init exists", "sctp chunk data exists", "sctp vtag 0",
    "dccp dport {port}", "udplite dport {port}", "esp spi 100", "ah spi 100", "comp cpi 1", "@th,16,16 {not}{port}", "@th,0,8 < 100", "@nh,0,4 4", "@ih,0,8 1",
    "exthdr frag exists", "exthdr frag missing", "frag more-fragments 1", "hbh nexthdr 6", "rt type 0",
    "ct state {not}{state}", "ct state {not}{ {state}, {state} }", "ct state {state},{state}", "ct state & {state} == {state}", "ct state ! {state}",
    "ct direction {dir}", "ct status {not}{status}", "ct status & {status} == {status}", "ct expiration 1s-30s", "ct helper {not}\"ftp\"",
    "ct protocol {not}{proto}", "ct original {ip} saddr {not}{host}", "ct original {ip} daddr {host}", "ct reply {ip} saddr {host}", "ct original proto-dst {not}{port}",
    "ct reply proto-src {port}", "ct original protocol {proto}", "ct original bytes > 0", "ct packets < 5", "ct original avgpkt > 10", "ct zone {not}0", "ct count over 1", "ct count 100", "ct label 1", "ct id 5",
    "limit rate 1/hour", "limit rate over 1/hour", "limit rate over 1000/second", "limit rate 10 kbytes/second", "quota 1000 bytes", "quota over 100000 bytes", "limit name lim", "quota name quo",
    "{ip} saddr {not}{host}", "{ip} daddr {not}{net}", "{ip} saddr > {host}", "{ip} saddr <= {host}", "{ip} saddr & {odd} == {odd0}", "{ip} saddr {not}{ {net}, {host} }",
    "{ip} saddr {not}@hosts", "{ip} daddr {not}@nets", "{ip} saddr {not}@timed", "{ip} saddr {not}@filled", "{ip} saddr @grown", "tcp dport {not}@ports", "meta l4proto {not}@protos", "meta mark {not}@marks", "iifname {not}@ways", "ether saddr {not}@macs",
    "{ip} saddr . tcp dport {not}@pairs", "{ip} saddr . {ip} daddr {not}@both", "{ip} saddr . meta l4proto . th dport {not}@triple", "iifname . {ip} saddr @wayhost",
    "{ip} saddr . tcp dport {not}{ {net} . {port}, {host} . 22-80 }", "{ip} saddr . meta mark {not}{ {host} . {mark}, {net} . {mark} }", "meta l4proto . th dport {not}{ tcp . {port}, udp . {port} }",
    "iifname . oifname {not}{ {iface} . \"v1\", \"v2\" . \"v0\" }", "meta l4proto { tcp, udp } th dport {not}{ {port}, {port} }", "{ip} saddr {ip} {host}",
    "ether type {ether} {ip} daddr {host}", "meta nfproto {nfproto} tcp dport {port}", "iif . {ip} daddr { {iface} . {host} }",
)  # fmt: skip
FOUR = ("ip protocol {not}{name}", "ip protocol { tcp, udp }", "ip ttl {not}64", "ip ttl > 10", "ip length {length}", "ip id 1", "ip version 4", "ip hdrlength 5", "ip frag-off & 0x1fff != 0", "ip frag-off 0",
        "ip dscp {not}cs0", "ip ecn not-ect", "ip option rr exists", "ip option lsrr missing", "icmp type {not}{ echo-request, echo-reply }", "icmp type > 8", "icmp type echo-request icmp code 0", "icmp id > 0", "icmp sequence 1", "icmp code 0",
        "ip daddr . ip protocol { {host} . tcp, {host} . udp }", "ip saddr 10.0.0.0/8 ip daddr != 10.0.0.0/8")  # fmt: skip
SIX = ("ip6 nexthdr {not}{name}", "ip6 nexthdr { tcp, udp }", "ip6 hoplimit {not}64", "ip6 hoplimit > 10", "ip6 length {length}", "ip6 flowlabel 0", "ip6 version 6", "ip6 dscp {not}cs0",
       "icmpv6 type {not}{ echo-request, echo-reply }", "icmpv6 type > 128", "icmpv6 type echo-request icmpv6 code 0", "icmpv6 code 0", "icmpv6 id > 0", "mh type 1", "dst nexthdr 6")  # fmt: skip
CHANGES = (
    "meta mark set 0x1", "meta mark set meta mark | 0x2", "meta mark set meta mark & 0xfe", "meta mark set meta mark ^ 0x3", "meta mark set ct mark", "meta mark set ct mark & 0x3", "ct mark set meta mark", "ct mark set 0x2", "ct mark set ct mark | 0x1",
    "meta mark set tcp dport map { 22 : 0x1, 80-443 : 0x2 }", "meta mark set {ip} saddr map { {host} : 0x1 }", "meta mark set iifname map { \"v0\" : 0x1, \"v1\" : 0x3 }", "meta mark set numgen inc mod 2", "meta mark set jhash {ip} saddr mod 2", "meta mark set {ip} saddr . tcp dport map { {host} . {port} : 0x1 }",
    "ct mark set tcp dport map { 22 : 0x1 }", "meta mark set tcp dport map @marked", "meta mark set meta mark << 1", "meta priority set 1:1", "meta pkttype set unicast", "meta nftrace set 1",
    "ip dscp set cs1", "ip ttl set 64", "tcp option maxseg size set rt mtu", "tcp option maxseg size set 1400", "ip6 hoplimit set 64", "add @filled { {ip} saddr }", "add @grown { {ip} saddr timeout 1m }", "update @grown { {ip} saddr limit rate 1/hour }",
    "delete @grown { {ip} saddr }", "add @dyn { {ip} saddr ct count over 1 }", "meter m1 { {ip} saddr limit rate over 1/hour }", "add @marked { tcp dport : 0x1 }", "log prefix \"x\" level debug", "log group 1", "counter name cou", "last", "notrack", "ct zone set 0", "ct event set new", "ct label set 1", "ct helper set \"help\"", "ct timeout set \"slow\"",
    "dup to {own} device \"v1\"", "queue num 1 bypass", "flow add @fast", "ct expectation set \"exp\"", "reset tcp option sack-perm", "synproxy mss 1400 wscale 7",
    "tcp dport set {port}", "counter name tcp dport map { 22 : \"cou\", 53 : \"cou\" }", "dup to {ip} saddr map { {host} : {own} } device \"v1\"", "ct zone set iifname map { \"v0\" : 1 }", "meta mark set ct direction map { original : 1 }", "meta priority set {ip} saddr map { {host} : 1:1 }", "{ip} daddr set {own}", "udp dport set {port}", "tproxy to :50080", "secmark set \"s\"",
)  # fmt: skip
REJECTS = (
    "reject with icmp type admin-prohibited",
    "reject with icmpv6 type admin-prohibited",
    "reject with tcp reset",
    "reject with icmpx type host-unreachable",
)
VERDICTS = (
    "accept",
    "accept",
    "drop",
    "drop",
    "reject",
    *REJECTS,
    "return",
    "continue",
    "jump one",
    "jump two",
    "goto two",
)
MAPS = (
    "tcp dport vmap { 22 : drop, 80-443 : jump two, 8080 : accept }", "udp dport vmap @verdicts", "iifname vmap { \"v0\" : jump two, \"v1\" : accept, \"v2\" : drop }",
    "ct state vmap { invalid : drop, established : accept, related : accept }", "ct state vmap { new : continue, invalid : drop, untracked : accept }", "meta mark vmap { 0x0 : continue, 0x1 : accept, 0x2-0x3 : drop }", "ct mark vmap { 0x1 : accept, 0x2 : drop }",
    "{ip} saddr vmap { {host} : drop, {host2} : accept }", "{ip} saddr . tcp dport vmap { {host} . {port} : drop, {net} . 80-443 : accept }", "meta l4proto vmap { tcp : jump two, udp : accept, 58 : accept, icmp : drop }",
    "iifname . meta l4proto vmap { \"v0\" . tcp : drop, \"v1\" . udp : goto two }", "fib daddr type vmap { local : continue, broadcast : accept, multicast : drop, unicast : continue }", "numgen inc mod 2 vmap { 0 : drop, 1 : accept }",
    "ct status vmap { dnat : accept, snat : drop }", "tcp flags vmap { syn : continue, ack : drop, fin : accept }", "meta pkttype vmap { broadcast : accept, multicast : drop }", "meta iif . meta mark vmap { \"v0\" . 0x1 : drop }",
)  # fmt: skip
NATS = (
    "tcp dport {port} dnat {ip} to {there}", "tcp dport {port} dnat {ip} to {there}:{port}", "meta l4proto tcp dnat {ip} to tcp dport map { 22 : {there}, 80 : {there} }", "meta l4proto udp dnat {ip} to udp dport map { 53 : {there}, 443 : {there} } : udp dport map { 53 : 80, 443 : 8080 }", "iifname \"v0\" tcp dport {port} redirect to :{port}",
    "tcp dport {port} redirect to :8000-8010", "{ip} daddr {own} tcp dport {port} dnat {ip} to {there}", "udp dport {port} dnat {ip} to {range}", "dnat {ip} to {ip} daddr . tcp dport map { {own} . 22 : {there} . 80, {own} . 443 : {there} . 8080 }", "tcp dport 8080 dnat {ip} to {ip} daddr map { {own} : {there} }", "ct mark 1 tcp dport {port} dnat {ip} to {there}",
)  # fmt: skip


class WideNft(WideMaker):
    """Draws from all of nft's language."""

    def filled(self, template: str) -> str:
        rnd = self.rnd
        four = self.family == 4
        [host for side in self.sources for host in side] + list(OWN[self.family])
        low, high = rnd.sample(self.sources[2], 2)
        text = template
        for key, value in (
            ("{ip}", lambda: "ip" if four else "ip6"),
            ("{nfproto}", lambda: rnd.choice(("ipv4", "ipv6"))),
            ("{ether}", lambda: "ip" if four else "ip6"),
            ("{mark}", lambda: rnd.choice(("0x0", "0x1", "0x2", "0x3"))),
            ("{type}", lambda: rnd.choice(("unicast", "local", "broadcast", "anycast", "multicast", "blackhole", "unreachable", "prohibit", "unspec"))),
            ("{status}", lambda: rnd.choice(("dnat", "snat", "expected", "seen-reply", "assured", "confirmed"))),
            ("{proto}", lambda: rnd.choice(("tcp", "udp", "253"))),
            ("{host2}", lambda: rnd.choice(self.sources[1])),
            ("{host}", lambda: rnd.choice(self.sources[rnd.choice((0, 2))])),
            ("{net}", lambda: f"{self.sources[1][0]}/{30 if four else 126}"),
            ("{there}", lambda: rnd.choice(self.sources[2])),
            ("{port}", lambda: str(rnd.choice(PORTS))),
            ("{dir}", lambda: rnd.choice(("original", "reply"))),
            ("{state}", lambda: rnd.choice(("new", "established", "invalid", "untracked", "related"))),
            ("{pkttype}", lambda: rnd.choice(("unicast", "broadcast", "multicast", "host", "other"))),
            ("{length}", lambda: rnd.choice(("0-40", "41-1500", "32"))),
            ("{n}", lambda: str(rnd.randrange(3))),
            ("{name}", lambda: rnd.choice(("tcp", "udp", "icmp", "ipv6-icmp", "sctp", "253", "{ tcp, 253 }", "esp", "igmp"))),
            ("{range}", lambda: f"{min(low, high)}-{max(low, high)}"),
            ("{iface}", lambda: f'"v{rnd.randrange(3)}"'),
            ("{odd0}", lambda: "10.0.0.1" if four else "2001:db8::1"),
            ("{odd}", lambda: "255.0.255.1" if four else "ffff:ffff:ffff:ffff::1"),
            ("{own}", lambda: rnd.choice(OWN[self.family])),
            ("{flags}", lambda: rnd.choice(("syn", "== syn", "!= syn", "syn,ack", "{ syn, ack }", "! syn", "!= { syn, fin }", "< 3", "& syn != 0", "& (fin|syn|rst|ack) == syn"))),
            ("{flag}", lambda: rnd.choice(("syn", "ack", "(syn | ack)", "0"))),
            ("{cmp}", lambda: rnd.choice(("==", "!="))),
            ("{not}", lambda: "!= " if rnd.random() < 0.3 else ""),
        ):  # fmt: skip
            while key in text:
                text = text.replace(key, value(), 1)
        return text

    def wide(self) -> str:
        return self.filled(self.rnd.choice((*CONDITIONS, *(FOUR if self.family == 4 else SIX))))

    def rule(self, verdicts: tuple[str, ...]) -> str:
        rnd = self.rnd
        draw = rnd.random()
        first = self.wide() if rnd.random() < 0.8 else ""
        more = self.wide() if rnd.random() < 0.5 else ""
        if draw < 0.15:
            end = self.filled(rnd.choice(MAPS))
        elif draw < 0.4:
            end = self.filled(rnd.choice(CHANGES)) + rnd.choice(("", "", " accept", " drop"))
        else:
            end = rnd.choice(verdicts)
        return f"  {first} {more} {rnd.choice(('counter', ''))} {end}"

    def ruleset(self) -> str:
        rnd, four = self.rnd, self.family == 4
        kind = "ipv4_addr" if four else "ipv6_addr"
        hosts = [host for side in self.sources for host in side]
        full = 32 if four else 128
        pick = lambda n: ", ".join(rnd.sample(hosts, n))  # noqa: E731
        nets = ", ".join(f"{self.sources[n][0]}/{full - 2}" for n in rnd.sample(range(3), 2))
        both = ", ".join(sorted({f"{rnd.choice(hosts)} . {rnd.choice(hosts)}" for _ in range(8)}))
        triple = ", ".join(
            sorted({f"{rnd.choice(hosts)} . {rnd.choice(('tcp', 'udp'))} . {rnd.choice(PORTS)}" for _ in range(9)})
        )
        named = [
            f"set hosts {{ type {kind}; elements = {{ {pick(5)} }}; }}",
            f"set nets {{ type {kind}; flags interval; auto-merge; elements = {{ {nets}, {self.sources[0][5]} }}; }}",
            f"set timed {{ type {kind}; flags timeout; timeout 1h; elements = {{ {pick(3)} }}; }}",
            f"set filled {{ type {kind}; size 1000; elements = {{ {pick(2)} }}; }}",
            f"set grown {{ type {kind}; flags dynamic,timeout; timeout 1m; }}",
            f"set dyn {{ type {kind}; flags dynamic; size 100; }}",
            "set ports { type inet_service; flags interval; elements = { 22, 80-443 }; }",
            "set protos { type inet_proto; elements = { tcp, 253 }; }",
            "set marks { type mark; elements = { 0x1, 0x2 }; }",
            'set ways { type ifname; elements = { "v0", "v2" }; }',
            "set macs { type ether_addr; elements = { 02:00:00:00:00:01 }; }",
            f"set pairs {{ type {kind} . inet_service; flags interval; elements = {{ {nets.split(',')[0]} . 22-80, {rnd.choice(hosts)} . 443 }}; }}",
            f"set both {{ type {kind} . {kind}; elements = {{ {both} }}; }}",
            f"set triple {{ type {kind} . inet_proto . inet_service; elements = {{ {triple} }}; }}",
            f'set wayhost {{ type ifname . {kind}; elements = {{ "v0" . {rnd.choice(self.sources[0])}, "v1" . {rnd.choice(self.sources[1])} }}; }}',
            "map marked { type inet_service : mark; elements = { 22 : 0x1, 53 : 0x2 }; }",
            "map verdicts { type inet_service : verdict; elements = { 22 : drop, 53 : jump two, 443 : accept }; }",
            "counter cou { }", "quota quo { 1000 bytes }", "limit lim { rate 1/hour }",
            'ct helper help { type "ftp" protocol tcp; }',
        ]  # fmt: skip
        keep = [one for one in named if not one.startswith("map verdicts")]

        def chain(
            name: str, hook: str, priority: str, count: int, verdicts: tuple[str, ...], policy: bool = True
        ) -> str:
            head = (
                f"  type filter hook {hook} priority {priority}; policy {rnd.choice(('accept', 'drop')) if policy else 'accept'};"
                if hook
                else ""
            )
            return "\n".join([f" chain {name} {{", head, *(self.rule(verdicts) for _ in range(count)), " }"])

        ends = tuple(v for v in VERDICTS if v not in ("jump one", "jump two", "goto two"))
        main = [
            "table inet main {", *(f" {one}" for one in keep),
            chain("two", "", "", rnd.randrange(4), ends),
            f" {named[16]}",
            chain("one", "", "", rnd.randrange(4), tuple(v for v in VERDICTS if v != "jump one")),
            chain("input", "input", "0", rnd.randint(2, 6), VERDICTS), chain("forward", "forward", "0", rnd.randint(2, 6), VERDICTS), "}",
        ]  # fmt: skip
        simple = [f"table {'ip' if four else 'ip6'} early {{", *(f" {one}" for one in keep), chain("two", "", "", 2, ends), f" {named[16]}",
                  chain("pre", "prerouting", rnd.choice(("raw", "mangle", "-110")), rnd.randrange(4), ("accept", "continue", "continue", "drop", "return"), False), "}"]  # fmt: skip
        nat = [
            f"table {'ip' if four else 'ip6'} xlat {{",
            " chain pre {",
            "  type nat hook prerouting priority dstnat;",
            *(f"  {self.filled(rnd.choice(NATS))}" for _ in range(rnd.randrange(3))),
            " }",
            "}",
        ]
        late = [
            "table inet late {",
            *(f" {one}" for one in keep[:16]),
            chain("in2", "input", "10", rnd.randrange(3), ("accept", "drop", "continue"), False),
            chain("fwd2", "forward", "filter + 5", rnd.randrange(3), ("accept", "drop", "continue"), False),
            "}",
        ]
        out = ["flush ruleset", *main]
        if rnd.random() < 0.7:
            out += simple
        if self.translate:
            out += nat
        if rnd.random() < 0.4:
            out += late
        return "\n".join(out) + "\n" + JUDGE


def loaded(firewall: Firewall, text: str) -> bool:
    """Load a rule set without the lines that nft or this kernel refuses; whether nft could go on to the end."""
    lines = text.splitlines()
    for _ in range(200):
        done = subprocess.run(
            ["ip", "netns", "exec", firewall.ns, "nft", "-f", "-"],
            input="\n".join([*lines, ""]),
            capture_output=True,
            text=True,
            check=False,
        )
        if done.returncode <= 0:
            return not done.returncode
        bad = sorted({int(n) for n in re.findall(r"^/dev/stdin:(\d+):", done.stderr, re.M)}, reverse=True)
        if not bad:
            assert "Assertion" in done.stderr, done.stderr
            return False
        lines = [one for n, one in enumerate(lines, 1) if n not in bad]
    raise AssertionError(done.stderr)


def counted(firewall: Firewall) -> tuple[int, int, int]:
    """What the judge has counted: packets that arrived, that came to the firewall, that came through it."""
    out = {}
    for one in json.loads(firewall.run("nft", "-j", "list", "ruleset"))["nftables"]:
        if (rule := one.get("rule")) and rule["table"] == "judge":
            out[rule["chain"]] = rule["expr"][0]["counter"]["packets"]
    return out["seen"], out["in"], out["through"]


def comes(firewall: Firewall, packet: Packet, before: tuple[int, int, int]) -> tuple[str, tuple[int, int, int]]:
    firewall.send(packet)
    for attempt in range(40):
        after = counted(firewall)
        if after[0] != before[0]:
            after = counted(firewall)
            break
        time.sleep(0.002 * (attempt + 1))
    else:
        return "", before
    return ("in" if after[1] > before[1] else "through" if after[2] > before[2] else "refused"), after


def essence(device: Device) -> list[object]:
    """What a device's rules and sets say, without where they stand and how their conditions are spelled."""
    rules = [
        (
            base.name,
            chain.name,
            rule.number,
            rule.action,
            rule.match,
            rule.marks,
            rule.effects,
            rule.reply,
            [q.name for q in rule.qualifiers],
        )
        for base in device.rulebases
        for chain, rule in base.rules()
    ]
    # The JSON of nft 1.0.6 does not say that a set is meant to be filled, only that rules do so.
    return [*rules, *((one.name, one.dimensions, one.entries) for one in device.sets)]


def told(visit: Visit) -> str:
    """The place that decides: chain and rule, or the chain's policy."""
    return f"{visit.rulebase.name}/{visit.chain.name}/{visit.rule.number if visit.rule else 'policy'}"


def ours(listed: str, name: str) -> str:
    """A listing without the judge's tables."""
    if name.endswith(".json"):
        whole = json.loads(listed)
        whole["nftables"] = [
            o for o in whole["nftables"] if all(v.get("table", v.get("name")) != "judge" for v in o.values())
        ]
        return json.dumps(whole)
    return re.sub(r"^table \w+ judge \{.*?^\}\n", "", listed, flags=re.M | re.S)


@EACH_KIND
def test_what_is_certain_is_what_the_kernel_does(
    family: int, translate: bool, record_property: Callable[[str, object], None]
) -> None:
    counts: Counter[str] = Counter()
    reasons: Counter[str] = Counter()
    wrong = []
    met: set[frozenset[int]] = set()
    with Firewall() as firewall:
        for number in range(SETS):
            seed = SEED + 1000 * number + 10 * family + translate + 800
            maker = WideNft(seed, family, translate)
            if not loaded(firewall, maker.ruleset()):
                continue
            try:
                texts = {"rules.nft": firewall.run("nft", "list", "ruleset")}
            except AssertionError:  # there are rules that nft takes and then fails to list
                counts["not listed"] += 1
                continue
            texts["rules.json"] = firewall.run("nft", "-j", "list", "ruleset")
            texts = {name: ours(text, name) for name, text in texts.items()}
            devices = {name: nftables.read([decode(name, text.encode())], "kernel") for name, text in texts.items()}
            one, other = map(essence, devices.values())
            assert one == other, (
                f"seed {seed}: {[pair for pair in zip(one, other, strict=False) if pair[0] != pair[1]][:3]}"
            )
            probers = {name: Prober(Programs(device)) for name, device in devices.items()}
            before = counted(firewall)
            for packet in [maker.packet(met) for _ in range(PACKETS)]:
                came, before = comes(firewall, packet, before)
                counts["packets"] += 1
                if not came:
                    counts["never seen"] += 1
                    continue
                for name, prober in probers.items():
                    verdict = prober.probe(packet)
                    if not verdict.certain:
                        counts["not certain"] += 1
                        reasons.update(open_because(verdict))
                        continue
                    counts["certain"] += 1
                    counts[verdict.verdict.value] += 1
                    if (verdict.verdict is Action.ACCEPT) != (came != "refused"):
                        wrong.append(
                            f"seed {seed} {name}: {packet.sentence()}\nkernel {came}, probe {verdict.verdict} by {[told(way.decided_by) for way in verdict.ways]}\n{texts['rules.nft']}"
                        )
    assert counts["not listed"] < SETS / 2
    assert not wrong, "\n\n".join(wrong[:20])
    assert counts["certain"] > 0.3 * counts["packets"]
    kind = "with translation" if translate else "plain"
    record_property(
        "kernel",
        f"every statement, nft IPv{family} {kind}, text and JSON: {SETS} rule sets from seed {SEED}, {dict(sorted(counts.items()))}; open by {usual(reasons)}",
    )
