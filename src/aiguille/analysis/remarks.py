"""What people say of a rule in its name, its remark or the words of its records that its conditions do not."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from aiguille.analysis.program import Kind, Program, Programs, Step
from aiguille.model import Direction, Log, ManagementService, Match, Numbers, ServiceTerm
from aiguille.space import Axis
from aiguille.space.fields import TCP

_WHO = r"(?:admin(?:istrat\w+)?|management|mgmt)"
_WHAT = r"(?:pages?|gui|ui|interface|console|panel|portal|login)"
_OF_IT = r"(?:(?:web|https?|device|firewall|router|remote)\s+)*"
_PAGE = re.compile(
    rf"\b{_WHO}\s+{_OF_IT}{_WHAT}\b|\b{_WHO}\s+web\s*$|\b{_WHAT}\s+(?:for|of|to)\s+(?:the\s+)?{_OF_IT}{_WHO}\b"
    r"|\bremote\s+(?:management|admin(?:istration)?)\b"
    r"|(?<!by )(?<!from )\bweb\s?admin\b|\bweb(?:ui|gui)\b|\badmin(?:page|gui|ui|console|panel)\b",
    re.IGNORECASE,
)
"""Words for the page a device is managed by."""

_FEW = 8
"""Ports of a rule that a remark may speak of."""

_PLAIN = (80, 8080)
"""Ports of pages without encryption (IANA: http, http-alt)."""


def said_to_manage(programs: Programs, known: Sequence[ManagementService]) -> Iterator[ManagementService]:
    """The pages that rules for the device itself say it is managed by, where no service known already has the port.

    On a general host a web server is what the host is there for, unless somebody says otherwise.
    """
    taken = {
        port
        for one in known
        for term in one.terms
        for ports in term.destination_ports
        for port in range(ports.first, min(ports.last, ports.first + _FEW) + 1)
    }
    device = programs.device
    waiting = {one.port for one in device.listeners if one.protocol == TCP} if TCP in device.listed else None
    for program in programs.all(Direction.TO_DEVICE):
        recorded = _recorded_as_page(program)
        for step in program.steps:
            rule = step.rule
            if rule is None or step.kind is not Kind.ACCEPT:
                continue
            if not _says_page((rule.name, rule.comment)) and rule.match not in recorded:
                continue
            for port in sorted(_ports(step) - taken):
                if waiting is None or port in waiting:
                    taken.add(port)
                    term = ServiceTerm(Numbers(TCP, TCP), (), (Numbers(port, port),))
                    plain = port in _PLAIN
                    yield ManagementService("http" if plain else "web administration", (term,), plain, rule.where)


def _says_page(texts: Iterable[str]) -> bool:
    return any(_PAGE.search(re.sub("[_-]", " ", text)) for text in texts if text)


def _recorded_as_page(program: Program) -> list[Match]:
    """What rules match that record it under words for such a page; the rule that lets it in often stands beside them."""
    rules = {id(step.rule): step.rule for step in program.steps if step.rule is not None and step.rule.effects}
    return [r.match for r in rules.values() if _says_page(e.prefix for e in r.effects if isinstance(e, Log))]


def _ports(step: Step) -> set[int]:
    """The few TCP ports a step speaks of."""
    out: set[int] = set()
    for piece in step.pieces:
        protocol, ports = piece.box[Axis.PROTO], piece.box[Axis.B]
        if protocol is not None and TCP in protocol and ports is not None and ports.size <= _FEW:
            out |= {port for first, last in ports.spans for port in range(first, last + 1)}
    return out
