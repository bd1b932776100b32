"""Terminal views and JSON: whole, plain where piped, coloured where seen, and alike."""

from __future__ import annotations

import io
import json
import re
import textwrap
from collections.abc import Callable
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

import aiguille
from aiguille.analysis.breadth import Breadth, breadth
from aiguille.analysis.program import Programs
from aiguille.analysis.standing import standings
from aiguille.baseline import Audit
from aiguille.demo import write_estate
from aiguille.model import Estate, UsageError
from aiguille.readers import nftables
from aiguille.readers.files import decode
from aiguille.reports import data, layout, terminal
from aiguille.reports.files import ending_of, write_whole
from aiguille.reports.rules import Describer, rules_data, show_rules
from aiguille.reports.text import counted, visible
from tests.helpers import filter_table, linux, veskara


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Estate:
    folder = tmp_path_factory.mktemp("demo") / "v"
    write_estate(folder)
    return aiguille.read([folder])


@pytest.fixture(scope="module")
def audit(estate: Estate) -> Audit:
    return aiguille.audit(estate)


def shown(view: Callable[[Console], None], *, colour: bool = False, width: int = 100) -> str:
    out = io.StringIO()
    view(
        Console(
            file=out, width=width, force_terminal=colour, highlight=False, color_system="truecolor" if colour else None
        )
    )
    return out.getvalue()


WORDS = st.tuples(st.sampled_from(["", " ", "  "]), st.sampled_from(["a", "bc", "words", "x" * 20]))


@given(st.lists(WORDS.map("".join)).map("".join), st.integers(4, 14))
def test_lines_are_broken_as_the_standard_library_does(line: str, width: int) -> None:
    expected = textwrap.wrap(line, width, replace_whitespace=False, break_on_hyphens=False)
    found = [one.rstrip() for one in layout.broken(line, width)]
    assert [one for one in found if one] == [one.rstrip() for one in expected if one.strip()]


def test_the_audit_view_tells_everything_the_json_tells(audit: Audit) -> None:
    text = " ".join(shown(lambda console: terminal.show_audit(console, audit)).split())
    content = data.audit_data(audit)
    assert json.loads(data.dump(content)) == content
    for finding in content["findings"]:
        for part in ("title", "detail", "why", "fix", "fingerprint", "check"):
            assert " ".join(finding[part].split()) in text, part
        if finding["witness"]:
            assert finding["witness"]["sentence"] in text
        for evidence in finding["evidence"][:2]:
            assert f"{Path(evidence['file']).name}:{evidence['line']}" in text.replace(" ", "")
    assert sum(content["summary"]["by_severity"].values()) == len(content["findings"])
    assert sum(content["summary"]["by_outcome"].values()) == len(content["outcomes"])


@pytest.mark.parametrize("width", [60, 80, 100, 140])
def test_views_keep_to_the_width(estate: Estate, audit: Audit, width: int) -> None:
    for view in (lambda c: terminal.show_audit(c, audit), lambda c: terminal.show_read(c, estate, show="all")):
        for line in shown(view, width=width).splitlines():
            assert len(line.rstrip()) <= width


@pytest.mark.parametrize("width", [1, 20, 36])
def test_the_narrowest_views_end_and_lose_nothing(audit: Audit, width: int) -> None:
    text = "".join(shown(lambda console: terminal.show_audit(console, audit), width=width).split())
    assert all(finding.fingerprint in text for finding in audit.findings)


def test_colours_are_for_terminals_only(audit: Audit) -> None:
    assert "\x1b[" in shown(lambda console: terminal.show_audit(console, audit), colour=True)
    assert "\x1b" not in shown(lambda console: terminal.show_audit(console, audit))


def test_what_could_not_be_read_is_shown(tmp_path: Path) -> None:
    (tmp_path / "a.v4").write_text(
        "*filter\n:INPUT DROP [0:0]\n-A INPUT -m odd --x 1 -j ACCEPT\n-A INPUT -j GONE\nCOMMIT\n"
    )
    (tmp_path / "b.v4").write_text("*filter\n")
    estate = aiguille.read([tmp_path], as_of=date(2026, 11, 30))
    full = shown(lambda console: terminal.show_read(console, estate, show="all"))
    for part in ("1 not understood", "'--x 1' is not known to the match 'odd'", "neither a chain", "cut off"):
        assert part in " ".join(full.split()), full
    only = shown(lambda console: terminal.show_read(console, estate, show="unread"))
    assert "sha256" in full
    assert "sha256" not in only
    assert "is not known" in " ".join(only.split())


def test_an_empty_estate_says_so() -> None:
    audit = aiguille.audit(Estate((), date(2026, 11, 30)))
    assert "Nothing could be read, so nothing was checked." in shown(
        lambda console: terminal.show_audit(console, audit)
    )


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ("", "everything"),
        ("-s 10.0.0.0/8 -d 192.0.2.1/32", "source 10.0.0.0/8, destination 192.0.2.1"),
        ("! -i eth+ -p tcp -m tcp ! --dport 20:25", "interface in not eth*, protocol tcp, destination port not 20-25"),
        ("-m iprange --src-range 10.0.0.1-10.0.0.6", "source 10.0.0.1-10.0.0.6"),
        ("-m conntrack --ctstate RELATED,ESTABLISHED", "state related or established"),
        ("-p icmp -m icmp --icmp-type 3/1", "protocol icmp, ICMP type 3 code 1"),
        ("-p tcp -m tcp --tcp-flags SYN,ACK SYN", "protocol tcp, TCP flags SYN of SYN,ACK"),
        ("-m addrtype --dst-type LOCAL", "destination type local"),
        ("-m mark ! --mark 0x2/0xff", "mark not 0x2/0xff"),
        ("-m limit --limit 5/sec", "(rate limit)"),
        ("-s 10.0.0.1/255.0.0.255", "source 10.0.0.1/255.0.0.255"),
    ],
)
def test_rules_in_words(options: str, words: str) -> None:
    device = filter_table(f"-A INPUT {options} -j ACCEPT")
    (_, rule), *_ = device.rulebases[0].rules()
    assert Describer(device).rule(rule) == words


@pytest.mark.parametrize(
    ("rule", "words", "width"),
    [
        ("-A FORWARD -j ACCEPT", "any source to any destination on any service", 100),
        ("-A FORWARD -s 10.0.0.0/24 -d 10.1.0.1 -p tcp -m tcp --dport 22 -j ACCEPT", "256 sources to 1 destination on tcp/22", 8.3),
        ("-A FORWARD -s 10.0.0.0/8 -p udp -m multiport --dports 53,123 -j ACCEPT",
         "16 777 216 sources to any destination on 2 ports of udp", 59.7),
        ("-A FORWARD -p icmp -j ACCEPT", "any source to any destination on ICMP", 66.7),
        ("-A FORWARD -p tcp -j ACCEPT", "any source to any destination on any port of tcp", 88.9),
        ("-A FORWARD -p gre -j ACCEPT", "any source to any destination on gre", 66.7),
        ("-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT", "", None),
        ("-A FORWARD -m set --match-set gone src -j ACCEPT", "any source to any destination on any service", 100),
        ("-A FORWARD -j DROP", "", None),
        ("-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT", "any source to the device on tcp/22", 33.3),
        ("-A OUTPUT -j ACCEPT", "the device to any destination on any service", 66.7),
        ("-A INPUT -i lo -j ACCEPT", "", None),
    ],
)  # fmt: skip
def test_how_wide_a_rule_is(rule: str, words: str, width: float | None) -> None:
    device = filter_table(rule)
    base = device.rulebases[0]
    (chain, one), *_ = base.rules()
    assert breadth(Programs(device), base, chain, one) == Breadth(words, width)


def test_how_wide_a_rule_is_in_both_families() -> None:
    text = (
        "table inet t {\n\tchain c {\n\t\ttype filter hook forward priority 0; policy drop;\n"
        "ip6 saddr 2001:db8::/48 tcp dport { 80, 443 } accept\nip6 saddr 2000::/3 accept\ntcp dport 22 accept\n"
        "ip saddr 192.0.2.0/24 ip daddr 192.0.2.9 accept\nip6 saddr 2001:db8::/64 ip6 daddr 2001:db8::9 accept\n\t}\n}\n"
    )
    device = nftables.read([decode("ruleset", text.encode())], "box")
    base = device.rulebases[0]
    found = [breadth(Programs(device), base, chain, rule) for chain, rule in base.rules()]
    assert [one.words for one in found] == [
        "IPv6: sources of 65 536 networks to any destination on 2 ports of tcp",
        "IPv6: sources of a /3 to any destination on any service",
        "any source to any destination on tcp/22",
        "IPv4: 256 sources to 1 destination on any service",
        "IPv6: sources of 1 network to 1 destination on any service",
    ]
    widths = [one.width for one in found]
    assert widths[3] == widths[4], "a network of one family counts for as much as one of the other"
    assert max(range(5), key=widths.__getitem__) == 1


def test_names_are_opened() -> None:
    device = veskara(
        "place a { is 10.0.0.1 }\nplace b { is 10.0.0.0/8 }\nplaces c { are [ a b ] }\nplaces d { are [ c 192.0.2.1 ] }\n"
        "talk w { over tcp, to-port [ 80 443 ] }\ntalks t { are [ w ] }\n"
        'passages { passage "x" { sender [ d ], talking [ t ], then let } }'
    )
    (_, rule), *_ = device.rulebases[0].rules()
    assert Describer(device).rule(rule) == "source d = 10.0.0.1 or 10.0.0.0/8 or 192.0.2.1, service t = tcp/80,443"


def test_listings_in_both_forms_hold_every_rule(estate: Estate) -> None:
    found = [(programs, standings(programs)) for programs in map(Programs, estate.devices)]
    lines: list[str] = []
    show_rules(Console(file=io.StringIO()), found, lines.append, details=True)
    text = "".join(lines)
    rules = json.loads("".join(rules_data(found)))["rules"]
    assert len(rules) == sum(len(reports) for _, reports in found)
    for rule in rules:
        assert f"{rule['file']}:{rule['line']}" in text
        assert rule["standing"] in text
        assert rule["breadth"] in text
    brief: list[str] = []
    show_rules(Console(file=io.StringIO()), found, brief.append)
    short = [line for line in brief if re.match(r" +\d+  ", line)]
    assert len(short) == len(rules), "a rule begins a line"
    assert len(brief) <= 2 * len(rules) + 3 * len({(r["device"], r["rulebase"], r["chain"]) for r in rules})
    for line, rule in zip(short, rules, strict=True):
        assert rule["standing"] in line
        assert rule["match"].split(",")[0].replace("\t", "  ") in line
    coloured = io.StringIO()
    show_rules(Console(file=coloured, force_terminal=True, color_system="truecolor"), found, lines.append)
    assert "\x1b[" in coloured.getvalue()


def test_text_of_strangers() -> None:
    assert visible("a\x1b[1mb\tc\u202ed\u2028") == "a\\x1b[1mb  c\\u202ed\\u2028"
    assert visible("a\xad\u061c\u200bz\uffff\U000e0041") == "a\\xad\\u061c\\u200bz\\uffff\\U000e0041"
    assert counted(1, "entry", "entries") == "1 entry"
    assert counted(2, "entry", "entries") == "2 entries"


def test_files_are_written_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "deep" / "a.txt"
    write_whole(path, b"one")
    with pytest.raises(UsageError, match="--force"):
        write_whole(path, b"two")
    assert path.read_bytes() == b"one"
    write_whole(path, b"two", force=True)
    assert path.read_bytes() == b"two"
    assert [p.name for p in path.parent.iterdir()] == ["a.txt"]
    (tmp_path / "file").write_text("x")
    with pytest.raises(UsageError, match="cannot be written"):
        write_whole(tmp_path / "file" / "below.txt", b"")
    with pytest.raises(UsageError, match=r"\.json"):
        ending_of(Path("a.docx"), [".json"])
    assert ending_of(Path("a.OSCAL.json"), [".json", ".oscal.json"]) == ".oscal.json"


def test_long_lists_are_cut_in_the_terminal_and_whole_in_json() -> None:
    facts = "".join(f"net.ipv4.conf.if{n:02}.rp_filter = 1\n" for n in range(40))
    files = {f"etc/sysctl.d/{n}.conf": "# nothing\n" for n in range(9)}
    device = linux({"sysctl.txt": facts, "etc/passwd": "ann:x:1:1::/h:/bin/sh\n", **files})
    estate = Estate((device,), date(2026, 11, 1))
    text = " ".join(shown(lambda console: terminal.show_read(console, estate)).split())
    assert "and 6 more files, all listed with --json" in text
    assert "and 12 more, all listed with --json" in text
    assert "accounts ann" in text
    (content,) = data.read_data(estate)["devices"]
    assert (len(content["sources"]), len(content["settings"])) == (12, 42)
    assert content["settings"][2] == {
        "name": "net.ipv4.conf.if00.rp_filter",
        "value": "1",
        "standing": "stated",
        "file": "sysctl.txt",
        "line": 1,
    }
    assert content["accounts"][0]["file"] == "etc/passwd"


def test_empty_chains_are_counted_not_listed() -> None:
    device = filter_table("-A INPUT -j used\n-A used -j DROP", chains=("used", "idle", "spare"))
    text = shown(lambda console: terminal.show_read(console, Estate((device,), date(2026, 11, 1))))
    assert "used 1, 2 chains without rules" in " ".join(text.split())
    assert "idle" not in text


def test_what_never_happens_and_never_ends_is_said_in_words() -> None:
    files = {
        "etc/ssh/sshd_config": "Port 22\n",
        "etc/fail2ban/jail.local": "[sshd]\nenabled = true\nbantime = -1\n",
    }
    told = {name: value for name, value, _ in data.settings_of(linux(files))}
    assert told["idle sessions close after"] == "never"
    assert told["lockout lasts"] == "for ever"
    assert told["lockout after failed logins"] == "5"
