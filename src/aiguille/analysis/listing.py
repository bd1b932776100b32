"""Choosing and ordering the rules of a listing."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Iterator, Sequence, Set
from functools import partial

from msgspec import Struct

from aiguille.analysis.breadth import breadth
from aiguille.analysis.objects import holders, names_in
from aiguille.analysis.program import Programs, families
from aiguille.analysis.standing import Standing, StandingReport, hidden_rules, standings
from aiguille.model import Device, InterfaceName, NameKind, NotUnderstoodError, UsageError
from aiguille.model.protocols import PORTS
from aiguille.packets.sentences import read_sentence
from aiguille.space import Axis, Box, IntervalSet


class Touching(Struct, frozen=True):
    """An address of one family, or None, and a destination port, or None."""

    family: int | None
    address: int | None
    port: int | None


class Naming(Struct, frozen=True):
    """A name: of an object, a group, a service, a zone or an interface."""

    name: str


class Selection(Struct, frozen=True):
    """Which rules to list; empty means all.

    named: rulebase, chain and number of those to choose among; None for all
    hidden: only those that no packet reaches, or of which that cannot be told
    order: "export"; "hits", most first; or "openness": accepting rules that anything new gets through, the widest first, then others
    """

    standings: Sequence[str] = ()
    chains: Sequence[str] = ()
    actions: Sequence[str] = ()
    touching: Touching | Naming | None = None
    named: Set[tuple[str, str, int | str]] | None = None
    hidden: bool = False
    order: str = "export"

    @property
    def of_hidden(self) -> bool:
        """Whether the standing of rules that some packet reaches makes no difference."""
        return self.hidden or (bool(self.standings) and {*self.standings} <= _WITHOUT_PACKETS)


_WITHOUT_PACKETS = {Standing.OFF.value, Standing.IMPOSSIBLE.value, Standing.SHADOWED.value}
"""Standings of nothing but rules that no packet reaches; a redundant one may be reached."""


def listing(programs: Programs, wanted: Selection, jobs: int = 1) -> list[StandingReport]:
    """The rules of a device that are wanted, judged as far as that asks for. jobs: see `standings`"""
    return select(programs, (hidden_rules if wanted.of_hidden else standings)(programs, jobs), wanted)


def touching_in(devices: Sequence[Device], text: str) -> Touching | Naming:
    """What ``--touching`` asks for: a name of one of the devices, else an address or port; see `read_touching`.

    Raises UsageError, with the nearest names, for what is neither.
    """
    names = [name for device in devices for name in _names_of(device)]
    if text in names:
        return Naming(text)
    try:
        return read_touching(text)
    except UsageError:
        near = difflib.get_close_matches(text, names, n=3)
        if not near:
            raise
        raise UsageError(
            f"'{text}' is neither an address or port nor a name that is known; there is {', '.join(dict.fromkeys(near))}"
        ) from None


def _names_of(device: Device) -> Iterator[str]:
    for some in (device.addresses, device.services, device.sets, device.zones, device.interfaces):
        yield from (one.name for one in some)
    for rulebase in device.rulebases:
        for _, rule in rulebase.rules():
            for condition in rule.match.conditions:
                yield from (name for _, name in names_in(condition))
                yield from (one.name for one in condition.operands if isinstance(one, InterfaceName) and not one.prefix)


def read_touching(text: str) -> Touching:
    """Read ``10.0.0.5``, ``10.0.0.5/22``, ``/22`` or ``2001:db8::5/443``; raises UsageError."""
    address, _, port = text.partition("/")
    number = None
    if port:
        if port not in PORTS and not (port.isdecimal() and port.isascii() and int(port) <= 65535):
            raise UsageError(f"'{port}' in '{text}' is not a port; write ADDRESS/PORT, ADDRESS or /PORT")
        number = PORTS[port] if port in PORTS else int(port)
    if not address:
        if number is None:
            raise UsageError(f"'{text}' names neither an address nor a port; write ADDRESS/PORT, ADDRESS or /PORT")
        return Touching(None, None, number)
    try:
        sketch = read_sentence(f"from [{address}] entering any")
    except (UsageError, NotUnderstoodError) as error:
        raise UsageError(f"'{address}' in '{text}' is not an address; write ADDRESS/PORT, ADDRESS or /PORT") from error
    if sketch.source is None:
        raise UsageError(f"'{address}' in '{text}' is not an address; write ADDRESS/PORT, ADDRESS or /PORT")
    return Touching(sketch.family, sketch.source[0], number)


def select(programs: Programs, reports: Iterable[StandingReport], wanted: Selection) -> list[StandingReport]:
    """The reports wanted, in the order wanted; ties keep the order of the export."""
    touches = _toucher(programs, wanted.touching)
    out = [
        report
        for report in reports
        if not (wanted.hidden and report.standing is Standing.OFF)
        and (not wanted.standings or report.standing.value in wanted.standings)
        and (not wanted.chains or report.chain.name in wanted.chains)
        and (wanted.named is None or (report.rulebase.name, report.chain.name, report.rule.number) in wanted.named)
        and (not wanted.actions or report.rule.action.value in wanted.actions)
        and (touches is None or touches(report))
    ]
    if wanted.order == "openness":
        out.sort(key=lambda report: _openness(programs, report), reverse=True)
    elif wanted.order == "hits":
        out.sort(key=lambda report: -(report.rule.hits.packets if report.rule.hits else -1))
    return out


def _openness(programs: Programs, report: StandingReport) -> tuple[float, int]:
    """For ordering: how wide a rule is in either family, then how many packets it decides."""
    width = breadth(programs, report.rulebase, report.chain, report.rule).width if report.openness.high else None
    return (-1.0 if width is None else width, report.openness.high)


def _toucher(programs: Programs, wanted: Touching | Naming | None) -> Callable[[StandingReport], bool] | None:
    """Whether a rule touches what is asked for."""
    if wanted is None:
        return None
    if isinstance(wanted, Touching):
        return partial(_touches, programs, touching=wanted)
    found = holders(programs.device, wanted.name)
    found |= {(kind, wanted.name) for kind in (NameKind.ZONE, NameKind.ADDRESS, NameKind.SERVICE, NameKind.SET)}

    def names(report: StandingReport) -> bool:
        return any(
            any(one in found for one in names_in(condition))
            or any(isinstance(one, InterfaceName) and one.name == wanted.name for one in condition.operands)
            for condition in report.rule.match.conditions
        )

    return names


def _touches(programs: Programs, report: StandingReport, touching: Touching) -> bool:
    for family in families(programs.device):
        if family not in report.rulebase.families or touching.family not in (None, family):
            continue
        for piece in programs.resolver(family).rule(report.rule):
            if _box_touches(piece.box, touching):
                return True
    return False


def _box_touches(one: Box, touching: Touching) -> bool:
    def holds(values: IntervalSet | None, value: int) -> bool:
        return values is None or value in values

    if touching.port is not None and not holds(one[Axis.B], touching.port):
        return False
    if touching.address is None:
        return True
    return holds(one[Axis.SRC], touching.address) or holds(one[Axis.DST], touching.address)
