"""The dialect file of a sample, written with comments that say what was guessed and what is left to do."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import PurePath

from msgspec import Struct

from aiguille.readers.files import ExportFile
from aiguille.readers.mapped.describing import family_of
from aiguille.readers.mapped.loading import load
from aiguille.readers.mapped.spec import (
    Dialect,
    IniStructure,
    JsonStructure,
    SheetStructure,
    Structure,
    TextStructure,
    XmlStructure,
    YamlStructure,
)
from aiguille.readers.mapped.starting import hints
from aiguille.readers.mapped.starting.content import groups
from aiguille.readers.mapped.starting.family import guess
from aiguille.readers.mapped.starting.mapping import Guesses, verdicts
from aiguille.readers.mapped.starting.notation import Mapped, quote
from aiguille.readers.mapped.trial import Coverage, try_out

_DIRECTIONS = {
    "to-device": ("input", "inward", "inbound", "in", "local", "to device"),
    "from-device": ("output", "outward", "outbound", "out", "from device"),
}


class Start(Struct, frozen=True):
    """A dialect file to go on from: its text, and how much of the sample it reads as it stands.

    left_open: how many words of the sample became conditions that are not computed, since nothing shows what they mean
    """

    text: str
    dialect: Dialect
    coverage: Coverage
    left_open: int = 0

    def described(self) -> str:
        """What it reads of the sample, in a sentence."""
        c = self.coverage
        doubt = f", {c.doubtful} in part" if c.doubtful else ""
        odd = f", {len(c.problems)} contradictions (names that nothing defines?)" if c.problems else ""
        settled = c.words_settled - self.left_open
        share = f" ({100 * settled // c.words} %)" if c.words else ""
        may = f", {c.uncertain} of them only may match" if c.uncertain else ""
        rules = (
            f"{c.rules} rules found{may}{doubt}{odd}, {c.rule_lines_read} of {c.rule_lines} lines of rules read"
            if self.dialect.rulebases
            else "no statements look like rules (a verdict with addresses, services or zones), so these are left to describe"
        )
        return (
            f"{c.path}: read as {family_of(self.dialect.structure)}; {rules}; {settled} of {c.words} words settled{share}, "
            f"{c.unread_lines} of all {c.lines} lines not yet read; check every guess"
        )


def start(file: ExportFile) -> Start:
    """Write a first dialect file for the make of a sample, with as much as can be guessed; raises UnreadableError where no structure
    fits."""
    guessed = guess(file)
    guesses = Guesses(groups(guessed.tree.root, guessed.sentences))
    text = "\n".join(_lines(file, guessed.structure, guesses)) + "\n"
    dialect = load(f"{file.path}.dialect.yaml", text)
    left_open = sum(
        len(one.group.fields[path].values)
        for one in guesses.rules
        for _, path in one.qualifiers
        if path in one.group.fields
    )
    return Start(text, dialect, try_out(dialect, [file]).samples[0], left_open)


def _lines(file: ExportFile, structure: Structure, guesses: Guesses) -> Iterator[str]:
    name = re.sub(r"[^a-z0-9]+", "-", PurePath(file.path.partition("[")[0]).stem.lower()).strip("-")
    known, unknown = verdicts(guesses.rules)
    yield f"# Guessed from {PurePath(file.path).name}. Check every line: what is wrong here makes wrong answers."
    yield "# `aiguille dialect check` runs it; docs/dialects.md explains every key."
    yield f"dialect: {name if name[:1].isalpha() else 'make-' + name}"
    yield f"make: {name} (name the make)"
    yield "language: 1"
    yield ""
    yield "# What distinguishes an export of this make from all others?"
    yield "recognise:"
    yield f"  {_recognise(file, structure, guesses)}"
    yield ""
    yield "structure:"
    yield from (f"  {line}" for line in _structure(structure))
    yield ""
    tables = list(_tables(guesses))
    if guesses.rules or tables:
        yield "words:"
    if guesses.rules:
        yield f"  verdict: {{{', '.join(f'{quote(word)}: {action}' for word, action in known.items())}}}"
    for word in unknown:
        yield f"  # what does '{word}' do? add it to the table above"
    yield from tables
    yield from _device(guesses)
    yield from _rules(guesses)
    if guesses.secrets:
        yield ""
        yield "# Never shown, wherever a line is quoted."
        yield f"secrets: [{', '.join(quote(path) for path in guesses.secrets)}]"
    yield ""
    yield "# Statements that no check needs, with the reason:"
    if guesses.secrets:
        yield "ignore:"
        yield from (f"  - {{at: {quote(path)}, why: looks secret}}" for path in guesses.secrets)
    else:
        yield "# ignore:"
        yield "#   - {at: some/path, why: what it is}"


def _recognise(file: ExportFile, structure: Structure, guesses: Guesses) -> str:
    if isinstance(structure, SheetStructure) and guesses.rules:
        table = guesses.rules[0].group.path.partition("/")[0].strip("'")
        columns = list(structure.tables[table].columns)
        return f"columns: [{', '.join(quote(column) for column in columns[:4])}]"
    for line in file.lines[:20]:
        bare = line.strip()
        if isinstance(structure, JsonStructure) and (found := re.search(r'"[^"]+"\s*:', bare)):
            return f"first-lines: '{_pattern(found[0])}'"
        if len(bare) > 3 and not bare.startswith("<?"):
            if isinstance(structure, XmlStructure) and (found := re.match(r"<[\w:-]+", bare)):
                return f"first-lines: '{_pattern(found[0])}'"
            head = re.split(r"[0-9,]", bare, maxsplit=1)[0][:60].rstrip()
            return f"first-lines: '^{_pattern(head or bare[:20])}'"
    return "first-lines: '.'"


def _pattern(text: str) -> str:
    return re.sub(r"([\\.+*?()|\[\]{}^$])", r"\\\1", text).replace("'", "''")


def _structure(structure: Structure) -> Iterator[str]:
    match structure:
        case JsonStructure():
            yield "family: json"
        case YamlStructure():
            yield "family: yaml"
        case XmlStructure():
            yield "family: xml"
        case IniStructure():
            yield "family: ini"
        case SheetStructure():
            yield "family: sheet"
            yield "tables:"
            for name, table in structure.tables.items():
                yield f"  {quote(name)}:"
                yield f"    columns: {{{', '.join(f'{quote(column)}: []' for column in table.columns)}}}"
        case TextStructure():
            yield "family: text"
            yield from _text(structure)


def _text(s: TextStructure) -> Iterator[str]:
    yield f"comments: {_listed(s.comments)}"
    yield f"quotes: {_listed(s.quotes)}"
    for key, sign in (
        ("continuation", s.continuation), ("continues", s.continues), ("separator", s.separator), ("pairs", s.pairs),
    ):  # fmt: skip
        if sign:
            yield f"{key}: {_marked(sign)}"
    for key, block in (("block", s.block), ("list", s.list), ("raw", s.raw)):
        if block is not None:
            yield f"{key}: {{opens: {_marked(block.opens)}, closes: {_marked(block.closes)}}}"
    if s.indentation:
        yield "indentation: true"
    if s.headings is not None:
        yield f"headings: {{pattern: '{s.headings.pattern}'}}"
    if s.numbered:
        yield f"numbered: {s.numbered}"
    if s.sentences:
        yield "# Words that say what the next ones are; a word that is none here counts as a value."
        yield "sentences:"
        for said in s.sentences:
            yield f"  - of: {_listed(said.of)}"
            if said.fillers:
                yield f"    fillers: {_listed(said.fillers)}"
            if said.keywords:
                yield "    keywords:"
            for name, keyword in said.keywords.items():
                spelled = f"said: {_listed(keyword.said)}, " if keyword.said else ""
                yield f"      {quote(name)}: {{{spelled}takes: {keyword.takes}}}"
    if s.phrases:
        yield "phrases:"
        for one in s.phrases:
            yield f"  - {{opens: {_listed(one.opens)}, closes: {_listed(one.closes)}}}"


def _marked(sign: str) -> str:
    return '"' + sign.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _listed(words: Sequence[str]) -> str:
    return "[" + ", ".join(_marked(word) for word in words) + "]"


def _tables(guesses: Guesses) -> Iterator[str]:
    """Word tables for switches and states, of the words that came."""
    described = [text for one in guesses.rules for text in one.keys.values()]
    values = {
        value
        for one in guesses.rules
        for place in one.group.fields.values()
        for raw in place.values
        for value in raw.split(",")
    }
    flags = {value: hints.FLAGS[value.lower()] for value in sorted(values) if value.lower() in hints.FLAGS}
    if any("yes-or-no" in text for text in described):
        yield f"  yes-or-no: {{{', '.join(f'{_marked(w)}: {str(yes).lower()}' for w, yes in flags.items())}}}"
    if any("no-or-yes" in text for text in described):
        yield f"  no-or-yes: {{{', '.join(f'{_marked(w)}: {str(not yes).lower()}' for w, yes in flags.items())}}}"
    said = {
        f.values[0]: "true" if f.means(hints.LOGS) else "false"
        for one in guesses.rules
        for f in one.group.fields.values()
        if f.is_flag and any("words: said" in text and f"from: {quote(f.path)}," in text for text in one.keys.values())
    }
    if said:
        yield f"  said: {{{', '.join(f'{_marked(word)}: {means}' for word, means in said.items())}}}"
    if any("words: states" in text for text in described):
        states = {value: hints.STATES[value.lower()] for value in sorted(values) if value.lower() in hints.STATES}
        yield f"  states: {{{', '.join(f'{quote(w)}: {state}' for w, state in states.items())}}}"


def _device(guesses: Guesses) -> Iterator[str]:
    for key, several in (
        ("interfaces", guesses.interfaces), ("zones", guesses.zones), ("addresses", guesses.addresses), ("services", guesses.services),
    ):  # fmt: skip
        complete = [one for one in several if "name" in one.keys and (key != "addresses" or "members" in one.keys)]
        if not complete:
            continue
        yield ""
        if key == "zones":
            yield "# Which side is each on? A `side` with a word table says so; without it the auditor must."
        yield f"{key}:"
        for one in complete:
            kind = ", kind: group" if key == "addresses" else ""
            fields = ", ".join(f"{name}: {described}" for name, described in one.keys.items())
            yield f"  - {{at: {quote(one.group.path)}, {fields}{kind}}}"


def _rules(guesses: Guesses) -> Iterator[str]:
    chained = [one for one in guesses.rules if "chain" in one.keys]
    plain = [one for one in guesses.rules if "chain" not in one.keys]
    yield ""
    if not guesses.rules:
        yield "# No statements were found that look like rules (a verdict with addresses, services or zones). Where are they?"
        yield "# rulebases:"
        yield "#   - {name: rules, direction: through-device, at: some/path, rule: {action: {from: some-place, words: verdict}},"
        yield "#      unmatched: {action: {is: unknown}}}"
        return
    yield "# What happens where no rule matches? `unknown` until somebody has found out."
    yield "rulebases:"
    if plain:
        yield "  - name: rules"
        yield "    direction: through-device"
        yield "    lists:"
        for one in plain:
            yield from (f"      {line}" for line in _list(one))
        yield "    unmatched: {action: {is: unknown}}"
    for one in chained:
        yield f"  - name: {quote(one.group.path)}"
        yield "    lists:"
        yield from (f"      {line}" for line in _list(one))
        yield "    # Chains at which packets begin; check the direction of each."
        yield "    chains:"
        for name in _bases(one):
            yield f"      - {{name: {quote(name)}, direction: {_direction(name)}, unmatched: {{action: {{is: unknown}}}}}}"


def _list(one: Mapped) -> Iterator[str]:
    yield f"- at: {quote(one.group.path)}"
    if "order" in one.keys:
        yield f"  order: {one.keys['order']}"
    yield "  rule:"
    for key, described in one.keys.items():
        if described and key != "order":
            yield f"    {key}: {described}"
    if one.qualifiers:
        yield "    # Not understood yet; until they are mapped, rules that have one count as ones that may match."
        yield "    qualifiers:"
        for name, path in one.qualifiers:
            yield f"      - {{name: {_marked(name)}, from: {_marked(path)}}}"


def _bases(one: Mapped) -> list[str]:
    """The chains that no jump leads to."""
    fields = one.group.fields
    path = one.keys["chain"].strip('"')
    targets = set(fields[one.keys["target"].strip('"')].values) if one.keys.get("target") else set()
    return [name for name in dict.fromkeys(fields[path].values) if name not in targets]


def _direction(chain: str) -> str:
    return next((way for way, words in _DIRECTIONS.items() if chain.lower() in words), "through-device")
