"""Checks on what is let through, on rules, objects and countries: a failing, a passing and an open device each."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from aiguille.analysis.countries import located
from aiguille.baseline import CATALOGUE
from aiguille.model import Device, Estate, Locations
from aiguille.readers import host
from aiguille.readers.files import decode
from tests.baseline.devices import (
    EST,
    SSH,
    WEB,
    bare,
    both,
    entry,
    gate,
    perimeter,
    sheet,
    three,
    zoned,
)
from tests.baseline.test_settings_checks import AS_OF, assert_outcome
from tests.baseline.test_settings_checks import CASES as SETTINGS
from tests.helpers import DUMP, filter_table, linux
from tests.readers.test_locations import locations

MAIL = "-p tcp -m tcp --dport 25"
NAT = "*nat\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -i eth0 -p tcp -m tcp --dport 443 -j DNAT --to-destination 10.0.1.9:8443\nCOMMIT\n"
LISTED = "Status: active\nDefault: deny (incoming), allow (outgoing), deny (routed)\n\n25/tcp      ALLOW IN    Anywhere"
ROW = "src,dst,service,action,comment,change,valid until"
PLACES = "place a { is 10.0.3.9 }\nplace b { is 10.0.3.9 }\n"
CAMS = "place lake { is 10.0.3.9 }\nplace ridge { is 10.0.3.10 }\nplaces webcams { are [ lake ridge ] }\n"
USING = "passages { passage p { receiver [ %s ], then let } }"
LANDS = "<lands><rule title='x'>%s<land>AQ</land></rule></lands>"


def rule(fields: str) -> str:
    return f"passages {{ passage p {{ {fields}, then let }} }}"


ADDRESSED = (
    '[{"ifname": "eth0", "flags": ["UP"], "addr_info": [{"family": "inet", "local": "192.0.2.1", "prefixlen": 24}]}]\n'
)


def addressed(rules: str) -> Device:
    """A host of which every address is known."""
    return linux({"ip-addr.json": ADDRESSED}, DUMP.replace("COMMIT", f"{rules}\nCOMMIT"))


WAYS = """[{"dst": "default", "dev": "eth0"}, {"dst": "192.0.2.0/24", "dev": "eth0"}, {"dst": "10.0.1.0/24", "dev": "eth1"}]"""
TWO = (
    ADDRESSED.rstrip()[:-1]
    + ', {"ifname": "eth1", "flags": ["UP"], "addr_info": [{"family": "inet", "local": "10.0.1.1", "prefixlen": 24}]}]\n'
)


def routed(rules: str) -> Device:
    """A router of which every address and route is known."""
    return linux({"ip-addr.json": TWO, "ip-route.json": WAYS}, DUMP.replace("COMMIT", f"{rules}\nCOMMIT"))


CASES: list[tuple[str, str, Device]] = [
    ("rules.dead-forward", "fail", zoned("", nat=NAT)),
    (
        "rules.dead-forward",
        "pass",
        zoned("-A FORWARD -i eth0 -d 10.0.1.9 -p tcp -m tcp --dport 8443 -j ACCEPT", nat=NAT),
    ),
    ("rules.dead-forward", "not applicable", zoned(f"-A INPUT {WEB} -j ACCEPT")),
    (
        "deny.icmp-errors",
        "fail",
        zoned(f"-A INPUT -p icmp -j DROP\n-A INPUT {EST}\n-A INPUT {SSH} -j ACCEPT", policies="AAA"),
    ),
    (
        "deny.icmp-errors",
        "fail",
        zoned(f"-A INPUT -p ipv6-icmp -j DROP\n-A INPUT {SSH} -j ACCEPT", policies="AAA", family=6),
    ),
    ("deny.icmp-errors", "pass", zoned(f"-A INPUT {EST}\n-A INPUT -p icmp -j DROP")),
    ("deny.icmp-errors", "pass", zoned("-A INPUT -s 198.51.100.0/24 -j DROP", policies="AAA")),
    ("deny.icmp-errors", "cannot tell", bare()),
    ("rules.unknown-network", "fail", routed(f"-A FORWARD -i eth1 -d 192.168.7.5 {WEB} -j ACCEPT")),
    ("rules.unknown-network", "fail", routed(f"-A INPUT -s 192.168.7.0/24 {SSH} -j ACCEPT")),
    ("rules.unknown-network", "pass", routed(f"-A FORWARD -i eth0 -d 10.0.1.5 {WEB} -j ACCEPT")),
    (
        "rules.unknown-network",
        "pass",
        routed(f"-A INPUT -s 10.0.0.0/8 {SSH} -j ACCEPT\n-A INPUT -s 172.16.0.0/12 -j DROP"),
    ),
    ("rules.unknown-network", "not applicable", addressed(f"-A INPUT -s 192.168.7.0/24 {SSH} -j ACCEPT")),
    (
        "rules.no-effect",
        "pass",
        routed(f"-A INPUT -d 192.0.2.1 {SSH} -j DROP\n-A INPUT {SSH} -j ACCEPT\n-A INPUT -s 10.0.1.9 {WEB} -j ACCEPT"),
    ),
    ("access.needless-service", "fail", zoned("-A INPUT -p icmp -m icmp --icmp-type 5 -j ACCEPT")),
    ("rules.undocumented", "not applicable", zoned("-A INPUT -p tcp -j DROP")),
    ("rules.undocumented", "fail", host.read([decode("status.txt", LISTED.encode())], "box")),
    (
        "rules.undocumented",
        "pass",
        host.read([decode("status.txt", f"{LISTED}   # mail of the office".encode())], "box"),
    ),
    ("rules.shadowed", "not applicable", linux({"etc/firewalld/zones/public.xml": "<zone/>"}, dump="")),
    ("access.too-many-sources", "fail", zoned(f"-A INPUT -i eth0 -s 198.51.100.0/27 {SSH} -j ACCEPT")),
    ("access.too-many-sources", "pass", zoned(f"-A INPUT -i eth0 -s 198.51.100.0/28 {SSH} -j ACCEPT")),
    # More than named sources is another check's matter.
    ("access.too-many-sources", "pass", zoned(f"-A INPUT -i eth0 {SSH} -j ACCEPT")),
    ("access.too-many-sources", "cannot tell", bare()),
    ("access.needless-service", "fail", zoned("-A INPUT -p icmp -m icmp --icmp-type 8 -j ACCEPT")),
    ("access.needless-service", "pass", zoned("-A INPUT -i eth1 -p icmp -m icmp --icmp-type 8 -j ACCEPT")),
    ("access.needless-service", "cannot tell", filter_table("")),
    ("access.default-port", "fail", zoned(f"-A INPUT -s 198.51.100.9 {SSH} -j ACCEPT")),
    ("access.default-port", "pass", zoned("-A INPUT -p tcp -m tcp --dport 2222 -j ACCEPT")),
    ("access.default-port", "cannot tell", filter_table("")),
    ("deny.between-inside", "fail", three("-A FORWARD -i eth2 -o eth1 -p tcp -j ACCEPT")),
    ("deny.between-inside", "pass", three(f"-A FORWARD -i eth2 -o eth1 {WEB} -j ACCEPT")),
    # Only a forged source would get by that way.
    ("deny.between-inside", "pass", three("-A FORWARD -i eth2 -s 10.9.0.0/16 -j ACCEPT")),
    ("deny.between-inside", "not applicable", zoned("-A FORWARD -j ACCEPT")),
    ("deny.between-inside", "cannot tell", bare()),
    ("deny.egress", "fail", three("-A FORWARD -i eth1 -o eth0 -j ACCEPT")),
    ("deny.egress", "pass", three(f"-A FORWARD -i eth1 -o eth0 {WEB} -j ACCEPT")),
    ("deny.egress", "cannot tell", bare()),
    ("deny.answers-outside", "fail", zoned("-A INPUT -j REJECT")),
    ("deny.answers-outside", "pass", zoned("-A INPUT -i eth1 -j REJECT")),
    ("deny.answers-outside", "cannot tell", filter_table("-A INPUT -j REJECT")),
    ("deny.wider-ipv6", "fail", both("", f"-A INPUT -i eth0 {SSH} -j ACCEPT")),
    ("deny.wider-ipv6", "fail", both(f"-A INPUT -s 198.51.100.9 {SSH} -j ACCEPT", f"-A INPUT {SSH} -j ACCEPT")),
    ("deny.wider-ipv6", "pass", both(f"-A INPUT {SSH} -j ACCEPT", f"-A INPUT {SSH} -j ACCEPT")),
    ("deny.wider-ipv6", "pass", both("", f"-A INPUT -s 2001:db8::9/128 {SSH} -j ACCEPT")),
    ("deny.wider-ipv6", "cannot tell", zoned("")),
    ("deny.bogons", "fail", zoned(f"-A FORWARD -i eth0 -o eth1 {WEB} -j ACCEPT")),
    ("deny.bogons", "pass", zoned(f"-A FORWARD -i eth0 -o eth1 -s 198.51.100.0/24 {WEB} -j ACCEPT")),
    ("deny.bogons", "cannot tell", filter_table("")),
    ("deny.no-rules", "fail", zoned("")),
    ("deny.no-rules", "pass", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("deny.no-rules", "cannot tell", bare()),
    ("deny.no-final-refusal", "fail", gate("passages { passage p { then let, sender [ 10.0.0.1 ] } }")),
    ("deny.no-final-refusal", "pass", zoned("")),
    ("deny.no-final-refusal", "not applicable", zoned("", policies="AAA")),
    ("deny.no-final-refusal", "cannot tell", bare()),
    ("deny.established", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    (
        "deny.established",
        "fail",
        zoned("-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT\n" + f"-A INPUT {SSH} -j ACCEPT"),
    ),
    ("deny.established", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT\n" * 12 + f"-A INPUT {EST}")),
    ("deny.established", "pass", zoned(f"-A INPUT {EST}\n-A INPUT {SSH} -j ACCEPT")),
    ("deny.established", "not applicable", zoned("", policies="AAA")),
    ("deny.established", "cannot tell", bare()),
    ("deny.invalid", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("deny.invalid", "pass", zoned(f"-A INPUT -m conntrack --ctstate INVALID -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    ("deny.invalid", "cannot tell", bare()),
    ("deny.loopback", "fail", zoned("")),
    ("deny.loopback", "pass", zoned("-A INPUT -i lo -j ACCEPT")),
    ("deny.loopback", "not applicable", gate("")),
    ("deny.loopback", "cannot tell", bare()),
    ("logging.permissive", "fail", zoned("-A FORWARD -i eth1 -j ACCEPT")),
    ("logging.permissive", "pass", zoned("-A FORWARD -i eth1 -j LOG\n-A FORWARD -i eth1 -j ACCEPT")),
    ("logging.permissive", "cannot tell", bare()),
    ("logging.permissive", "cannot tell", sheet("src,dst,action", "any,any,allow")),
    ("logging.sensitive", "fail", zoned(f"-A FORWARD {SSH} -j ACCEPT")),
    ("logging.sensitive", "pass", zoned(f"-A FORWARD {WEB} -j ACCEPT")),
    ("logging.sensitive", "cannot tell", bare()),
    ("rules.any-source", "fail", zoned(f"-A FORWARD -i eth0 -o eth1 {WEB} -j ACCEPT")),
    ("rules.any-source", "pass", zoned(f"-A FORWARD -i eth0 -o eth1 -s 198.51.100.0/24 {WEB} -j ACCEPT")),
    ("rules.any-source", "cannot tell", filter_table("")),
    ("rules.any-service", "fail", zoned("-A FORWARD -s 10.0.0.0/24 -d 10.0.1.0/24 -j ACCEPT")),
    ("rules.any-service", "fail", zoned("-A FORWARD -s 10.0.0.0/24 -p tcp -j ACCEPT")),
    ("rules.any-service", "pass", zoned(f"-A FORWARD -s 10.0.0.0/24 {WEB} -j ACCEPT")),
    ("rules.any-service", "cannot tell", bare()),
    ("rules.wide-ports", "fail", zoned("-A FORWARD -p tcp -m tcp --dport 1000:2000 -j ACCEPT")),
    ("rules.wide-ports", "pass", zoned("-A FORWARD -p tcp -m tcp --dport 1000:1100 -j ACCEPT")),
    ("rules.wide-ports", "cannot tell", bare()),
    ("rules.openness", "fail", zoned("-A FORWARD -j ACCEPT")),
    ("rules.openness", "pass", zoned(f"-A FORWARD -d 10.0.1.9 {WEB} -j ACCEPT")),
    ("rules.openness", "cannot tell", bare()),
    ("rules.dangerous-service", "fail", zoned("-A FORWARD -i eth0 -p tcp -m tcp --dport 445 -j ACCEPT")),
    ("rules.dangerous-service", "pass", zoned("-A FORWARD -s 10.0.0.9 -p tcp -m tcp --dport 445 -j ACCEPT")),
    ("rules.dangerous-service", "cannot tell", bare()),
    ("rules.outgoing-mail", "fail", zoned(f"-A FORWARD -i eth1 -o eth0 {MAIL} -j ACCEPT")),
    ("rules.outgoing-mail", "pass", zoned(f"-A FORWARD -i eth1 -o eth0 -d 198.51.100.25 {MAIL} -j ACCEPT")),
    ("rules.outgoing-mail", "cannot tell", bare()),
    ("rules.published-service", "fail", zoned("-A FORWARD -d 10.0.1.9 -p tcp -j ACCEPT", nat=NAT)),
    ("rules.published-service", "pass", zoned("-A FORWARD -d 10.0.1.9 -p tcp -m tcp --dport 8443 -j ACCEPT", nat=NAT)),
    ("rules.published-service", "cannot tell", filter_table("", nat=NAT)),
    ("rules.shadowed", "fail", zoned(f"-A INPUT -p tcp -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    ("rules.shadowed", "pass", zoned(f"-A INPUT {SSH} -j ACCEPT\n-A INPUT -p tcp -j DROP")),
    ("rules.shadowed", "pass", zoned(f"-A INPUT -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    ("rules.shadowed", "cannot tell", bare()),
    # What only repeats the default says so on purpose.
    ("rules.redundant", "pass", zoned(f"-A INPUT {SSH} -j DROP")),
    ("rules.redundant", "fail", zoned(f"-A INPUT -s 10.0.0.0/8 {SSH} -j ACCEPT\n-A INPUT -s 10.0.0.9 {SSH} -j ACCEPT")),
    ("rules.no-effect", "fail", zoned(f"-A INPUT -s 10.0.0.9 {SSH} -j ACCEPT\n-A INPUT {SSH} -j ACCEPT")),
    ("rules.no-effect", "pass", zoned(f"-A INPUT -s 10.0.0.9 {SSH} -j ACCEPT\n-A INPUT {WEB} -j ACCEPT")),
    ("rules.outgoing-mail", "fail", three("-A OUTPUT -p tcp -m tcp --dport 25 -j ACCEPT")),
    ("rules.no-effect", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT\n-A INPUT {SSH} -m limit --limit 3/min -j ACCEPT")),
    ("rules.no-effect", "pass", zoned(f"-A INPUT {WEB} -j ACCEPT\n-A INPUT {SSH} -m limit --limit 3/min -j ACCEPT")),
    ("rules.no-effect", "not applicable", zoned(f"-A INPUT {WEB} -j ACCEPT")),
    ("rules.no-effect", "cannot tell", bare()),
    ("rules.both-ports", "fail", zoned("-A INPUT -p tcp -m tcp --sport 443 --dport 443 -j ACCEPT")),
    ("rules.both-ports", "pass", zoned("-A INPUT -p udp -m udp --sport 123 --dport 123 -j ACCEPT")),
    ("rules.both-ports", "cannot tell", bare()),
    ("access.exposed-service", "fail", zoned("-A INPUT -i eth0 -p tcp -m tcp --dport 5432 -j ACCEPT")),
    ("access.exposed-service", "pass", zoned("-A INPUT -i eth1 -p tcp -m tcp --dport 5432 -j ACCEPT")),
    ("access.exposed-service", "cannot tell", bare()),
    ("deny.guests-inside", "fail", three("-A FORWARD -i eth2 -o eth1 -p tcp -m tcp --dport 445 -j ACCEPT")),
    ("deny.guests-inside", "pass", three("-A FORWARD -i eth2 -o eth0 -p tcp -m tcp --dport 443 -j ACCEPT")),
    ("deny.guests-inside", "not applicable", zoned("")),
    ("deny.guests-inside", "cannot tell", bare()),
    ("deny.neighbour-discovery", "fail", zoned(f"-A INPUT {WEB} -j ACCEPT", family=6)),
    ("deny.neighbour-discovery", "pass", zoned(f"-A INPUT -p ipv6-icmp -j ACCEPT\n-A INPUT {WEB} -j ACCEPT", family=6)),
    ("deny.neighbour-discovery", "not applicable", zoned("", family=6)),
    ("rules.redundant", "pass", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("rules.redundant", "cannot tell", bare()),
    ("rules.contradicted", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT\n-A INPUT -s 198.51.100.0/24 -j DROP")),
    ("rules.contradicted", "pass", zoned(f"-A INPUT -s 198.51.100.0/24 -p tcp -j DROP\n-A INPUT {SSH} -j ACCEPT")),
    # An exception for one of those refused.
    (
        "rules.contradicted",
        "pass",
        zoned(f"-A INPUT -s 198.51.100.9 {SSH} -j ACCEPT\n-A INPUT -s 198.51.100.0/24 -j DROP"),
    ),
    ("rules.contradicted", "not applicable", zoned(f"-A INPUT {SSH} -j ACCEPT\n-A INPUT -j DROP")),
    ("rules.contradicted", "cannot tell", bare()),
    ("rules.impossible", "fail", zoned(f"-A old {SSH} -j ACCEPT", chains=("old",))),
    ("rules.impossible", "pass", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("rules.impossible", "cannot tell", bare()),
    (
        "rules.near-duplicate",
        "fail",
        zoned(f"-A INPUT -s 10.0.0.1 {SSH} -j ACCEPT\n-A INPUT -s 10.0.0.7 {SSH} -j ACCEPT"),
    ),
    (
        "rules.near-duplicate",
        "pass",
        zoned(f"-A INPUT -s 10.0.0.1 {SSH} -j ACCEPT\n-A INPUT -s 10.0.0.7 {WEB} -j ACCEPT"),
    ),
    ("rules.near-duplicate", "cannot tell", bare()),
    ("rules.source-port", "fail", zoned("-A FORWARD -p udp -m udp --sport 123 -j ACCEPT")),
    ("rules.source-port", "pass", zoned("-A FORWARD -p udp -m udp --sport 123 --dport 123 -j ACCEPT")),
    ("rules.source-port", "cannot tell", bare()),
    ("rules.fail-open", "fail", zoned("-A FORWARD -p tcp --dport 80 -j NFQUEUE --queue-num 1 --queue-bypass")),
    ("rules.fail-open", "pass", zoned("-A FORWARD -p tcp --dport 80 -j NFQUEUE --queue-num 1")),
    ("rules.fail-open", "not applicable", zoned("-A FORWARD -p tcp --dport 80 -j ACCEPT")),
    (
        "rules.needless-return",
        "fail",
        zoned(
            "-A FORWARD -s 10.0.1.0/24 -d 10.0.2.9 -p tcp -m tcp --dport 443 -j ACCEPT\n"
            "-A FORWARD -s 10.0.2.9 -d 10.0.1.0/24 -p tcp -m tcp --sport 443 -j ACCEPT"
        ),
    ),
    ("rules.needless-return", "pass", zoned(f"-A FORWARD {WEB} -j ACCEPT")),
    ("rules.needless-return", "cannot tell", bare()),
    ("rules.wrong-side", "fail", three(f"-A FORWARD -i eth1 -s 10.0.2.0/24 {WEB} -j ACCEPT")),
    ("rules.wrong-side", "fail", three(f"-A FORWARD -i eth0 -s 10.0.2.0/24 {WEB} -j ACCEPT")),
    ("rules.wrong-side", "pass", three(f"-A FORWARD -i eth2 -s 10.0.2.0/24 {WEB} -j ACCEPT")),
    ("rules.wrong-side", "not applicable", zoned("")),
    ("rules.other-port", "fail", zoned('-A INPUT -p tcp -m tcp --dport 22 -m comment --comment "port 2222" -j ACCEPT')),
    ("rules.other-port", "pass", zoned('-A INPUT -p tcp -m tcp --dport 22 -m comment --comment "tcp/22" -j ACCEPT')),
    ("rules.other-port", "not applicable", zoned("")),
    (
        "rules.other-port",
        "not applicable",
        zoned('-A INPUT -p tcp -m tcp --dport 22 -m comment --comment "tcp 10.1.2.3" -j ACCEPT'),
    ),
    (
        "rules.other-port",
        "fail",
        zoned('-A INPUT -p tcp -m tcp --dport 22 -m comment --comment "shell on 8022" -j ACCEPT'),
    ),
    (
        "rules.other-port",
        "not applicable",
        zoned('-A INPUT -p tcp --dport 22 -m comment --comment "on 2026" -j ACCEPT'),
    ),
    ("rules.link-network", "fail", routed(f"-A FORWARD -i eth1 -d 192.0.2.0/24 {WEB} -j ACCEPT")),
    ("rules.link-network", "fail", routed(f"-A INPUT -i eth0 -s 192.0.2.0/24 {WEB} -j ACCEPT")),
    ("rules.link-network", "pass", routed(f"-A INPUT -i eth0 -s 192.0.2.0/24 {SSH} -j ACCEPT")),
    ("rules.link-network", "pass", routed(f"-A FORWARD -i eth1 -d 192.0.2.9/32 {WEB} -j ACCEPT")),
    ("rules.link-network", "not applicable", zoned("")),
    ("rules.wrong-list", "fail", addressed(f"-A FORWARD -d 192.0.2.1/32 {WEB} -j ACCEPT")),
    ("rules.wrong-list", "fail", addressed(f"-A INPUT -d 10.0.9.9/32 {WEB} -j ACCEPT")),
    ("rules.wrong-list", "pass", addressed(f"-A INPUT -d 192.0.2.1/32 {WEB} -j ACCEPT")),
    ("rules.wrong-list", "not applicable", zoned(f"-A FORWARD -d 192.0.2.1/32 {WEB} -j ACCEPT")),
    ("rules.undocumented", "fail", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("rules.undocumented", "pass", zoned(f'-A INPUT {SSH} -m comment --comment "keepers" -j ACCEPT')),
    ("rules.undocumented", "cannot tell", bare()),
    (
        "rules.copied-description",
        "fail",
        sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,shop,,", "10.0.0.3,10.0.0.4,tcp/23,allow,shop,,"),
    ),
    (
        "rules.copied-description",
        "pass",
        sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,shop,,", "10.0.0.1,10.0.0.4,tcp/23,allow,shop,,"),
    ),
    ("rules.copied-description", "not applicable", zoned(f"-A INPUT {SSH} -j ACCEPT")),
    ("rules.incomplete-documentation", "fail", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,shop,,")),
    ("rules.incomplete-documentation", "pass", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,shop,VL-1,")),
    ("rules.incomplete-documentation", "cannot tell", bare()),
    ("rules.expired", "fail", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,shop,,2026-11-29")),
    ("rules.expired", "fail", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,until 2026-01-31 for the shop,,")),
    ("rules.expired", "pass", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,shop,,2026-11-30")),
    ("rules.expired", "not applicable", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,since 2026-01-31,,")),
    ("rules.expired", "cannot tell", bare()),
    ("rules.temporary", "fail", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,for now,,")),
    ("rules.temporary", "pass", sheet(ROW, "10.0.0.1,10.0.0.2,tcp/22,allow,for now,,2027-01-01")),
    ("rules.temporary", "not applicable", bare()),
    ("rules.disabled", "fail", gate("passages { passage p { live no, then let } }")),
    ("rules.disabled", "pass", gate("passages { passage p { then let } }")),
    ("rules.disabled", "cannot tell", bare()),
    ("rules.one-of-group", "fail", gate(CAMS + rule('says "care of the webcams", receiver [ lake ]'))),
    ("rules.one-of-group", "pass", gate(CAMS + rule('says "care of the webcams", receiver [ webcams ]'))),
    ("rules.one-of-group", "pass", gate(CAMS + rule('says "care of the webcams", sender [ 10.0.9.1 ]'))),
    ("rules.one-of-group", "not applicable", gate(CAMS + rule('says "the lake", receiver [ lake ]'))),
    ("rules.one-of-group", "not applicable", zoned("")),
    ("objects.unused", "fail", gate(PLACES + USING % "a")),
    ("objects.unused", "pass", gate(PLACES + "places c { are [ a b ] }\n" + USING % "c")),
    ("objects.unused", "not applicable", bare()),
    ("objects.duplicate", "fail", gate(PLACES)),
    ("objects.duplicate", "pass", gate("place a { is 10.0.3.9 }\nplace b { is 10.0.3.8 }")),
    ("objects.duplicate", "not applicable", bare()),
    ("objects.undescribed", "fail", gate("place a { is 10.0.0.1, says 'the till' }\nplace b { is 10.0.0.2 }")),
    ("objects.undescribed", "pass", gate("place a { is 10.0.0.1, says 'the till' }")),
    ("objects.undescribed", "not applicable", gate("place a { is 10.0.0.1 }")),
    ("objects.empty", "fail", gate("places a { says nothing }")),
    ("objects.empty", "pass", gate("place a { is 10.0.3.9 }")),
    ("objects.empty", "not applicable", bare()),
    ("objects.dangling", "fail", gate(USING % "gone")),
    ("objects.dangling", "fail", gate("places a { are [ gone ] }")),
    ("objects.dangling", "pass", gate(PLACES + USING % "a")),
    ("objects.dangling", "not applicable", bare()),
    ("objects.cyclic", "fail", gate("places a { are [ b ] }\nplaces b { are [ a ] }")),
    ("objects.cyclic", "pass", gate(PLACES + "places c { are [ a b ] }\nplaces d { are [ a c ] }")),
    ("objects.cyclic", "not applicable", bare()),
    (
        "objects.deep",
        "fail",
        gate(PLACES + "".join(f"places g{n} {{ are [ {f'g{n - 1}' if n else 'a'} ] }}\n" for n in range(4))),
    ),
    (
        "objects.deep",
        "pass",
        gate(PLACES + "".join(f"places g{n} {{ are [ {f'g{n - 1}' if n else 'a'} ] }}\n" for n in range(3))),
    ),
    ("objects.deep", "not applicable", bare()),
    ("objects.everything", "fail", gate("place a { is 0.0.0.0/1 }")),
    ("objects.everything", "fail", gate("talk t { over tcp, to-port 1-65535 }")),
    ("objects.everything", "pass", gate("place a { is 10.0.0.0/8 }")),
    ("objects.everything", "not applicable", bare()),
    ("objects.misnamed", "fail", gate("place host-10.0.3.1 { is 10.0.3.2 }")),
    ("objects.misnamed", "fail", gate("talk tcp-8080 { over tcp, to-port 8443 }")),
    (
        "objects.misnamed",
        "pass",
        gate("place net-10_0_3_0 { is 10.0.3.0/24 }\ntalk tcp-8080 { over tcp, to-port 8000-9000 }"),
    ),
    ("objects.misnamed", "not applicable", gate("place printer2 { is 10.0.3.2 }")),
    ("objects.other-zone", "fail", gate(PLACES + rule("into huts, receiver [ a ]"))),
    ("objects.other-zone", "pass", gate(PLACES + rule("into lifts, receiver [ a ]"))),
    ("objects.other-zone", "not applicable", bare()),
    (
        "objects.shared-widths",
        "fail",
        gate(
            "places a { are [ 10.0.3.8 10.0.3.9 ] }\ntalk w { over tcp, to-port 443 }\npassages {\n"
            "passage p { sender [ 10.0.4.4 ], receiver [ a ], talking [ w ], then let }\n"
            "passage q { receiver [ a ], then let }\n}"
        ),
    ),
    (
        "objects.shared-widths",
        "pass",
        gate(
            "places a { are [ 10.0.3.8 10.0.3.9 ] }\npassages {\n"
            "passage p { sender [ 10.0.4.4 ], receiver [ a ], then let }\n"
            "passage q { sender [ 10.0.4.8/29 ], receiver [ a ], then let }\n}"
        ),
    ),
    ("objects.shared-widths", "not applicable", bare()),
]

DATA = locations(
    {
        4: [("198.51.100.0/25", "FR"), ("198.51.100.128/25", "CH"), ("203.0.113.0/24", "AQ")],
        6: [("2001:db8::/32", "FR")],
    }
)
PAGES = entry("pages", "10.0.4.9", "443")
PAGED = f"{LANDS % ''}<doors><door kind='page'/></doors>"
KEPT = "borders { border b { lands [ AQ ] } }\ndoors { keeper a { comes-from [ %s ] } }"
GEO: list[tuple[str, str, Device, Locations]] = [
    ("geo.unrestricted", "fail", perimeter("", PAGES), DATA),
    ("geo.unrestricted", "pass", perimeter(LANDS % "", PAGES), DATA),
    ("geo.unrestricted", "cannot tell", perimeter(LANDS % "", PAGES), Locations()),
    ("geo.unrestricted", "not applicable", perimeter(""), DATA),
    ("geo.late-filter", "fail", perimeter(LANDS.replace("title", "after-entries='yes' title") % ""), DATA),
    ("geo.late-filter", "pass", perimeter(LANDS % ""), DATA),
    ("geo.late-filter", "cannot tell", perimeter(LANDS % ""), Locations()),
    ("geo.late-filter", "not applicable", perimeter(""), DATA),
    ("geo.blocked-reach", "fail", perimeter(LANDS.replace("title", "after-entries='yes' title") % "", PAGES), DATA),
    ("geo.blocked-reach", "pass", perimeter(LANDS % "", PAGES), DATA),
    ("geo.blocked-reach", "pass", perimeter(LANDS % "<still>203.0.113.7</still>", PAGES), DATA),
    ("geo.blocked-reach", "cannot tell", perimeter(LANDS % "", PAGES), Locations()),
    ("geo.one-way", "fail", perimeter(LANDS % ""), DATA),
    ("geo.one-way", "pass", perimeter(LANDS % "<both-ways>yes</both-ways>"), DATA),
    ("geo.one-way", "cannot tell", perimeter(LANDS % "<both-ways>yes</both-ways>"), Locations()),
    ("geo.stale-list", "fail", gate("places land-FR { are [ 198.51.100.0/26 ] }"), DATA),
    ("geo.stale-list", "fail", gate("places land-FR { are [ 198.51.100.0/24 ] }"), DATA),
    ("geo.stale-list", "pass", gate("places land-FR { are [ 198.51.100.0/25 ] }"), DATA),
    ("geo.stale-list", "cannot tell", gate("places land-FR { are [ 198.51.100.0/25 ] }"), Locations()),
    ("geo.stale-list", "not applicable", gate("places france-office { are [ 10.0.0.1 ] }"), DATA),
    ("geo.unexplained-exception", "fail", perimeter(LANDS % "<still>203.0.113.7</still>"), DATA),
    ("geo.unexplained-exception", "pass", perimeter(LANDS % "<why>partner</why><still>203.0.113.7</still>"), DATA),
    (
        "geo.unexplained-exception",
        "cannot tell",
        perimeter(LANDS % "<why>a</why><still>203.0.113.7</still>"),
        Locations(),
    ),
    ("geo.only-restriction", "fail", perimeter(PAGED, entry("p", "192.0.2.66", "443")), DATA),
    # A damaged export may name a filter and none of its countries.
    (
        "geo.only-restriction",
        "fail",
        perimeter(PAGED.replace("<land>AQ</land>", ""), entry("p", "192.0.2.66", "443")),
        DATA,
    ),
    ("geo.only-restriction", "pass", perimeter(PAGED), DATA),
    ("geo.only-restriction", "cannot tell", perimeter(PAGED), Locations()),
    ("geo.own-source", "fail", gate(KEPT % "203.0.113.9"), DATA),
    ("geo.own-source", "pass", gate(KEPT % "198.51.100.9"), DATA),
    ("geo.own-source", "cannot tell", gate(KEPT % "198.51.100.9"), Locations()),
]


@pytest.mark.parametrize(
    ("check", "expected", "device"), CASES, ids=[f"{c}-{e}-{i}" for i, (c, e, _) in enumerate(CASES)]
)
def test_outcomes(check: str, expected: str, device: Device) -> None:
    assert_outcome(check, expected, device)


@pytest.mark.parametrize(
    ("check", "expected", "device", "data"), GEO, ids=[f"{c}-{e}-{i}" for i, (c, e, *_) in enumerate(GEO)]
)
def test_outcomes_by_country(check: str, expected: str, device: Device, data: Locations) -> None:
    device = located(device, data)
    assert_outcome(check, expected, device, Estate((device,), AS_OF, locations=data))


def test_every_check_fails_passes_and_is_open_somewhere() -> None:
    from tests.baseline.test_checks import CASES as FIRST

    # These three depend on parameters or on other devices and have tests of their own.
    seen = {
        name: {"fail", "pass", "not applicable"} for name in ("geo.countries", "system.old-firmware", "system.drift")
    }
    for check, outcome, *_ in (*FIRST, *SETTINGS, *CASES, *GEO):
        seen.setdefault(check, set()).add(outcome)
    for one in CATALOGUE:
        assert {"fail", "pass"} <= seen.get(one.id, set()), one.id
        assert seen[one.id] & {"cannot tell", "not applicable"}, one.id


def test_a_filter_by_country_changes_what_gets_in() -> None:
    from aiguille.baseline import Baseline, run

    (one,) = [c for c in CATALOGUE if c.id == "geo.countries"]
    outcomes = {}
    for name, lands in (("open", ""), ("filtered", LANDS % "")):
        device = located(perimeter(lands, PAGES), DATA)
        chosen = Baseline.of([one], {one.id: {"allowed": ("FR", "CH")}})
        (outcome,) = run(Estate((device,), AS_OF, locations=DATA), chosen, raise_crashes=True).outcomes
        outcomes[name] = outcome.outcome.value
    assert outcomes == {"open": "fail", "filtered": "pass"}
    chosen = Baseline.of([one], {one.id: {"allowed": ("FR", "CH")}})
    (outcome,) = run(Estate((replace(perimeter("", PAGES)),), AS_OF), chosen).outcomes
    assert (outcome.outcome, "no location data" in outcome.because) == ("cannot tell", True)
