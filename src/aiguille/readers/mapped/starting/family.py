"""Which family a sample belongs to, and for text how its statements are put together."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator, Sequence

import yaml
from msgspec import Struct
from msgspec.structs import replace

from aiguille.model import AiguilleError
from aiguille.readers.files import ExportFile, json_text
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
from aiguille.readers.mapped.starting.sentences import NONE, Found, find_sentences
from aiguille.readers.mapped.structure import parse
from aiguille.readers.mapped.text import NUMBER
from aiguille.readers.mapped.tree import Tree

_PAIR = re.compile(r"(?:^|\s)[\w.-]+([=])(?:\"[^\"]*\"|[^\s=]+)")
_SECTION = re.compile(r"\s*\[[\w .:/-]+\]\s*")
_ASSIGNMENT = re.compile(r"\s*[\w .-]+\s*[=:]\s*\S.*")
_FRAMED = re.compile(r"(?P<mark>[=#*+~-]{2,})\s+(?P<name>\S.*?)\s+(?P=mark)")
_PUNCTUATION = re.compile(r"\s*([^\w\s\"'\[\](){}<>=./-]{1,3})(?=\s|$)")
_CONTINUED = re.compile(r"\s([\\+&_])$")
_BLOCKS = (("{", "}"), ("(", ")"))
_LISTS = (("[", "]"), ("(", ")"), ("{", "}"))
_CONTINUES = ("\\", "+", "&", "_", "...", "…")
"""Signs at the start of a line that go on with the one above rather than begin a comment."""
_RAW = (("<<", ">>"), ("'''", "'''"))
_LOOKED_AT = 5000


class Guess(Struct, frozen=True):
    """The structure that reads a sample best, the tree it gives, and what was seen of its sentences."""

    structure: Structure
    tree: Tree
    sentences: Found = NONE


def guess(file: ExportFile) -> Guess:
    """How a sample is put together. Raises the error of the last attempt if nothing reads it."""
    failure: AiguilleError | None = None
    files = file.sheets or (file,)
    for structure in _candidates(file):
        try:
            tree = parse(files, structure)
        except AiguilleError as error:
            failure = error
            continue
        if not isinstance(structure, TextStructure):
            return Guess(structure, tree)
        found = find_sentences(tree.root, structure)
        if not found.sentences:
            return Guess(structure, tree)
        sorted_ = replace(structure, sentences=found.sentences)
        return Guess(sorted_, parse(files, sorted_), found)
    if failure is None:
        raise AssertionError("text is always among the candidates")
    raise failure


def _candidates(file: ExportFile) -> Iterator[Structure]:
    """Structures that may fit, the most decisive first; plain lines last."""
    lines = [line for line in file.lines[:_LOOKED_AT] if line.strip()]
    first = lines[0].lstrip() if lines else ""
    if file.sheets:
        yield _sheet(file)
        return
    if first[:1] in "{[" and _is_json(file):
        yield JsonStructure()
    if first.startswith("<"):
        yield XmlStructure()
    if _looks_like_sheet(lines):
        yield _sheet(file)
    sections = sum(bool(_SECTION.fullmatch(line)) for line in lines)
    if sections > 1 and all(
        _SECTION.fullmatch(line) or _ASSIGNMENT.fullmatch(line) or line.lstrip()[:1] in "#;" or line[0].isspace()
        for line in lines
    ):
        yield IniStructure()
    if _is_yaml(file):
        yield YamlStructure()
    text = _text(lines)
    yield text
    yield TextStructure(comments=text.comments, indentation=True)
    yield TextStructure(quotes=())


def _is_json(file: ExportFile) -> bool:
    try:
        json.loads(json_text(file))
    except (ValueError, RecursionError):
        return False
    return True


def _is_yaml(file: ExportFile) -> bool:
    """Whether a sample is YAML with levels; any line with a colon is YAML of a sort."""
    try:
        node = yaml.compose("\n".join(file.lines) + "\n", Loader=yaml.CSafeLoader)
    except yaml.YAMLError:
        return False
    return isinstance(node, yaml.MappingNode) and any(
        isinstance(below, yaml.MappingNode | yaml.SequenceNode) for _, below in node.value
    )


def _looks_like_sheet(lines: Sequence[str]) -> bool:
    """Whether nearly all lines are cells by one separator, and several have the same three or more."""
    described = [line for line in lines if not line.startswith("#")]
    if any(line.rstrip().endswith(("{", "}", ";")) for line in described):
        return False
    for sign in ",;\t|":
        counts = Counter(line.count(sign) for line in described)
        if counts[0] * 10 <= len(described) and any(number >= 2 and times > 1 for number, times in counts.items()):
            return True
    return False


def _sheet(file: ExportFile) -> SheetStructure:
    """Tables by their own headings: a heading row is the first after a row with one cell, or of a sheet."""
    tables: dict[str, Table] = {}
    for one in file.sheets or (file,):
        separator = max(",;\t|", key=lambda sign: sum(line.count(sign) for line in one.lines))
        name, waiting = one.table.lower() or "rules", True
        for line in one.lines:
            cells = [cell.strip() for cell in line.split(separator)]
            filled = [cell for cell in cells if cell]
            if not filled or filled[0].startswith("#"):
                continue
            if (len(filled) == 1 and len(cells) == 2 and waiting is False) or (len(filled) == 1 and not tables):
                name, waiting = filled[0].lower(), True
            elif waiting:
                tables.setdefault(name, Table(columns={cell.lower(): () for cell in filled}))
                waiting = False
    return SheetStructure(tables)


def _text(lines: Sequence[str]) -> TextStructure:
    comments = _comments(lines)
    described = [line for line in lines if not line.lstrip().startswith(comments or ("\0",))]
    framed = [m for line in described if (m := _FRAMED.fullmatch(line.strip()))]
    heading = framed[0] if len(framed) > 1 else None
    if len(framed) == 1:
        # One alone is a title.
        comments = (*comments, framed[0]["mark"])
    block = next(
        (Block(*pair) for pair in _BLOCKS if sum(line.rstrip().endswith(pair[0]) for line in described) > 1), None
    )
    listed = None
    for pair in _LISTS:
        opens, closes = map(re.escape, pair)
        listed_ = re.compile(rf"\s{opens}[^{opens}{closes}]*{closes}(?=[\s,;.]|$)")
        inside = sum(f" {pair[0]} " in f"{line} " for line in described)
        inside = max(inside, 2 * any(listed_.search(line) for line in described))
        if inside > 1 and (block is None or block.opens != pair[0]):
            listed = Block(*pair)
            break
    pairs = sum(bool(_PAIR.search(line)) for line in described)
    ends = Counter(m[1] for line in described if (m := _CONTINUED.search(line)))
    phrases = _phrases(described) if block is None else ()
    indented = sum(line[0].isspace() for line in described)
    continuation = ends.most_common(1)[0][0] if ends else ""
    continues = next((sign for sign in _CONTINUES if any(_goes_on(line, sign) for line in described)), "")
    raw = next(
        (
            Block(*pair)
            for pair in _RAW
            if any(f" {pair[0]} " in f"{line} " for line in described)
            and any(line.strip() == pair[1] for line in described)
        ),
        None,
    )
    firsts = [line.split()[0] for line in described if not line[0].isspace()]
    numbers = sum(bool(NUMBER.fullmatch(word)) for word in firsts)
    return TextStructure(
        numbered="rule" if numbers > 1 and numbers * 4 >= len(firsts) and "rule" not in firsts else "",
        comments=comments,
        quotes=tuple(q for q in "\"'" if any(line.count(q) >= 2 for line in described)),
        continuation=continuation,
        continues=continues,
        separator=_separator(described, block),
        block=block,
        list=listed,
        indentation=block is None and not phrases and not continues and indented * 5 >= len(described),
        phrases=phrases,
        headings=Heading(f"^{re.escape(heading['mark'])} (.+) {re.escape(heading['mark'])}$") if heading else None,
        pairs="=" if pairs * 4 >= len(described) else "",
        raw=raw,
    )


def _comments(lines: Sequence[str]) -> tuple[str, ...]:
    """Signs that stand alone at the beginning of lines, and do not frame them."""
    found: Counter[str] = Counter()
    for line in lines:
        mark = _PUNCTUATION.match(line)
        if mark and mark[1] in _CONTINUES:
            continue
        if mark and not _FRAMED.fullmatch(line.strip()):
            found[mark[1]] += 1
        elif line.lstrip().startswith(("#", "//", "!")):
            found[re.match(r"#+|//|!", line.lstrip())[0]] += 1  # type: ignore[index]
    return tuple(mark for mark, _ in found.most_common(2))


def _goes_on(line: str, sign: str) -> bool:
    """Whether a line begins with a sign that goes on with the one above."""
    bare = line.lstrip()
    return bare.startswith(f"{sign} ") and len(bare) > len(sign) + 1


def _separator(lines: Sequence[str], block: Block | None) -> str:
    if block is None:
        return ""
    found = ""
    for sign in ";,":
        inside = [line for line in lines if f"{sign} " in line or line.rstrip().endswith(sign)]
        if inside and any(block.opens in line or line.rstrip().endswith(sign) for line in inside):
            found += sign
    return found


def _phrases(lines: Sequence[str]) -> tuple[Phrase, ...]:
    """Words that end what an earlier line at the same depth began, with what stands between set in deeper."""
    opens: Counter[tuple[str, str]] = Counter()
    for at, line in enumerate(lines):
        word = line.strip()
        if " " in word or not word.isalpha():
            continue
        indent = len(line) - len(line.lstrip())
        for before in range(at - 1, -1, -1):
            other = lines[before]
            depth = len(other) - len(other.lstrip())
            if depth <= indent:
                if depth == indent and before < at - 1 and other.split()[0] != word:
                    opens[other.split()[0], word] += 1
                break
    ends = Counter(end for (_, end), _ in opens.items())
    wanted = {end for end, _ in ends.items() if sum(n for (_, e), n in opens.items() if e == end) > 1}
    return tuple(Phrase(tuple(sorted({o for o, e in opens if e == end})), (end,)) for end in sorted(wanted))
