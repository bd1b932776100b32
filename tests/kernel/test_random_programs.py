"""Random configurations of ufw, firewalld and Shorewall: their files let through what the kernel does once they have run.

The seed of a configuration stands in its name; set AIGUILLE_KERNEL_SEED for others.
"""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.kernel.sandbox import Sandbox, compare, compare_listing
from tests.kernel.test_programs import LINKS, START_FIREWALLD, START_SHOREWALL, START_UFW, given_as_commands, needs

SEED = int(os.environ.get("AIGUILLE_KERNEL_SEED", "20261125"))
NETWORKS = ("10.0.0.0/8", "10.0.5.0/24", "10.0.5.9", "192.0.2.0/24", "192.0.2.77", "198.51.100.0/25", "203.0.113.4/30")
NETWORKS_6 = ("2001:db8::/32", "2001:db8:5::/48", "2001:db8:5::9", "2001:db8:7::/64")
PORTS = ("22", "80", "443", "25", "53", "8080", "5432", "2049")
INTERFACES = ("eth0", "eth1", "eth2")


class Maker:
    """Draws from one seed."""

    def __init__(self, seed: int) -> None:
        self.rnd = random.Random(seed)

    def one(self, *options: str) -> str:
        return self.rnd.choice(options)

    def often(self, share: float, text: str) -> str:
        return text if self.rnd.random() < share else ""

    def several(self, most: int, options: tuple[str, ...]) -> str:
        return ",".join(sorted(self.rnd.sample(options, self.rnd.randint(1, most))))

    # -- ufw -------------------------------------------------------------------------------------------------------

    def ufw(self) -> str:
        words = ";".join(
            f's/DEFAULT_{chain}_POLICY=.*/DEFAULT_{chain}_POLICY="{self.one("DROP", "ACCEPT", "REJECT")}"/'
            for chain in ("INPUT", "OUTPUT", "FORWARD")
        )
        # Written in place, as the file is mounted.
        policies = [f"sed '{words}' /etc/default/ufw > /run/ufw; cat /run/ufw > /etc/default/ufw"]
        rules = [self._ufw_rule() for _ in range(8)]
        return "\n".join([*policies, *rules, f"ufw logging {self.one('off', 'low', 'medium', 'high', 'full')}"])

    def _ufw_rule(self) -> str:
        six = self.rnd.random() < 0.25
        networks = NETWORKS_6 if six else NETWORKS
        routed = self.rnd.random() < 0.3
        action = self.one("allow", "deny", "reject", *([] if routed else ["limit"]))
        if routed:
            way = f"{self.often(0.6, f'in on {self.one(*INTERFACES)} ')}{self.often(0.6, f'out on {self.one(*INTERFACES)} ')}"
        else:
            side = self.one("in", "in", "out")
            way = f"{side} {self.often(0.4, f'on {self.one(*INTERFACES)} ')}"
        protocol = self.one("tcp", "udp")
        port = self.often(0.7, f"port {self.several(2, PORTS)}")
        source = self.often(0.6, self.one(*networks)) or "any"
        target = self.often(0.4, self.one(*networks)) or "any"
        log = self.often(0.15, "log ")
        return (
            f"ufw {'route ' if routed else ''}{action} {way}{log}"
            f"{f'proto {protocol} ' if port or self.rnd.random() < 0.3 else ''}from {source} to {target} {port}"
        )

    # -- firewalld -------------------------------------------------------------------------------------------------

    def firewalld(self) -> str:
        lines = [f"firewall-offline-cmd --set-log-denied={self.one('off', 'all', 'unicast')}"]
        zones = self.rnd.sample(
            ("public", "work", "dmz", "internal", "external", "trusted", "block", "drop", "home"), 4
        )
        free = list(INTERFACES)
        self.rnd.shuffle(free)
        for zone in zones:
            if free and self.rnd.random() < 0.7:
                lines.append(f"firewall-offline-cmd --zone={zone} --add-interface={free.pop()}")
            if self.rnd.random() < 0.4:
                lines.append(f"firewall-offline-cmd --zone={zone} --add-source={self.one(*NETWORKS, *NETWORKS_6)}")
            lines += [f"firewall-offline-cmd --zone={zone} {self._firewalld_entry()}" for _ in range(4)]
        lines.append(f"firewall-offline-cmd --set-default-zone={self.one(*zones)}")
        for number in range(2):
            name = f"p{number}"
            ends = (self.one(*zones, "HOST", "ANY"), self.one(*zones, "HOST", "ANY"))
            lines += [
                f"firewall-offline-cmd --new-policy={name}",
                f"firewall-offline-cmd --policy={name} --add-ingress-zone={ends[0]}",
                f"firewall-offline-cmd --policy={name} --add-egress-zone={ends[1]}",
                f"firewall-offline-cmd --policy={name} --set-target={self.one('ACCEPT', 'DROP', 'REJECT', 'CONTINUE')}",
                f"firewall-offline-cmd --policy={name} --set-priority={self.one('-20', '-1', '5', '50')}",
                f"firewall-offline-cmd --policy={name} {self._firewalld_entry()}",
            ]
        return "\n".join(f"{line} || true" for line in lines)  # some contradict one another

    def _firewalld_entry(self) -> str:
        six = self.rnd.random() < 0.3
        match self.rnd.randrange(6):
            case 0:
                return f"--add-service={self.one('http', 'https', 'dns', 'samba', 'ipsec', 'mdns', 'telnet')}"
            case 1:
                return f"--add-port={self.one('8000-8010', *PORTS)}/{self.one('tcp', 'udp')}"
            case 2:
                return f"--add-icmp-block={self.one('echo-request', 'redirect', 'destination-unreachable')}"
            case 3:
                return f"--add-protocol={self.one('gre', 'esp', 'igmp')}"
        source = f"source {self.often(0.2, 'NOT ')}address={self.one(*(NETWORKS_6 if six else NETWORKS))} "
        port = f"port port={self.one(*PORTS)} protocol={self.one('tcp', 'udp')} "
        element = self.one(port, f"service name={self.one('ssh', 'http')} ", "")
        log = self.often(0.3, "log prefix=x level=info ")
        priority = self.often(0.3, f"priority={self.one('-5', '7')} ")
        end = self.one("accept", "drop", "reject")
        return f"--add-rich-rule='rule {priority}family={'ipv6' if six else 'ipv4'} {source}{element}{log}{end}'"

    # -- Shorewall -------------------------------------------------------------------------------------------------

    def shorewall(self) -> dict[str, str]:
        options = ("tcpflags", "nosmurfs", "routeback", "dhcp", "routefilter", "tcpflags=0")
        zones = "fw firewall\nnet ipv4\nloc ipv4\n" + self.often(0.7, "lan:loc ipv4\n") + self.often(0.7, "dmz ipv4\n")
        names = [line.split()[0].split(":")[0] for line in zones.splitlines()[1:]]
        interfaces = f"?FORMAT 2\nnet eth0 {self.several(2, options)}\n- eth1 {self.several(2, options)}\n"
        hosts = "loc eth1:10.0.0.0/16\n" + ("lan eth1:10.0.5.0/24!10.0.5.9\n" if "lan" in names else "")
        if "dmz" in names:
            interfaces += f"dmz eth2 {self.often(0.5, 'routeback')}\n"
        else:
            interfaces += "loc eth2\n"
        policies = ("ACCEPT", "DROP", "REJECT info", "DROP info", "CONTINUE")
        pairs = dict.fromkeys((self.one(*names, "$FW", "all"), self.one(*names, "all")) for _ in range(4))
        pairs.pop(("all", "all"), None)
        pairs = dict.fromkeys(sorted(pairs, key=lambda pair: "all" in pair))  # wide ones above others are an error
        usable = policies if "lan" in names else policies[:4]
        policy = "".join(f"{source} {dest} {self.one(*usable)}\n" for source, dest in pairs)
        policy += f"{self.one('all all', 'all+ all+')} {self.one('DROP info', 'REJECT', 'ACCEPT')}\n"
        rules = self.often(0.3, f"?SECTION ALL\nDROP net all tcp {self.one(*PORTS)}\n")
        rules += self.often(0.4, f"?SECTION RELATED\nDROP net {self.one(*names, '$FW')} udp\n")
        rules += "?SECTION NEW\n" + "".join(f"{self._shorewall_rule(names)}\n" for _ in range(12))
        return {
            "zones": zones,
            "interfaces": interfaces,
            "hosts": hosts,
            "policy": policy,
            "rules": rules,
            "blrules": self.often(0.4, "DROP net:198.51.100.0/25 all\nWHITELIST net:192.0.2.77 all\n"),
            "shorewall.conf": f"ROUTE_FILTER={self.one('Yes', 'No')}\nIMPLICIT_CONTINUE={self.one('Yes', 'No')}\n"
            f"INVALID_DISPOSITION={self.one('CONTINUE', 'DROP')}\nFASTACCEPT=No\nOPTIMIZE={self.one('0', 'All')}\n",
        }

    def _shorewall_rule(self, names: list[str]) -> str:
        def end(*more: str) -> str:
            zone = self.one(*names, *more)
            if zone in ("$FW", "all", "all+", "any"):
                return zone
            part = self.one("", f":{self.several(2, NETWORKS)}", f":!{self.one(*NETWORKS)}", ":10.0.0.0/8!10.0.5.0/24")
            return f"{zone}{part}"

        source, dest = end("$FW", "all", "any"), end("$FW", "all", "all+")
        log = self.often(0.2, ":info")
        match self.rnd.randrange(5):
            case 0:
                macro = self.one("SSH", "Web", "DNS", "Ping", "SMB", "Trcrt", "IPsec", "Mail", "NTPbi")
                return f"{macro}({self.one('ACCEPT', 'DROP', 'REJECT')}){log} {source} {dest}"
            case 1:
                server = f"{self.one(*names)}:10.0.5.{self.rnd.randrange(2, 9)}{self.often(0.5, ':8443')}"
                return f"DNAT{log} net {server} {self.one('tcp', 'udp')} {self.one(*PORTS)} - {self.often(0.5, '192.0.2.1')}"
            case 2:
                return f"{self.one('Invalid', 'NotSyn', 'Broadcast', 'Multicast')}({self.one('DROP', 'ACCEPT')}) {source} {dest}"
            case 3:
                return f"{self.one('ACCEPT', 'REJECT')} {source} {dest} icmp {self.one('8', '3,11', '0')}"
        ports = self.one(self.one(*PORTS), self.several(3, PORTS), "1024:2048", f"!{self.one(*PORTS)}")
        action = self.one("ACCEPT", "DROP", "REJECT", "CONTINUE")
        if action == "CONTINUE" and "!" in source + dest:
            action = "DROP"  # Shorewall marks packets to do that, which sets of packets do not follow
        return f"{action}{log} {source} {dest} {self.one('tcp', 'udp', 'tcp,udp')} {ports}"


def ufw(maker: Maker, box: Sandbox) -> tuple[tuple[str, ...], tuple[int, ...]]:
    places = ("etc/ufw", "etc/default/ufw")
    for place in places:
        box.copy(place)
    box.run(f"{maker.ufw()}\n{START_UFW}")
    return places, (4, 6)


def firewalld(maker: Maker, box: Sandbox) -> tuple[tuple[str, ...], tuple[int, ...]]:
    box.copy("etc/firewalld")
    box.run(f"{maker.firewalld()}\n{START_FIREWALLD}")
    return ("etc/firewalld",), (4, 6)


def shorewall(maker: Maker, box: Sandbox) -> tuple[tuple[str, ...], tuple[int, ...]]:
    folder = box.copy("etc/shorewall")
    for file, text in maker.shorewall().items():
        if text:
            before = (folder / file).read_text() if file == "shorewall.conf" else ""
            (folder / file).write_text(before + text)
    box.run(LINKS + START_SHOREWALL.format(program="shorewall"))
    return ("etc/shorewall",), (4,)


PROGRAMS: dict[str, tuple[int, Callable[[Maker, Sandbox], tuple[tuple[str, ...], tuple[int, ...]]]]] = {
    "ufw": (3, ufw),
    "firewalld": (2, firewalld),
    "shorewall": (5, shorewall),
}
CASES = [
    (name, SEED + 100 * number + at)
    for at, (name, (count, _)) in enumerate(PROGRAMS.items())
    for number in range(count)
]


@pytest.mark.parametrize(("name", "seed"), CASES)
def test_files_let_through_what_the_kernel_does(
    name: str, seed: int, tmp_path: Path, record_property: Callable[[str, object], None]
) -> None:
    needs(name)
    with Sandbox(tmp_path) as box:
        places, families = PROGRAMS[name][1](Maker(seed), box)
        written, running = compare(box.bundle(*places), box.bundle("out"), families)
        if name == "ufw":
            compare_listing(box.bundle("status.txt"), running)
            given_as_commands(box)
            compare_listing(box.bundle("commands.txt"), running)
    rules = sum(1 for base in written.rulebases for _ in base.rules())
    record_property("kernel", f"{name} from seed {seed}: {rules} rules as files and as run, equal as sets of packets")
