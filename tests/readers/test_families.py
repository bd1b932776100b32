"""The same statements in every family and every dress of text become the same tree, and the same rules."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook

from aiguille.model import Device
from aiguille.readers import decode, mapped
from aiguille.readers.mapped.spec import (
    Block,
    JsonStructure,
    Phrase,
    Structure,
    TextStructure,
    XmlStructure,
    YamlStructure,
)
from aiguille.readers.mapped.structure import parse
from aiguille.readers.mapped.tree import Node
from tests.helpers import dialect

Statement = tuple[str, list[str], list[Any]]

NAMES = st.sampled_from(["rule", "from", "says", "zone-x", "a.b"])
WORDS = st.one_of(
    st.sampled_from(["10.0.0.0/8", "web", "443", "yes"]), st.text("ab \"'\\{}[]é", min_size=1, max_size=6)
)
STATEMENTS = st.recursive(
    st.tuples(NAMES, st.lists(WORDS, max_size=3), st.just([])),
    lambda below: st.tuples(NAMES, st.lists(WORDS, max_size=2), st.lists(below, max_size=3)),
    max_leaves=12,
)


def quoted(word: str) -> str:
    return '"' + word.replace("\\", "\\\\").replace('"', '\\"') + '"'


def braces(statements: list[Statement], depth: int = 0) -> str:
    lines = []
    for name, words, below in statements:
        head = " ".join(["  " * depth + name, *map(quoted, words)])
        lines.append(f"{head} {{\n{braces(below, depth + 1)}{'  ' * depth}}}" if below else head)
    return "".join(f"{line}\n" for line in lines)


def lists(statements: list[Statement], depth: int = 0) -> str:
    """Braces, with words in lists, several statements a line, and remarks."""
    out = []
    for name, words, below in statements:
        head = f"{name} [ {' '.join(map(quoted, words))}\n ]" if words else name
        out.append(f"{head} {{ # remark\n{lists(below)} }}" if below else f"{head};")
    return " ".join(out)


def indented(statements: list[Statement], depth: int = 0) -> str:
    lines = []
    for name, words, below in statements:
        cut = len(words) // 2
        head = " ".join(["   " * depth + name, *map(quoted, words[:cut])])
        tail = " ".join(map(quoted, words[cut:]))
        lines.append(head + (f" ~\n {tail}" if tail else "") + "\n\n" + indented(below, depth + 1))
    return "".join(lines)


def phrases(statements: list[Statement], depth: int = 0) -> str:
    lines = []
    for name, words, below in statements:
        head = " ".join(["\t" * depth + (f"begin {name}" if below else name), *map(quoted, words)])
        tabs = "\t" * depth
        lines.append(f"{head}\n{phrases(below, depth + 1)}{tabs}end\n" if below else f"{head}\n")
    return "".join(lines)


def dump(node: Node) -> list[Statement]:
    return [(n.name, [word.text for word in n.words], dump(n)) for n in node.children]


def unwrapped(statements: list[Statement]) -> list[Statement]:
    """Phrases name what they open by their second word."""
    return [
        (words[0], words[1:], unwrapped(below)) if name == "begin" else (name, words, unwrapped(below))
        for name, words, below in statements
    ]


DRESSES: dict[str, tuple[Any, Structure]] = {
    "braces": (braces, TextStructure(block=Block("{", "}"))),
    "lists": (lists, TextStructure(block=Block("{", "}"), list=Block("[", "]"), separator=";", comments=("#",))),
    "indented": (indented, TextStructure(indentation=True, continuation="~")),
    "phrases": (phrases, TextStructure(phrases=(Phrase(("begin",), ("end",)),))),
}


@pytest.mark.parametrize("dress", DRESSES)
@settings(max_examples=60, deadline=None)
@given(st.lists(STATEMENTS, max_size=4))
def test_text_of_every_dress_is_the_same_tree(dress: str, statements: list[Statement]) -> None:
    write, structure = DRESSES[dress]
    text = write(statements)
    if not text.strip():
        return
    root = parse([decode("x", text.encode())], structure).root
    assert unwrapped(dump(root)) == statements
    lines = text.split("\n")
    for node in root.walk():
        assert node.parent is not None
        assert node.parent.first <= node.first <= node.head_last <= node.last <= max(node.parent.last, len(lines))
        for word in node.words:
            said = lines[word.line - 1][word.start : word.stop]
            assert not word.quoted or said == quoted(word.text)


KEYS = st.sampled_from(["a", "b-c", "d"])
TEXTS = st.text("xyé <&>'\"1", max_size=5).map(lambda text: f"t{text}t")
OBJECTS = st.recursive(
    TEXTS, lambda below: st.dictionaries(KEYS, st.one_of(below, st.lists(TEXTS, min_size=1, max_size=3)), max_size=3)
)


def as_xml(name: str, value: Any) -> str:
    if isinstance(value, list):
        return "".join(as_xml(name, one) for one in value)
    if isinstance(value, dict):
        flat = {k: v for k, v in value.items() if isinstance(v, str)}
        inner = "".join(as_xml(k, v) for k, v in value.items() if k not in flat)
        return f"<{name}{''.join(f' {k}={quoteattr(v)}' for k, v in flat.items())}>{inner}</{name}>\n"
    return f"<{name}>{escape(value)}</{name}>"


def by_name(node: Node) -> list[Any]:
    """The tree without the order of different names, which attributes do not keep."""
    return sorted(((n.name, [w.text for w in n.words], by_name(n)) for n in node.children), key=lambda told: told[0])


@settings(max_examples=80, deadline=None)
@given(st.dictionaries(KEYS, OBJECTS, min_size=1, max_size=3))
def test_json_yaml_and_xml_tell_the_same(value: dict[str, Any]) -> None:
    texts: list[tuple[Structure, str]] = [
        (JsonStructure(), json.dumps(value)),
        (JsonStructure(), json.dumps(value, indent=1)),
        (YamlStructure(), yaml.safe_dump(value, allow_unicode=True)),
        (XmlStructure(), as_xml("top", value)),
    ]
    trees = [parse([decode("x", text.encode())], structure).root for structure, text in texts]
    told = [by_name(tree) for tree in trees[:3]] + [by_name(trees[3].children[0])]
    assert told[0] == told[1] == told[2] == told[3]


ROWS = [
    ["No", "Src", "Dst", "Services", "Verdict", "Remark"],
    ["1", "office", "192.0.2.7", "tcp/443; https", "allow", "shop, pages"],
    ["2", "10.0.0.0/8", "any", "any", "deny", 'the "rest"'],
]
OBJECTS_ROWS = [["Name", "Address", "Without"], ["office", "10.0.1.0/24; 10.0.3.0/24", "10.0.1.5"]]


def separated(sign: str, *tables: tuple[str, list[list[str]]]) -> bytes:
    out = io.StringIO()
    writer = csv.writer(out, delimiter=sign, lineterminator="\r\n")
    for name, rows in tables:
        writer.writerow([name])
        writer.writerows(rows)
    return out.getvalue().encode("utf-8-sig")


def test_a_sheet_is_the_same_by_commas_tabs_semicolons_and_as_a_workbook(tmp_path: Path) -> None:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Policy"
    for row in ROWS:
        sheet.append(row)
    for row in OBJECTS_ROWS:
        (book["Hosts"] if "Hosts" in book.sheetnames else book.create_sheet("Hosts")).append(row)
    book.save(tmp_path / "rules.xlsx")
    exports = {sign: separated(sign, ("[policy]", ROWS), ("hosts", OBJECTS_ROWS)) for sign in ",\t;|"}
    exports["book"] = (tmp_path / "rules.xlsx").read_bytes()
    seen = []
    for data in exports.values():
        (device,) = mapped.read(dialect("sheet"), [decode("rules", data)], "")
        assert (device.ledger.unread, device.ledger.problems) == ((), ())
        parts = mapped.parts_of(device)
        seen.append(
            [{k: r[k] for k in ("action", "comment", "matches", "rule")} for r in parts["rules"]] + parts["addresses"]
        )
    assert all(one == seen[0] for one in seen)
    assert seen[0][0]["matches"] == {
        "source": ["office"], "destination": ["192.0.2.7"], "service": ["tcp/443", "tcp/443", "udp/443"],
    }  # fmt: skip
    assert seen[0][1]["comment"] == 'the "rest"'
    assert seen[0][2]["excluded"] == ["10.0.1.5"]


@pytest.mark.parametrize(
    ("said", "meant"),
    [
        ("tcp/443", ["tcp/443"]),
        ("TCP 443", ["tcp/443"]),
        ("443/tcp", ["tcp/443"]),
        ("443 (TCP)", ["tcp/443"]),
        ("tcp-8000-8010", ["tcp/8000-8010"]),
        ("TCP 8000 - 8010", ["tcp/8000-8010"]),
        ("udp_53", ["udp/53"]),
        ("tcp:80", ["tcp/80"]),
        ("TCP 80, TCP 443", ["tcp/80", "tcp/443"]),
        ("TCP 80,443; UDP 443", ["tcp/80", "tcp/443", "udp/443"]),
        ("icmp", ["icmp"]),
        ("tcp 80 and more", ["tcp 80 and more"]),
        ("our tcp 80", ["our tcp 80"]),
    ],
)
def test_how_sheets_write_services(said: str, meant: list[str]) -> None:
    rows = [["Rule #", "Source IP", "Destination IP", "Service / Port", "Permit?", "Justification"]]
    rows.append(["1", "10.0.1.0/24", "192.0.2.7", said, "permit", "shop"])
    (device,) = mapped.read(dialect("sheet"), [decode("rules", separated(";", ("rules", rows)).replace(b'"', b""))], "")
    if ";" in said:
        (device,) = mapped.read(dialect("sheet"), [decode("rules", separated("\t", ("rules", rows)))], "")
    (told,) = mapped.parts_of(device)["rules"]
    assert told["matches"]["service"] == meant
    assert told["comment"] == "shop"
    assert not device.ledger.unread


def rule_names(device: Device) -> list[str]:
    return [rule.name for base in device.rulebases for _, rule in base.rules()]


@pytest.mark.parametrize(
    ("seats", "order", "doubtful"),
    [
        (["3", "1", "2"], ["b", "c", "a"], []),
        (["1", "", "3"], ["a", "b", "c"], []),
        (["10", "9", "9"], ["b", "c", "a"], []),
        (["1", "2", "first"], ["c", "a", "b"], ["c"]),
    ],
)
def test_rows_stand_by_their_numbers(seats: list[str], order: list[str], doubtful: list[str]) -> None:
    """A number that cannot be read may mean any place, so its rule may take packets from all others."""
    rows = [["No", "Name", "Src", "Dst", "Action"]] + [
        [seat, name, "10.0.0.0/8", "any", "deny"] for seat, name in zip(seats, "abc", strict=True)
    ]
    (device,) = mapped.read(dialect("sheet"), [decode("rules", separated(",", ("rules", rows)))], "")
    assert rule_names(device) == order
    assert [rule.name for base in device.rulebases for _, rule in base.rules() if rule.qualifiers] == doubtful
