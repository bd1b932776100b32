"""ufw, firewalld and Shorewall by their files: what is refused, what is told, what listings leave out.

That the files lead to what the kernel runs is checked in tests/kernel/test_programs.py.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

import pytest

from aiguille.analysis.changes import as_if
from aiguille.analysis.program import Programs
from aiguille.analysis.walk.probe import Prober
from aiguille.model import Action, Device, Estate, UnreadableError, UsageError
from aiguille.packets import Packet, read_sentence
from aiguille.readers import host, recognise
from aiguille.readers.files import decode
from tests.estate.test_bundles import FIREWALLD, SHOREWALL, UFW
from tests.helpers import linux


def packet(text: str) -> Packet:
    found = read_sentence(text).packet()
    assert found is not None
    return found


def verdicts(device: Device, *sentences: str) -> str:
    """For each packet A, D, R, or ? where more is possible; D and R if it is refused one way or the other."""
    prober = Prober(Programs(device))
    out = ""
    for sentence in sentences:
        found = {way.verdict for way in prober.probe(packet(sentence)).ways}
        if found == {Action.DROP, Action.REJECT}:
            found = {Action.REJECT}
        out += found.pop().value[0].upper() if len(found) == 1 else "?"
    return out


def deciders(device: Device, *sentences: str) -> list[str]:
    """For each packet the first line of the rule that decides it, "" for the end of a chain, "?" where that is open."""
    prober = Prober(Programs(device))
    out = []
    for sentence in sentences:
        rules = [way.decided_by.rule for way in prober.probe(packet(sentence)).ways]
        lines = ["" if rule is None else device.text(rule.where)[0].strip() for rule in rules]
        out.append(lines[0] if len(lines) == 1 else "?")
    return out


def statements(device: Device) -> set[str]:
    """The places whose rules stand for themselves."""
    return {str(rule.where) for base in device.rulebases for _, rule in base.rules() if not rule.implied}


def told(device: Device) -> str:
    return "\n".join(entry.why for entry in (*device.ledger.unread, *device.ledger.problems))


# -- ufw ---------------------------------------------------------------------------------------------------------


def ufw(**changes: str) -> Device:
    files = {f"etc/ufw/{name}": text for name, text in UFW.items()}
    files |= {"etc/default/ufw": 'IPV6=yes\nDEFAULT_INPUT_POLICY="DROP"\n'}
    files |= {name.replace("__", "/").replace("_dot_", "."): text for name, text in changes.items()}
    return linux({name: text for name, text in files.items() if text}, dump="")


SSH = "tcp from 198.51.100.7:4000 to 192.0.2.1:22 entering eth0"
WEB = "tcp from 198.51.100.7:4000 to 192.0.2.1:80 entering eth0"
SIX = "tcp from [2001:db8::7]:4000 to [2001:db8::1]:80 entering eth0"
OUT = "tcp from 192.0.2.1:4000 to 198.51.100.7:80 leaving eth0"


def test_what_waits_to_be_switched_on_is_what_would_run() -> None:
    off, on = ufw(etc__ufw__ufw_dot_conf="ENABLED=no\n"), ufw(etc__ufw__ufw_dot_conf="ENABLED=yes\n")
    estate = Estate((off,), date(2026, 11, 30))
    (enabled,) = as_if(estate, ["enable"]).devices
    assert off.rulebases != on.rulebases == enabled.rulebases
    assert (
        verdicts(enabled, SSH, WEB, SIX, OUT) == verdicts(on, SSH, WEB, SIX, OUT) != verdicts(off, SSH, WEB, SIX, OUT)
    )
    with pytest.raises(UsageError, match="no rules that wait"):
        as_if(Estate((on,), date(2026, 11, 30)), ["enable"])


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({}, "ADDA"),
        ({"etc__ufw__ufw_dot_conf": "ENABLED=no\n"}, "AAAA"),
        ({"etc__default__ufw": 'DEFAULT_INPUT_POLICY="ACCEPT"\nDEFAULT_OUTPUT_POLICY="REJECT"\n'}, "AAAR"),
        ({"etc__default__ufw": "DEFAULT_INPUT_POLICY=REJECT\n"}, "ARRA"),
        ({"etc__default__ufw": 'IPV6=no\nDEFAULT_INPUT_POLICY="ACCEPT"\n'}, "AADA"),
    ],
)
def test_ufw_settings(changes: dict[str, str], expected: str) -> None:
    device = ufw(**changes)
    assert verdicts(device, SSH, WEB, SIX, OUT) == expected
    assert told(device) == ""


def test_ufw_tells_what_a_rule_is_for() -> None:
    tuples = (
        "*filter\n### tuple ### allow tcp 80 0.0.0.0/0 any 0.0.0.0/0 Web%20Shop - in comment=7368f6f6f\n"
        "-A ufw-user-input -p tcp --dport 80 -j ACCEPT\n\n"
        "### tuple ### allow tcp 22 0.0.0.0/0 any 0.0.0.0/0 in comment=6f70657261746f7273\n"
        "-A ufw-user-input -p tcp --dport 22 -j ACCEPT\nCOMMIT\n"
    )
    device = ufw(
        etc__ufw__user_dot_rules=tuples, etc__ufw__applications_dot_d__shop="[Web Shop]\ntitle=x\nports=80,443/tcp|53\n"
    )
    said = {rule.comment for base in device.rulebases for chain, rule in base.rules() if chain.name == "ufw-user-input"}
    assert said == {"Web Shop", "operators"}
    (profile,) = device.services
    assert (profile.name, len(profile.members)) == ("Web Shop", 3)
    assert not device.ledger.unread


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"etc__ufw__user_dot_rules": ""}, "user.rules is missing"),
        ({"etc__default__ufw": "DEFAULT_INPUT_POLICY=MAYBE\n"}, "'MAYBE' is not a policy of ufw"),
        ({"etc__ufw__before_dot_rules": "*filter\n:ufw-before-input - [0:0]\n"}, "cut off"),
        ({"etc__ufw__user_dot_rules": "*filter\n-A ufw-user-input -j ufw-user-input\nCOMMIT\n"}, "circle"),
    ],
)
def test_ufw_files_that_cannot_be_what_runs_are_refused(changes: dict[str, str], said: str) -> None:
    with pytest.raises(UnreadableError, match=said):
        ufw(**changes)


STATUS = """Status: active
Logging: on (low)
Default: deny (incoming), allow (outgoing), disabled (routed)
New profiles: skip

To                         Action      From
--                         ------      ----
22/tcp                     ALLOW IN    198.51.100.0/24            # operators
80,443/tcp (Shop)          ALLOW IN    Anywhere
25                         DENY OUT    Anywhere
443 on eth1                ALLOW FWD   10.0.0.0/8 on eth0
8080/tcp                   LIMIT IN    Anywhere
80,443/tcp (Shop (v6))     ALLOW IN    Anywhere (v6)
6000:6007/tcp              ALLOW IN    Anywhere
Nonsense                   ALLOW IN    Anywhere
"""


def test_the_listing_of_ufw_is_read_and_says_that_it_is_poorer() -> None:
    file = decode("status.txt", STATUS.encode())
    assert recognise(file)[0].name == "linux-host"
    device = host.read([file], "box")
    other = SSH.replace("198.51.100.7", "203.0.113.7")
    mail = OUT.replace(":80 ", ":25 ")
    routed = "tcp from 10.1.1.1:4000 to 192.0.2.9:443 entering eth0 leaving eth1"
    limited, ranged = WEB.replace(":80 ", ":8080 "), WEB.replace(":80 ", ":6001 ")
    assert (
        verdicts(device, SSH, other, WEB, SIX, OUT, mail, routed, limited, ranged) == "ADA?ADA?A"
    )  # any IPv6 packet may have a routing header of type 0
    assert "poorer source" in told(device)
    assert [entry.where.first for entry in device.ledger.unread] == [15]
    assert {rule.comment for _, rule in device.rulebases[0].rules() if rule.comment} == {"operators"}
    assert statements(device) == {f"status.txt:{line}" for line in (8, 9, 10, 11, 12, 13, 14)}
    bare = host.read([decode("s", b"Status: active\n\nTo   Action  From\n22/tcp    ALLOW   Anywhere\n")], "box")
    assert verdicts(bare, WEB, WEB.replace(":80 ", ":22 ")) == "?A"
    assert "default policies" in told(bare)
    assert verdicts(host.read([decode("s", b"Status: inactive\n")], "box"), WEB) == "A"


LISTED = [
    ("80/tcp                     ALLOW IN    Anywhere", "AA"),
    ("80/tcp                     ALLOW IN    203.0.113.0/24", "DA"),
    ("80:81/tcp                  ALLOW IN    Anywhere", "AA"),
    ("192.0.2.1 80/tcp           ALLOW IN    Anywhere", "AA"),
    ("192.0.2.9 80/tcp           ALLOW IN    Anywhere", "DA"),
    ("Anywhere on eth0           ALLOW IN    Anywhere", "AA"),
    ("Anywhere on eth5           ALLOW IN    Anywhere", "DA"),
    ("80/udp                     ALLOW IN    Anywhere", "DA"),
    ("80                         DENY OUT    Anywhere", "DD"),
    ("80/tcp (v6)                ALLOW IN    Anywhere (v6)", "DA"),
    ("80:81/tcp (v6)             ALLOW IN    Anywhere (v6)", "DA"),
    ("80/tcp                     REJECT OUT  Anywhere on eth0", "DR"),
    ("80/tcp                     ALLOW IN    Anywhere                   (log)", "AA"),
    ("80/tcp                     DENY OUT    Anywhere                   (log-all) # seen", "DD"),
    ("192.0.2.1 80/tcp on eth0 ALLOW IN    198.51.100.7", "AA"),
]


@pytest.mark.parametrize(("line", "expected"), LISTED)
def test_lines_of_the_listing_of_ufw(line: str, expected: str) -> None:
    head = "".join(f"{one}\n" for one in STATUS.splitlines()[:7])
    assert verdicts(host.read([decode("s", f"{head}{line}\n".encode())], "box"), WEB, OUT) == expected


# -- firewalld ---------------------------------------------------------------------------------------------------


def firewalld(files: dict[str, str]) -> Device:
    return linux({f"etc/firewalld/{name}": text for name, text in {**FIREWALLD, **files}.items()}, dump="")


def zone(body: str, **attributes: str) -> str:
    words = "".join(f' {name}="{value}"' for name, value in attributes.items())
    return f'<?xml version="1.0" encoding="utf-8"?>\n<zone{words}>\n{body}\n</zone>\n'


ZONES = [
    ('<service name="http"/>', "DA"),
    ('<port port="20-30" protocol="tcp"/>', "AD"),
    ('<source-port port="4000" protocol="tcp"/>', "AA"),
    ('<protocol value="tcp"/>', "AA"),
    ('<rule><port port="80" protocol="tcp"/><accept/></rule>', "DA"),
    ('<rule family="ipv4"><source address="198.51.100.0/24"/><accept/></rule>', "AA"),
    ('<rule family="ipv4"><source address="198.51.100.0/24" invert="True"/><accept/></rule>', "DD"),
    ('<rule family="ipv6"><source address="2001:db8::/32"/><accept/></rule>', "DD"),
    ('<rule priority="-1"><service name="ssh"/><drop/></rule><service name="ssh"/>', "DD"),
    ('<rule priority="1"><service name="ssh"/><drop/></rule><service name="ssh"/>', "AD"),
    ('<rule><service name="ssh"/><accept/></rule><rule><service name="ssh"/><drop/></rule>', "DD"),
    ('<rule><service name="ssh"/><accept><limit value="3/m"/></accept></rule>', "?D"),
    ('<rule family="ipv6"><source address="[2001:db8::]/32"/><accept/></rule>', "DD"),
    ('<service name="own"/>', "DA"),
    ('<service name="nested"/>', "AA"),
]


@pytest.mark.parametrize(("body", "expected"), ZONES)
def test_firewalld_zones(body: str, expected: str) -> None:
    own = '<service><port port="80" protocol="tcp"/></service>'
    nested = '<service><include service="own"/><include service="ssh"/></service>'
    device = firewalld(
        {"zones/public.xml": zone(body, target="DROP"), "services/own.xml": own, "services/nested.xml": nested}
    )
    assert verdicts(device, SSH, WEB) == expected
    assert told(device) == ""


DIRECT = '<direct><rule ipv="ipv4" table="filter" chain="INPUT" priority="0">-p tcp --gizmo -j DROP</rule></direct>'


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"zones/public.xml": zone('<service name="gizmo"/>')}, "gizmo"),
        ({"zones/public.xml": zone('<gadget name="x"/>')}, "'gadget' is not known"),
        ({"zones/public.xml": zone('<rule><gadget/><accept/></rule>')}, "gadget"),
        ({"zones/public.xml": zone('<rule family="ipv4"><source ipset="gone"/><accept/></rule>')}, "gone"),
        ({"zones/public.xml": zone('<service name="ssh" kind="x"/>')}, "'kind' is not known of a service"),
        ({"zones/public.xml": zone('<rule family="ipv4"><source address="10.0.0.1" kind="x"/><accept/></rule>')}, "kind of source"),
        ({"direct.xml": DIRECT}, "gizmo"),
        ({"zones/public.xml": zone("<rule><accept/><drop/></rule>")}, "ignores this rule: it says accept and drop"),
        ({"zones/public.xml": zone('<rule><service name="ssh"/><log level="loud"/><accept/></rule>')}, "'loud' is no level of a log"),
    ],
)  # fmt: skip
def test_firewalld_that_is_not_understood_is_told(files: dict[str, str], said: str) -> None:
    assert said in told(firewalld(files))


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"zones/public.xml": "<zone><service</zone>"}, r"zones/public.xml:1: .*well-formed"),
        ({"zones/public.xml": '<!DOCTYPE z [<!ENTITY a "b">]>\n<zone>&a;</zone>'}, "document type"),
        (
            {"zones/public.xml": zone("", target="PERHAPS")},
            r"zones/public.xml:2: 'PERHAPS' is no target; firewalld loads none",
        ),
        ({"zones/public.xml": zone('<port port="99999" protocol="tcp"/>')}, "public.xml:3: port 99999 does not exist"),
        *(
            ({"zones/public.xml": zone(entry)}, f"public.xml:3: {why}; firewalld loads none")
            for entry, why in (
                ("<service/>", "a service needs a name"),
                ('<port port="22"/>', "a port needs a protocol"),
                ('<port port="22" protocol="xyz"/>', "'xyz' is no protocol with ports"),
                ('<forward-port port="80" protocol="tcp"/>', "a forward-port needs a to-port or a to-addr"),
                ('<source address="300.1.1.1"/>', "'300.1.1.1' is not an address or a network"),
                ('<rule priority="1.5"><accept/></rule>', "'1.5' is no priority"),
                ('<rule family="ipv4"><source/><accept/></rule>', "a source needs an address"),
                ('<rule family="ipv4"><mark/></rule>', "a mark needs a set"),
            )
        ),
        ({"zones/public.xml": '<!DOCTYPE z SYSTEM "file:///etc/passwd">\n<zone/>'}, "document type"),
    ],
)
def test_firewalld_files_that_are_refused(files: dict[str, str], said: str) -> None:
    with pytest.raises(UnreadableError, match=said):
        firewalld(files)


@pytest.mark.parametrize(
    ("rule", "expected"),
    [
        ('<rule familyqq="ipv4"><source address="198.51.100.0/24"/><service name="ssh"/><reject/></rule>', "?A"),
        ('<rule priorityqq="-1" family="ipv4"><source address="198.51.100.0/24"/><drop/></rule>', "??"),
        ('<rule priorityqq="-1"><service name="ssh"/><accept/></rule><rule><service name="ssh"/><drop/></rule>', "?A"),
        ('<rule family="ipv4"><source address="198.51.100.0/24"/><service name="ssh"/><reject kind="x"/></rule>', "?A"),
    ],
)
def test_what_a_later_firewalld_may_know_of_a_rule_leaves_it_open(rule: str, expected: str) -> None:
    device = firewalld({"zones/public.xml": zone(f'<service name="ssh"/><service name="http"/>{rule}', target="DROP")})
    assert verdicts(device, SSH, WEB) == expected


def test_zones_in_use_and_those_that_are_not() -> None:
    device = firewalld(
        {
            "zones/public.xml": zone('<interface name="eth0"/><service name="ssh"/>'),
            "zones/office.xml": zone('<interface name="eth1"/><service name="http"/>'),
            "zones/lab.xml": zone('<source address="203.0.113.0/24"/><port port="22" protocol="tcp"/>', target="DROP"),
            "zones/spare.xml": zone('<service name="telnet"/>'),
            "policies/out.xml": '<policy target="ACCEPT"><ingress-zone name="office"/><egress-zone name="public"/></policy>',
        }
    )
    assert [z.name for z in device.zones] == ["lab", "office", "public"]
    inside = WEB.replace("eth0", "eth1")
    lab = SSH.replace("198.51.100.7", "203.0.113.7").replace("eth0", "eth1")
    across = "tcp from 10.0.0.9:4000 to 198.51.100.7:80 entering eth1 leaving eth0"
    back = "tcp from 198.51.100.7:4000 to 10.0.0.9:80 entering eth0 leaving eth1"
    assert verdicts(device, WEB, inside, SSH, lab, across, back) == "RAAAAR"
    assert any("no interface and no source" in entry.why for entry in device.ledger.set_aside)


def test_the_listing_of_firewalld_is_read_and_says_that_it_is_poorer() -> None:
    text = (
        "public (default, active)\n  target: default\n  icmp-block-inversion: no\n  interfaces: eth0\n  sources: \n"
        "  services: ssh\n  ports: 8080/tcp\n  protocols: \n  forward: yes\n  masquerade: no\n  forward-ports: \n"
        '  source-ports: \n  icmp-blocks: \n  rich rules: \n\trule family="ipv4" source address="203.0.113.0/24" port port="80" '
        'protocol="tcp" accept\n\ndrop\n  target: DROP\n  interfaces: eth9\n  odd: x\n'
    )
    file = decode("zones.txt", text.encode())
    assert recognise(file)[0].name == "linux-host"
    device = host.read([file], "box")
    partner = WEB.replace("198.51.100.7", "203.0.113.7")
    assert verdicts(device, SSH, WEB, partner, WEB.replace("eth0", "eth9")) == "ARA?"  # for the odd line
    assert "poorer source" in told(device)
    assert len(device.ledger.unread) == 1
    assert statements(device) == {"zones.txt:6", "zones.txt:7", "zones.txt:15", "zones.txt:20"}
    odd = "<snmp><community>Hunter2zz</community></snmp>\n  ports"
    stray = host.read([decode("zones.txt", text.replace("  ports", odd).encode())], "box")
    assert verdicts(stray, SSH, WEB, partner) == "ARA"
    assert "no line of a zone's listing" in told(stray)
    assert "Hunter2zz" not in told(stray)
    with pytest.raises(UnreadableError, match="'dr&op' is no name of a zone"):
        host.read([decode("zones.txt", text.replace("\ndrop\n", "\ndr&op\n").encode())], "box")


# -- Shorewall ---------------------------------------------------------------------------------------------------


def shorewall(files: dict[str, str]) -> Device:
    return linux({f"etc/shorewall/{name}": text for name, text in {**SHOREWALL, **files}.items()}, dump="")


@pytest.mark.parametrize(
    ("made", "folder", "expected"),
    [
        (lambda: ufw(), "etc/ufw/", {"user.rules:2"}),
        (
            lambda: firewalld(
                {"zones/public.xml": zone('<service name="ssh"/>\n<rule priority="1">\n<drop/>\n</rule>')}
            ),
            "etc/firewalld/",
            {"zones/public.xml:3", "zones/public.xml:4"},
        ),
        (lambda: shorewall({"rules": "SSH(ACCEPT) net $FW\n"}), "etc/shorewall/", {"rules:1"}),
    ],
)
def test_lines_that_bring_rules_along_are_told_from_statements(
    made: Callable[[], Device], folder: str, expected: set[str]
) -> None:
    assert {place.partition(folder)[2] for place in statements(made())} == expected


RULES = [
    ("SSH(ACCEPT) net $FW\n", "AD"),
    ("Web/ACCEPT:info net fw\n", "DA"),
    ("?SECTION NEW\nACCEPT net fw tcp 22,80\n", "AA"),
    ("SECTION ALL\nDROP net fw tcp 22\nSECTION NEW\nACCEPT all all tcp\n", "DA"),
    ("ACCEPT net:198.51.100.0/24!198.51.100.7 fw\n", "DD"),
    ("ACCEPT net:198.51.100.0/24!198.51.100.9 fw\n", "AA"),
    ("ACCEPT net:!198.51.100.7 fw\n", "DD"),
    ("ACCEPT net fw tcp ssh:http\n", "AA"),
    ("INLINE net fw tcp 22 ;; -j ACCEPT\n", "AD"),
    ("ACCEPT net fw ; proto=tcp, dport=80\n", "DA"),
    ("?if __IPV4\nACCEPT net fw tcp 22\n?else\nACCEPT net fw tcp 80\n?endif\n", "AD"),
    ("?if $WANTED eq 'yes'\nACCEPT net fw tcp 22\n?elsif $WANTED\nACCEPT net fw tcp 80\n?endif\n", "DA"),
    ("?if ! ($WANTED && 0) || 1 == 2\nACCEPT net fw tcp 22\n?endif\n", "AD"),
    ("?SET DOOR 80\nACCEPT net fw tcp $DOOR\n", "DA"),
    ("INCLUDE extra\n", "DA"),
    ("ACCEPT net fw ; proto=tcp, dport=80\n", "DA"),
    ("ACCEPT net fw tcp ;; -m multiport --dports 22,23\n", "AD"),
    ("ACCEPT net fw tcp 22 - - 3/min:5\n", "?D"),
    ("ACCEPT net:$UNSET fw tcp 22\n", "?D"),
    ("ACCEPT net:&eth0 fw tcp 22\n", "?D"),
    ("Gadget(ACCEPT) net fw tcp 22\n", "?D"),
    ("ACCEPT net:+good fw tcp 22\n", "?D"),
    ("Own net fw\n", "AD"),
    ("Own(80) net fw\n", "DA"),
    ("Mine(ACCEPT) net fw\n", "AA"),
    ("?COMMENT all of it\nREJECT net fw\nACCEPT net fw tcp 22\n", "RR"),
]
SURROUNDINGS = {
    "params": "WANTED=maybe\nUNSET=$(hostname -I)\n",
    "extra": "ACCEPT net fw tcp 80\n",
    "actions": "Own\n",
    "action.Own": "DEFAULTS 22\nACCEPT - - tcp @1\n",
    "macro.Mine": "PARAM - - tcp 22\nHTTP\n",
}


@pytest.mark.parametrize(("rules", "expected"), RULES)
def test_shorewall_rules(rules: str, expected: str) -> None:
    device = shorewall({**SURROUNDINGS, "rules": rules})
    assert verdicts(device, SSH, WEB) == expected
    doubtful = "?" in expected and "3/min" not in rules and "+good" not in rules
    assert bool(device.ledger.unread) is doubtful


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"rules": "ACCEPT nowhere fw\n"}, r"rules:1: 'nowhere' is no zone"),
        ({"rules": "INLINE net fw tcp 23 ; -j ACCEPT\n"}, r"rules:1: '-j ACCEPT' is no pair"),
        ({"rules": "?SECTION ODD\nACCEPT net fw\n"}, "'ODD' is not a section"),
        ({"rules": "?if 1\nACCEPT net fw\n"}, "no \\?endif"),
        ({"rules": "?endif\n"}, "belongs to no \\?if"),
        ({"rules": "INCLUDE rules\n"}, "deeper than 4"),
        ({"policy": "net fw\n"}, r"policy:1: a policy has"),
        ({"policy": "$FW net ACCEPT\n"}, "no policy says"),
        ({"zones": "net ipv4\n"}, "no zone of type 'firewall'"),
        ({"interfaces": "gone eth0\n"}, "'gone' is no zone"),
        ({"hosts": "net eth7:10.0.0.0/8\n"}, "interface 'eth7' is not in"),
        ({"rules": "A(ACCEPT) net fw\n", "macro.A": "A\n"}, "calls itself"),
        ({"rules": "B net fw\n", "actions": "B\n", "action.B": "B\n"}, "calls itself"),
    ],
)
def test_shorewall_folders_the_program_would_refuse_too(files: dict[str, str], said: str) -> None:
    with pytest.raises(UnreadableError, match=said):
        shorewall(files)


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"rules": "INCLUDE gone\n"}, "'gone' is not in the bundle"),
        ({"rules": "?begin perl\nadd_rule;\n?end perl\n"}, "runs while it compiles"),
        ({"rules": "?if $A =~ /x/\nACCEPT net fw\n?endif\n"}, "not one we can settle"),
        ({"tunnels": "ipsec net 203.0.113.1\n"}, "tunnels that Shorewall opens by itself"),
        ({"started": "run_iptables -I INPUT -j ACCEPT\n"}, "script"),
        ({"interfaces": "net eth0 detect gizmo\n"}, "'gizmo' is not known"),
        ({"zones": "fw firewall\nnet ipv4\nb:net bport4\n"}, "zones of type 'bport4'"),
        ({"shorewall.conf": "STARTUP_ENABLED=No\n"}, "does not start"),
        ({"params": "NET=`dig x`\n", "rules": "ACCEPT net:$NET fw\n"}, "may match"),
    ],
)  # fmt: skip
def test_shorewall_that_cannot_be_followed_is_told(files: dict[str, str], said: str) -> None:
    assert said in told(shorewall(files))


def test_comments_that_say_nothing_and_files_of_other_purposes_are_set_aside() -> None:
    device = shorewall({"started": "# nothing\n", "mangle": "MARK(1) eth0 0.0.0.0/0\n", "tcdevices": "eth0 - 1mbit\n"})
    assert told(device) == ""
    assert {e.where.file.rsplit("/", 1)[-1] for e in device.ledger.set_aside} >= {"started", "mangle", "tcdevices"}


READERS: tuple[Callable[[dict[str, str]], Device], ...] = (shorewall, firewalld)


@pytest.mark.parametrize("read", READERS)
def test_actions_of_the_model_are_those_of_the_kernel(read: Callable[[dict[str, str]], Device]) -> None:
    known = {Action.ACCEPT, Action.DROP, Action.REJECT, Action.RETURN, Action.JUMP, Action.GOTO, Action.CONTINUE}
    device = read({})
    assert {rule.action for base in device.rulebases for _, rule in base.rules()} <= known


COMMANDS = [
    ("ufw allow 80/tcp", "A?"),
    ("ufw default deny incoming\nufw allow 80/tcp\n", "AD"),
    ("sudo ufw default deny\nufw --force enable\nufw allow from 198.51.100.0/24 to any port 80", "AD"),
    ("ufw default deny\nufw allow from 192.0.2.0/24 to any port 80 proto tcp", "DD"),
    ("ufw default allow\nufw deny in on eth0 to any port 80 comment 'no web'", "DA"),
    ("ufw default deny\nufw allow http", "AD"),
    ("ufw default deny\nufw allow 'Nginx Full'\nufw delete allow 'Nginx Full'", "DD"),
    ("ufw default deny\nufw deny 80\nufw insert 1 allow 80", "??"),
    ("ufw default deny\nufw deny 80\nufw allow 80", "AD"),
    ("ufw default deny\nufw deny 80\nufw insert 1 allow 80/tcp", "AD"),
    ("ufw default deny\nfor p in 80 8080; do ufw allow $p/tcp; done", "AD"),
    ("ufw default deny\nif [ -f /x ]; then\nufw allow 80\nfi", "?D"),
    ("ufw default deny\nufw allow $PORT/tcp", "??"),
    ("ufw default deny\nufw allow Gizmo", "??"),
    ("ufw default deny\nufw allow 80\nufw reset\nufw default deny", "DD"),
    ("ufw default deny\nufw allow out 80\nufw route allow in on eth0 to 10.0.0.9 port 80", "DD"),
    ("Added user rules (see 'ufw status' for running firewall):\nufw allow 80/tcp\nufw limit 25/tcp", "A?"),
]


@pytest.mark.parametrize(("text", "expected"), COMMANDS)
def test_commands_of_ufw_are_followed(text: str, expected: str) -> None:
    file = decode("rules.txt", text.encode())
    assert recognise(file)[0].name == "linux-host"
    assert verdicts(host.read([file], "box"), WEB, WEB.replace(":80 ", ":25 ")) == expected


def test_an_excerpt_of_ufws_rules_limits_as_ufw_does() -> None:
    rules = "*filter\n:ufw-user-input - [0:0]\n-A ufw-user-input -p tcp --dport 22 -j ufw-user-limit-accept\n"
    whole = rules + "-A ufw-user-limit -j REJECT\n-A ufw-user-limit-accept -j ACCEPT\nCOMMIT\n"
    for text, said in ((rules + "COMMIT\n", True), (whole, False)):
        device = host.read([decode("user.rules", text.encode())], "box")
        assert verdicts(device, WEB.replace(":80 ", ":22 ")) == "A"
        assert ("are missing here" in told(device)) is said
