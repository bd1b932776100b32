"""How the tables of Shorewall are split into rows, columns, conditions and calls."""

from __future__ import annotations

import pytest

from aiguille.model import NotUnderstoodError, UnreadableError
from aiguille.readers.bundle import Bundle
from aiguille.readers.files import LedgerBuilder
from aiguille.readers.shorewall.actions import read_call, split_actions
from aiguille.readers.shorewall.columns import (
    address_words,
    detail_words,
    joined,
    negated,
    ports_words,
    rate_words,
    read_side,
)
from aiguille.readers.shorewall.lines import ColumnRow, Expression, Folder
from tests.helpers import placed


def folder(**files: str) -> Folder:
    exports = placed({f"etc/shorewall/{name.replace('_dot_', '.')}": text for name, text in files.items()})
    return Folder(Bundle(tuple(exports)), "etc/shorewall/", 4, LedgerBuilder(tuple(exports)), {"LOG_LEVEL": "info"})


def rows(text: str, **more: str) -> list[ColumnRow]:
    return folder(rules=text, **more).rows("rules")


ROWS = [
    ("A b c tcp 22\n", [("A", "b", "c", "tcp", "22")]),
    ("  A\tb   c # comment\n\n# all comment\nB c\n", [("A", "b", "c"), ("B", "c")]),
    ("A b \\\n  c\n", [("A", "b", "c")]),
    ("A b:10.0.0.1,\\\n     10.0.0.2 c\n", [("A", "b:10.0.0.1,10.0.0.2", "c")]),
    ("A(b, c) d\n", [("A(b,c)", "d")]),
    ("$X b\n${X}y b\n", [("one", "b"), ("oney", "b")]),
    ('A "b # c"\n', [("A", '"b', "#", 'c"')]),
    ("?SET Z 3\nA $Z\n", [("A", "3")]),
    ("?FORMAT 2\nA b\n", [("A", "b")]),
    ("INCLUDE sub\nB\n", [("S",), ("B",)]),
    ("?INCLUDE sub\n", [("S",)]),
    ("?if 0\nA\n?elsif 1\nB\n?else\nC\n?endif\nD\n", [("B",), ("D",)]),
    ("?if 1\n?if 0\nA\n?endif\nB\n?endif\n", [("B",)]),
    ("?begin perl\nA\n?end perl\nB\n", [("B",)]),
]


@pytest.mark.parametrize(("text", "expected"), ROWS)
def test_rows(text: str, expected: list[tuple[str, ...]]) -> None:
    found = rows(text, params="X=one\n", sub="S\n")
    assert [row.columns for row in found] == expected


def test_rows_know_their_lines_their_section_and_comment() -> None:
    text = '?SECTION NEW\n?COMMENT why\nA b \\\nc\n?COMMENT\nB { proto=tcp, dport="1,2" }\nC ; sport=>5\nD ;; -m foo --bar\n'
    first, second, third, fourth = rows(text)
    assert (first.where.first, first.where.last, first.section, first.comment) == (3, 4, "NEW", "why")
    assert (second.comment, dict(second.named)) == ("", {"proto": "tcp", "dport": "1,2"})
    assert third.column(5, "sport") == "5"
    assert fourth.inline == ("-m", "foo", "--bar")
    assert [row.column(3, "proto") for row in (first, second)] == ["", "tcp"]


CONDITIONS = [
    ("1", True), ("0", False), ("yes", True), ("No", False), ("$X", True), ("$EMPTY", False), ("! $EMPTY", True),
    ("$X eq 'one'", True), ("$X ne one", False), ("$X == one", True), ("3 < 10", True), ("3 >= 10", False),
    ("1 && 0", False), ("1 && ! 0", True), ("0 || $X", True), ("( 0 || 1 ) && 1", True), ("__IPV4", True),
    ("__IPV6", False), ("__ADDRTYPE && ! $EMPTY", True), ("$LOG_LEVEL eq 'info'", True), ("not 1 or 1", True),
]  # fmt: skip


@pytest.mark.parametrize(("text", "holds"), CONDITIONS)
def test_conditions(text: str, holds: bool) -> None:
    assert Expression(text, folder(params="X=one\nEMPTY=\n")).value() is holds


@pytest.mark.parametrize("text", ["", "(1", "1 1", "$X =~ /o/", "'a' < 3", "&&", "$HOST", "1 &&"])
def test_conditions_that_cannot_be_settled(text: str) -> None:
    with pytest.raises(NotUnderstoodError, match="the condition"):
        Expression(text, folder(params="X=one\nHOST=$(hostname)\n")).value()


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"rules": "?if 1\nA\n"}, "no \\?endif"),
        ({"rules": "?else\n"}, "belongs to no \\?if"),
        ({"rules": "INCLUDE a\n", "a": "INCLUDE rules\n"}, "deeper than 4"),
    ],
)
def test_tables_that_are_cut_off(files: dict[str, str], said: str) -> None:
    with pytest.raises(UnreadableError, match=said):
        folder(**files).rows("rules")


CALLS = [
    ("ACCEPT", ("ACCEPT", (), "", "")),
    ("ACCEPT+", ("ACCEPT+", (), "", "")),
    ("DROP!", ("DROP", (), "", "")),
    ("DNAT-", ("DNAT-", (), "", "")),
    ("REJECT:info", ("REJECT", (), "info", "")),
    ("DROP:info:tag", ("DROP", (), "info", "tag")),
    ("SSH(ACCEPT)", ("SSH", ("ACCEPT",), "", "")),
    ("SSH/ACCEPT:warn", ("SSH", ("ACCEPT",), "warn", "")),
    ("Web(DROP):info", ("Web", ("DROP",), "info", "")),
    ("Limit(x,3,60)", ("Limit", ("x", "3", "60"), "", "")),
    ("Invalid(Broadcast(DROP),audit)", ("Invalid", ("Broadcast(DROP)", "audit"), "", "")),
    ("NFQUEUE(3)", ("NFQUEUE", ("3",), "", "")),
]


@pytest.mark.parametrize(("text", "expected"), CALLS)
def test_calls(text: str, expected: tuple[str, tuple[str, ...], str, str]) -> None:
    call = read_call(text)
    assert (call.name, call.parameters, call.level, call.tag) == expected
    assert call.logs is bool(expected[2])


def test_lists_of_actions_are_split_outside_parentheses() -> None:
    assert split_actions("Broadcast(DROP),Multicast(DROP):info, none") == ["Broadcast(DROP)", "Multicast(DROP):info"]
    assert split_actions("none") == []
    with pytest.raises(NotUnderstoodError):
        read_call("!what")
    assert not read_call("DROP:none").logs


SIDES = [
    ("net", ("net", "", (), ())),
    ("net:192.0.2.1", ("net", "", ("192.0.2.1",), ())),
    (
        "net:192.0.2.0/24,192.0.2.9!192.0.2.1,192.0.2.2",
        ("net", "", ("192.0.2.0/24", "192.0.2.9"), ("192.0.2.1", "192.0.2.2")),
    ),
    ("net:!192.0.2.1", ("net", "", (), ("192.0.2.1",))),
    ("net:eth0", ("net", "eth0", (), ())),
    ("net:eth0:192.0.2.1", ("net", "eth0", ("192.0.2.1",), ())),
    ("net:[2001:db8::1],[2001:db8::]/64", ("net", "", ("2001:db8::1", "2001:db8::/64"), ())),
    ("net:<2001:db8::1>", ("net", "", ("2001:db8::1",), ())),
    ("net:0.0.0.0/0", ("net", "", (), ())),
    ("net:+good", ("net", "", ("+good",), ())),
    ("net:~00-11-22-33-44-55", ("net", "", ("~00-11-22-33-44-55",), ())),
    ("dmz:10.0.0.5:8080", ("dmz", "", ("10.0.0.5:8080",), ())),
]


@pytest.mark.parametrize(("text", "expected"), SIDES)
def test_sides(text: str, expected: tuple[str, str, tuple[str, ...], tuple[str, ...]]) -> None:
    side = read_side(text)
    assert (side.zones, side.interface, side.addresses, side.without) == expected


def test_words_of_columns() -> None:
    assert address_words("192.0.2.0/24", "s") == ["-s", "192.0.2.0/24"]
    assert address_words("192.0.2.1-192.0.2.9", "d") == ["-m", "iprange", "--dst-range", "192.0.2.1-192.0.2.9"]
    assert address_words("+good[2]", "s") == ["-m", "set", "--match-set", "good", "src,src"]
    assert address_words("~00-11-22-33-44-55", "s") == ["-m", "mac", "--mac-source", "00:11:22:33:44:55"]
    assert negated(address_words("+good", "d")) == ["-m", "set", "!", "--match-set", "good", "dst"]
    assert negated(["-s", "192.0.2.1"]) == ["!", "-s", "192.0.2.1"]
    for text in ("&eth0", "%eth0", "host.example", "+[a,b]"):
        with pytest.raises(NotUnderstoodError):
            address_words(text, "s")
    assert ports_words("tcp", "22", "d", 4) == [["--dport", "22"]]
    assert ports_words("tcp", "!22,80", "d", 4) == [["-m", "multiport", "!", "--dports", "22,80"]]
    assert ports_words("udp", "1024-2048", "s", 4) == [["--sport", "1024:2048"]]
    assert ports_words("icmp", "8,0", "d", 4) == [
        ["-m", "icmp", "--icmp-type", "8"],
        ["-m", "icmp", "--icmp-type", "0"],
    ]
    assert ports_words("58", "128", "d", 6) == [["-m", "icmp6", "--icmpv6-type", "128"]]
    assert ports_words("tcp", "", "d", 4) == [[]]
    assert joined(["-p", "tcp", "-s", "192.0.2.1"], ["-p", "6", "--syn"]) == ["-p", "tcp", "-s", "192.0.2.1", "--syn"]
    assert joined(["-p", "tcp"], ["-p", "udp"]) is None
    assert rate_words("3/min:5") == ["-m", "limit", "--limit", "3/min", "--limit-burst", "5"]
    assert rate_words("s:name:3/min")[-4:] == ["--hashlimit-mode", "srcip", "--hashlimit-name", "name"]
    with pytest.raises(NotUnderstoodError):
        rate_words("often")


@pytest.mark.parametrize(
    ("details", "module"),
    [
        ({"user": "!root"}, "owner"),
        ({"mark": "0x1"}, "mark"),
        ({"mark": "0x1/0xff:C"}, "connmark"),
        ({"connlimit": "d:3:24"}, "connlimit"),
        ({"time": "utc&timestart=09:00"}, "time"),
        ({"headers": "exactly:hop"}, "ipv6header"),
        ({"switch": "!night"}, "condition"),
    ],
)
def test_details_are_conditions_that_a_packet_does_not_tell(details: dict[str, str], module: str) -> None:
    words = detail_words(details)
    assert words[:2] == ["-m", module]
    assert ("!" in words) is any(value.startswith("!") for value in details.values())
