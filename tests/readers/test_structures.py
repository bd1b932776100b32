"""How the bytes of each family become a tree: names, words, lines and columns; what is refused, and with which line."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from aiguille.model import UnreadableError, UsageError
from aiguille.readers.files import decode
from aiguille.readers.mapped import jsontext
from aiguille.readers.mapped.paths import read_path
from aiguille.readers.mapped.spec import (
    Block,
    Heading,
    IniStructure,
    JsonStructure,
    Phrase,
    SheetStructure,
    Structure,
    Table,
    TextStructure,
    XmlStructure,
    YamlStructure,
)
from aiguille.readers.mapped.structure import parse
from aiguille.readers.mapped.tree import Asides, Node

Dump = tuple[Any, ...]


def dump(node: Node) -> list[Dump]:
    """name, words, first to last line, children."""
    return [
        (n.name, " ".join(w.text for w in n.words), f"{n.first}-{n.last}", *([dump(n)] if n.children else []))
        for n in node.children
    ]


def read(structure: Structure, text: str) -> Node:
    return parse([decode("x", text.encode())], structure).root


def test_text_by_indentation_headings_phrases_and_pairs() -> None:
    structure = TextStructure(
        comments=("#",), quotes=("'", '"'), continuation="\\", indentation=True, pairs=":=",
        headings=Heading("^-- (.+) --$", split="/"), phrases=(Phrase(("begin",), ("done", "fin")),), raw=Block("<<", ">>"),
    )  # fmt: skip
    text = (
        "-- site/rules --\n# remark\nrule one\n  from a \\\n    b\n  to\n    host c\nrule two colour:='dark red' empty:=\n"
        '-- keys --\nbegin key\n  text << one\n two >>\ndone\nnote "said\n over two" after\n'
    )
    assert dump(read(structure, text)) == [
        ("site", "", "1-8", [("rules", "", "1-8", [
            ("rule", "one", "3-7", [("from", "a b", "4-5"), ("to", "", "6-7", [("host", "c", "7-7")])]),
            ("rule", "two", "8-8", [("colour", "dark red", "8-8"), ("empty", "", "8-8")]),
        ])]),
        ("keys", "", "9-15", [("begin", "key", "10-13", [("text", " one\n two ", "11-12")]), ("note", "said\n over two after", "14-15"),
        ]),
    ]  # fmt: skip


def test_secrets_over_several_lines_are_hidden_on_each() -> None:
    text = "k << first\nsecond\nlast >> tail\n"
    (node,) = read(TextStructure(raw=Block("<<", ">>")), text).children
    places = [(s.line, s.start, s.stop) for s in node.words[0].secrets()]
    assert places == [(1, 2, 1 << 30), (2, 0, 1 << 30), (3, 0, 7)]
    assert node.words[1].text == "tail"


JSON = '{"a": [1, {"b": "x\\"y"}, null],\n "a": true,\n "c": {\n  "d": [[1], [2, 3]],\n  "e": []\n }}'
XML = '<?xml version="1.0"?>\n<r xmlns:z="urn:z">\n <z:a k="1"\n  l="two"> text\n more </z:a>\n <!-- a\n b -->\n <b/>\n</r>'
YAML = "---\na: 1\nb:\n  - x: 'one'\n    y: [2, 3]\n  - |\n    long\n    text\n# remark\nc: &k {d: ~}\ne: *k\n"
INI = "; remark\nlone = 1\n[rule 10]\nfrom = a b\n  more\nto: c\n[empty]\n"


@pytest.mark.parametrize(
    ("structure", "text", "expected"),
    [
        (JsonStructure(), JSON, [
            ("a", "1", "1-1"), ("a", "", "1-1", [("b", 'x"y', "1-1")]), ("a", "", "1-1"), ("a", "true", "2-2"),
            ("c", "", "3-6", [("d", "", "4-4", [("item", "1", "4-4"), ("item", "2", "4-4"), ("item", "3", "4-4")])]),
        ]),
        (JsonStructure(), '[{"a": 1}, 2]', [("item", "", "1-1", [("a", "1", "1-1")]), ("item", "2", "1-1")]),
        (XmlStructure(), XML, [
            ("r", "", "2-9", [("z", "urn:z", "2-2"),
                              ("a", "text\n more", "3-5", [("k", "1", "3-3"), ("l", "two", "4-4")]), ("b", "", "8-8")]),
        ]),
        (YamlStructure(), YAML, [
            ("a", "1", "2-2"), ("b", "", "4-5", [("x", "one", "4-4"), ("y", "2", "5-5"), ("y", "3", "5-5")]),
            ("b", "long\ntext\n", "6-8"), ("c", "", "10-10", [("d", "", "10-10")]), ("e", "", "11-11", [("d", "", "10-10")]),
        ]),
        (IniStructure(), INI, [
            ("lone", "1", "2-2"), ("rule", "10", "3-6", [("from", "a b more", "4-5"), ("to", "c", "6-6")]), ("empty", "", "7-7"),
        ]),
        (SheetStructure({"rules": Table(columns={"source": ("src",), "action": ()}), "hosts": Table(("objects",), {"name": ()})}),
         '# remark\nSrc;Action;Odd\n10.0.0.1; allow ;\n"a;b";deny;"x"\n\nObjects;;\nName;;\nh;;\n', [
            ("rules", "", "2-4", [("row", "", "3-3", [("source", "10.0.0.1", "3-3"), ("action", "allow", "3-3")]),
                                  ("row", "", "4-4", [("source", "a;b", "4-4"), ("action", "deny", "4-4"), ("Odd", "x", "4-4")])]),
            ("hosts", "", "7-8", [("row", "", "8-8", [("name", "h", "8-8")])]),
        ]),
    ],
)  # fmt: skip
def test_families(structure: Structure, text: str, expected: list[Dump]) -> None:
    assert dump(read(structure, text)) == expected
    assert dump(read(structure, "\ufeff" + text.replace("\n", "\r\n"))) == expected


BOMB = "a: &a [x, x, x, x, x, x, x, x]\n" + "".join(
    f"{chr(97 + n)}: &{chr(97 + n)} [{', '.join([f'*{chr(96 + n)}'] * 9)}]\n" for n in range(1, 9)
)


@pytest.mark.parametrize(
    ("structure", "text", "line", "why"),
    [
        (JsonStructure(), '{"a": 1,\n "b"\n}', 3, "not valid JSON"),
        (JsonStructure(), '{"a": 1,\n "b": {\n', 2, "not valid JSON"),
        (JsonStructure(), '{"a": 1,\r\n "b": {\r\n', 2, "not valid JSON"),
        (JsonStructure(), "7", 1, "no object"),
        (JsonStructure(), "[" * 150 + "]" * 150, 1, "nested deeper"),
        (JsonStructure(), '{"a":' * 5000 + "1" + "}" * 5000, 1, "nested deeper"),
        (XmlStructure(), "<a>\n<b></a>", 2, "not well-formed"),
        (XmlStructure(), '<!DOCTYPE a [\n<!ENTITY x "y">]>\n<a>&x;</a>', 1, "document type"),
        (XmlStructure(), "<a>" * 200 + "</a>" * 200, 1, "nested deeper"),
        (YamlStructure(), "a:\n - b\n c: d\n", 3, "not valid YAML"),
        (YamlStructure(), BOMB, 8, "aliases make too much"),
        (YamlStructure(), "a: &a\n  b: *a\n", 1, "nested too deep"),
        (IniStructure(), "[a]\nwhat is this\n", 2, "neither a section"),
        (IniStructure(), "[]\n", 1, "without a name"),
        (SheetStructure({"t": Table(columns={"a": ()})}), "x,y\n1,2\n", 1, "none of the headings"),
        (TextStructure(phrases=(Phrase(("begin",), ("end",)),)), "begin x\n a\n", 2, "'begin', opened in line 1"),
        (TextStructure(phrases=(Phrase(("begin",), ("end",)),)), "a\nend\n", 2, "never begun"),
        (TextStructure(raw=Block("<<", ">>")), "k << a\nb\n", 2, "raw text opened in line 1"),
    ],
)  # fmt: skip
def test_what_is_refused(structure: Structure, text: str, line: int, why: str) -> None:
    with pytest.raises(UnreadableError) as caught:
        list(read(structure, text).walk())
    assert str(caught.value).startswith(f"x:{line}:"), str(caught.value)
    assert why in str(caught.value)


SCALARS = st.one_of(st.none(), st.booleans(), st.integers(-5, 9), st.sampled_from(["", "é[{", 'a"\\b', "x,:y"]))
KEYS = st.sampled_from(["a", "b", "é", 'q"'])
VALUES = st.recursive(SCALARS, lambda v: st.one_of(st.lists(v, max_size=4), st.dictionaries(KEYS, v, max_size=4)))


@given(st.dictionaries(KEYS, VALUES, max_size=4), st.sampled_from([None, 0, 2]), st.booleans())
def test_both_ways_of_placing_json_agree_with_the_text(
    value: dict[str, Any], indent: int | None, escaped: bool
) -> None:
    """Short objects are read in one pass and long ones by an index; each word stands where its token says."""
    text = json.dumps(value, indent=indent, ensure_ascii=escaped)
    file = decode("x", text.encode())
    lines, kept = file.lines, jsontext.SMALL
    trees = []
    try:
        for jsontext.SMALL in (0, kept):
            asides = Asides([])
            root = jsontext.parse(file, asides)
            trees.append((whole(root), sorted(asides.entries)))
    finally:
        jsontext.SMALL = kept
    assert trees[0] == trees[1]
    for node in root.walk():
        for word in node.words:
            said = lines[word.line - 1][word.start : word.stop]
            assert (json.loads(said) if word.quoted else said) == word.text


def whole(node: Node) -> Dump:
    words = [(w.text, w.line, w.start, w.stop, w.quoted) for w in node.words]
    return (
        node.name,
        node.first,
        node.last,
        node.closing,
        node.start,
        node.stop,
        words,
        [whole(c) for c in node.children],
    )


TREE = read(
    TextStructure(block=Block("{", "}"), pairs="=", quotes=("'",)),
    "a { b one two { c x }\n b three\n d e=1 e=2 }\nlist { a { c y } }\n'odd/name' 1\n",
)


@pytest.mark.parametrize(
    ("path", "found"),
    [
        ("a/b", ["one two", "three"]), ("a/*", ["one two", "three", ""]), ("**/c", ["x", "y"]), ("a/b@1", ["one", "three"]),
        ("a/b@2-", ["two", ""]), ("a/b@0", ["b", "b"]), ("a/b[c]", ["one two"]), ("a/b[!c]", ["three"]), ("a/b[c=x]/..@0", ["a"]),
        ("a/b[@1=three]", ["three"]), ("a/b[c!=x]", ["three"]), ("a/d/e", ["1", "2"]), ("a/d[e=2]/.@0", ["d"]), ("/list/a/c", ["y"]),
        ("a/**", ["one two", "x", "three", "", "1", "2"]), ("'odd/name'", ["1"]), ("a/none", []), ("^/a", []),
    ],
)  # fmt: skip
def test_paths(path: str, found: list[str]) -> None:
    parsed = read_path(path)
    assert [" ".join(w.text for w in parsed.chosen(node)) for node in parsed.nodes(TREE)] == found


@pytest.mark.parametrize(
    ("path", "why"),
    [
        ("", "empty"), ("a//b", "no name"), ("a/", "ends in a slash"), ("a[b", "not closed"), ("a[b=c", "not closed"),
        ("a]", "cannot follow"), ("a@x", "number of a word"), ("'a", "quote"), ("a[!b=c]", "[a!=b]"), ("a[]", "names nothing"),
        ("net[", "names nothing"),
    ],
)  # fmt: skip
def test_wrong_paths_are_explained(path: str, why: str) -> None:
    with pytest.raises(UsageError, match="is no path") as caught:
        read_path(path)
    assert why in str(caught.value)
