"""Shell scripts of ``nft`` commands (nft(8)): the words of each, and what a script hands to ``nft -f -``."""

from __future__ import annotations

import re
from collections.abc import Sequence

from aiguille.model import Span
from aiguille.readers.files import ExportFile, LedgerBuilder
from aiguille.readers.nftables.json_form import Item
from aiguille.readers.nftables.text_form import Commands
from aiguille.readers.shell import ShellScript, words_of

_LINE = re.compile(
    r"(?m)^[ \t]*(?:sudo[ \t]+)?(?:/\S*/)?nft[ \t]+(?:-\w+[ \t]+)*"
    r"(?:['\"]?(?:add|create|insert|flush|delete)[ \t]|-f[ \t]*(?:-|/dev/stdin)[ \t]*<<)"
)
_BY_VARIABLE = re.compile(
    r"(?m)^[ \t]*\"?\$\{?(\w+)\}?\"?[ \t]+(?:-\w+[ \t]+)*['\"]?(?:add|create|insert|flush|delete)[ \t]"
)
_ASKING = frozenset(["list", "monitor", "describe", "-c", "--check", "-v", "--version"])


def recognise(file: ExportFile) -> str | None:
    """Why a file looks like a script of ``nft`` commands; None if it does not."""
    text = "\n".join(file.lines[:400])
    if "nft" not in text:
        return None
    found = _LINE.search(text) or next(
        (one for one in _BY_VARIABLE.finditer(text) if re.search(rf"(?m)^\s*{one[1]}=.*\bnft\b", text)), None
    )
    return f"line {text.count(chr(10), 0, found.start()) + 1} is a command of nft" if found else None


def items(file: ExportFile, ledger: LedgerBuilder) -> list[Item]:
    """The objects that a script leaves behind, in order. Raises UnreadableError where it is cut off."""
    script = _Script(file, ledger)
    script.run()
    return script.commands.out


class _Script(ShellScript):
    program = re.compile(r"(?:\S*/)?(nft)")

    def __init__(self, file: ExportFile, ledger: LedgerBuilder) -> None:
        super().__init__(file, ledger)
        self.commands = Commands(file, ledger, each=True)

    def command(self, program: str, text: str, where: Span, gaps: tuple[str, ...]) -> None:
        words = words_of(text, where)
        while words and words[0] in ("-a", "-n", "-s", "-e", "-nn"):
            words.pop(0)
        if not words or words[0] in _ASKING:
            self.ledger.set_aside(where, "a command that changes no rule")
        elif words[0].startswith("-"):
            self._doubtful(where, "the file that nft loads here is not in the script", text)
        else:
            self.commands.run([(where.first, " ".join(words))], gaps)

    def handed(self, text: str, lines: Sequence[tuple[int, str]], gaps: tuple[str, ...]) -> bool:
        if not re.search(r"\s-f\s*(?:-|/dev/stdin)\s*<<", text):
            return False
        self.commands.run(lines, gaps)
        return True

    def unfollowed(self, where: Span, text: str, why: str) -> None:
        self.commands.anything(where, why)
