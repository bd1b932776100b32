"""Commands of iptables as people send them: scripts of a shell, and what `iptables -S` lists."""

from __future__ import annotations

import pytest

from aiguille.model import Device, UnreadableError
from aiguille.readers import iptables, recognise
from aiguille.readers.files import decode


def script(text: str) -> Device:
    return iptables.read([decode("fw.sh", text.encode())], "box")


def spelled(device: Device, chain: str = "INPUT") -> list[str]:
    """What the rules of a chain stand for: conditions, action, and a question mark where they only may match."""
    out = []
    for base in device.rulebases:
        for found, rule in base.rules():
            if found.name == chain:
                fields = ",".join(sorted(condition.field.value for condition in rule.match.conditions))
                out.append(f"{fields}>{rule.action.value}{'?' if rule.qualifiers else ''}")
    return out


STEPS = [
    ("iptables -A INPUT -j DROP\niptables -I INPUT -i lo -j ACCEPT\n", ["interface in>accept", ">drop"]),
    ("iptables -A INPUT -j DROP\niptables -I INPUT 2 -i lo -j ACCEPT\n", [">drop", "interface in>accept"]),
    ("iptables -A INPUT -p udp -j DROP\niptables -A INPUT -j DROP\niptables -D INPUT 1\n", [">drop"]),
    ("iptables -A INPUT -p udp -j DROP\niptables -A INPUT -j DROP\niptables -D INPUT -p udp -j DROP\n", [">drop"]),
    ("iptables -A INPUT -j DROP\niptables -F INPUT\niptables -A INPUT -i lo -j ACCEPT\n", ["interface in>accept"]),
    ("iptables -A INPUT -j DROP\niptables -F\niptables -A INPUT -i lo -j ACCEPT\n", ["interface in>accept"]),
    ("iptables -A INPUT -j DROP\niptables -R INPUT 1 -i lo -j ACCEPT\n", ["interface in>accept"]),
    ("iptables --append INPUT --protocol tcp --jump ACCEPT\n", ["protocol>accept"]),
    ("/usr/sbin/iptables -w 5 -t filter -A INPUT -j DROP 2>/dev/null || true\n", [">drop"]),
    ("sudo iptables-legacy -A INPUT -j DROP\n", [">drop"]),
    ("X=lo; iptables -A INPUT -i $X -j DROP; iptables -A INPUT -j ACCEPT\n", ["interface in>drop", ">accept"]),
    ('A="10.0.0.0/8"\nB="$A,192.0.2.0/24"\niptables -A INPUT -s "$B" -j DROP\n', ["source>drop"]),
    ("for p in 22 80; do\niptables -A INPUT -p tcp --dport $p -j DROP\ndone\n", ["destination port,protocol>drop"] * 2),
    ("for p in 22 80; do iptables -A INPUT -p tcp --dport $p -j DROP; done\n", ["destination port,protocol>drop"] * 2),
    (
        "for a in x y\ndo\n for p in 1 2\n do\n  iptables -A INPUT -i $a -p tcp --dport $p -j DROP\n done\ndone\n",
        ["destination port,interface in,protocol>drop"] * 4,
    ),
    ("for p in; do iptables -A INPUT -j DROP; done\niptables -A INPUT -j ACCEPT\n", [">accept"]),
    ("iptables -A INPUT -j DROP\nexit 0\niptables -A INPUT -j ACCEPT\n", [">drop"]),
    ("echo 'iptables -A INPUT -j ACCEPT'\niptables -A INPUT -j DROP # last\n", [">drop"]),
    ("LC_ALL=C iptables -A INPUT -j DROP\n", [">drop"]),
    ('iptables -A INPUT -m comment --comment "a; b # c" -j DROP\n', [">drop"]),
    ("iptables -A INPUT \\\n  -i lo \\\n  -j ACCEPT\n", ["interface in>accept"]),
]


@pytest.mark.parametrize(("text", "expected"), STEPS)
def test_a_script_is_followed_as_a_shell_would_run_it(text: str, expected: list[str]) -> None:
    device = script(f"#!/bin/sh\n{text}")
    assert spelled(device) == expected
    assert (device.ledger.unread, device.ledger.problems) == ((), ())


LINES = [text for text, _ in STEPS if not any(sign in text for sign in ("#", "\\", "do\n", "for p in;"))]


@pytest.mark.parametrize("text", LINES)
def test_commands_of_one_line_are_those_of_several_and_each_has_its_place(text: str) -> None:
    several, joined = script(text), script("; ".join(text.splitlines()) + "\n")
    assert spelled(joined) == spelled(several)
    for base in joined.rulebases:
        for _, rule in base.rules():
            (shown,) = joined.text(rule.where)
            assert shown.count("iptables") == 1
            assert not shown.startswith(" ")
            assert not shown.endswith((" ", ";"))


DOUBTS = [
    ("iptables -A INPUT -s $1 -j ACCEPT\n", [">accept?"], "depends on what a command prints"),
    ("iptables -A INPUT -s $HOME_NET -j ACCEPT\n", [">accept?"], "$HOME_NET is not known"),
    ("iptables -A INPUT -p tcp ! -i $LAN -j ACCEPT\n", ["protocol>accept?"], "$LAN is not known"),
    ("iptables -A INPUT -s 10.0.0.1 -j $WHAT\n", [">unknown?"], "$WHAT is not known"),
    ("iptables -A $WHERE -s 10.0.0.1 -j DROP\n", [">unknown?"], "$WHERE is not known"),
    (
        "if [ -f /etc/x ]; then\niptables -A INPUT -j ACCEPT\nfi\niptables -A INPUT -j DROP\n",
        [">accept?", ">drop"], "decided on the host",
    ),
    ("if true; then iptables -P INPUT ACCEPT; fi\niptables -A INPUT -j DROP\n", [">drop"], "'-P' is passed over"),
    ("fw() {\niptables -A INPUT -j ACCEPT\n}\niptables -A INPUT -j DROP\n", [">accept?", ">drop"], "decided on the host"),
    (". /etc/firewall.conf\niptables -A INPUT -j DROP\n", [">unknown?", ">drop"], "not a command we follow"),
    ("iptables -A INPUT -j DROP\n$IPT -I INPUT -j ACCEPT\n", [">unknown?", ">drop"], "not a command we follow"),
    ("iptables -A INPUT -i lo -j ACCEPT\nopen_up 22\n", ["interface in>accept", ">unknown?"], "not a command we follow"),
    ("open_up 22\niptables -F\niptables -A INPUT -j DROP\n", [">drop"], "not a command we follow"),
    ("ipset create x hash:ip\niptables -A INPUT -j DROP\n", [">drop"], "not a command we follow"),
    ("iptables -D INPUT -j DROP\niptables -A INPUT -j DROP\n", [">drop"], "no such rule to delete"),
    ("iptables -R INPUT 9 -j DROP\niptables -A INPUT -j DROP\n", [">drop"], "to replace"),
    ("iptables-restore <<EOF\n*filter\nCOMMIT\nEOF\niptables -A INPUT -j DROP\n", [">unknown?", ">drop"], "reads the lines below"),
    ("iptables -A INPUT -j DROP\niptables -E INPUT x\n", [">drop"], "renamed"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected", "said"), DOUBTS)
def test_what_only_the_host_decides_makes_no_rule_certain(text: str, expected: list[str], said: str) -> None:
    device = script(text)
    assert [one.replace("source>", ">") for one in spelled(device)] == [one.replace("source>", ">") for one in expected]
    assert any(said in entry.why for entry in (*device.ledger.problems, *device.ledger.unread))


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("iptables -t gizmo -A INPUT -j DROP\n", "'gizmo' is not a table"),
        ("for x in 1 2; do\niptables -A INPUT -j DROP\n", "never closed"),
        ('iptables -A INPUT -m comment --comment "open -j DROP\n', "never closed"),
        ("iptables -A INPUT -j a\niptables -N a\niptables -A a -j b\niptables -N b\niptables -A b -j a\n", "circle"),
    ],
)
def test_scripts_that_make_no_sense_are_refused(text: str, said: str) -> None:
    with pytest.raises(UnreadableError, match=said) as caught:
        script(f"iptables -P INPUT DROP\n{text}")
    assert str(caught.value).startswith("fw.sh:")


def test_loops_end() -> None:
    loops = "".join(f"for v{n} in {' '.join(map(str, range(20)))}; do\n" for n in range(5))
    with pytest.raises(UnreadableError, match="goes too far"):
        script(f"{loops}iptables -A INPUT -j DROP\n" + "done\n" * 5)


LISTING = "-P INPUT DROP\n-P FORWARD DROP\n-P OUTPUT ACCEPT\n-N web\n-A INPUT -i lo -j ACCEPT\n-A INPUT -j web\n"
NAT = "-P PREROUTING ACCEPT\n-P INPUT ACCEPT\n-P OUTPUT ACCEPT\n-P POSTROUTING ACCEPT\n-A POSTROUTING -o eth0 -j MASQUERADE\n"


def test_listings_tell_their_tables_by_the_chains() -> None:
    one = script(LISTING)
    assert [base.name for base in one.rulebases] == ["filter"]
    assert any("ask for iptables-save" in problem.why for problem in one.ledger.problems)
    both = script(LISTING + NAT)
    assert [base.name for base in both.rulebases] == ["filter", "nat"]
    assert both.ledger.problems == ()
    counted = script(
        "-P INPUT DROP -c 5 300\n-P FORWARD DROP -c 0 0\n-P OUTPUT ACCEPT -c 1 9\n-A INPUT -i lo -c 3 180 -j ACCEPT\n"
    )
    assert [rule.hits.packets for _, rule in counted.rulebases[0].rules() if rule.hits] == [3]
    with pytest.raises(UnreadableError, match="listed a second time"):
        script(LISTING + LISTING)


@pytest.mark.parametrize(
    ("text", "format_name"),
    [
        ("#!/bin/sh\niptables -A INPUT -j DROP\n", "iptables-save"),
        ("#!/bin/sh\nIPT=/sbin/iptables\n$IPT -A INPUT -j DROP\n", "iptables-save"),
        (
            "#!/bin/sh\nIPT=iptables\nfor p in 22 80; do $IPT -A INPUT -p tcp --dport $p -j ACCEPT; done\n",
            "iptables-save",
        ),
        ("#!/bin/sh\nIPT=iptables; true && ${IPT} -A INPUT -j DROP\n", "iptables-save"),
        ("#!/bin/sh\nIPT=tables\n$IPT -A INPUT -j DROP\n", None),
        (LISTING, "iptables-save"),
        ("#!/bin/sh\necho hello\n", None),
        ("We set -A INPUT and so on; see iptables.\n", None),
    ],
)
def test_recognised_by_content(text: str, format_name: str | None) -> None:
    file = decode("x", text.encode())
    if format_name is None:
        with pytest.raises(UnreadableError, match="not recognised"):
            recognise(file)
    else:
        form, why = recognise(file)
        assert form.name == format_name
        assert "line " in why


@pytest.mark.parametrize(
    "text",
    [
        "cat hosts | while read a; do iptables -A INPUT -s 10.0.0.1 -j ACCEPT; done\n",
        "what \\\nloops; do iptables -A INPUT -s 10.0.0.1 -j ACCEPT; done\n",
    ],
)
def test_what_loops_unseen_leaves_its_rules_open(text: str) -> None:
    device = script(f"#!/bin/sh\n{text}iptables -A INPUT -j DROP\n")
    assert spelled(device)[-2:] == ["source>accept?", ">drop"]
    assert any("stands inside 'do'" in entry.why for entry in device.ledger.unread)
