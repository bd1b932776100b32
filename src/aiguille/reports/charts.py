"""What figures show, as numbers: findings by area and device, the busiest rules, the ways in a country has."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec import Struct

from aiguille.analysis.outlines import outlines
from aiguille.baseline import Severity
from aiguille.model.countries import country_name
from aiguille.reports.data import Data
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import counted

ROWS, BARS, COUNTRIES = 30, 25, 24
"""Devices, rules and countries that are shown at most."""


class Stack(Struct, frozen=True):
    """How many findings there are of a kind, by severity, the gravest first; severities without one are left out."""

    name: str
    counts: dict[Severity, int]

    @property
    def total(self) -> int:
        return sum(self.counts.values())


class Stacks(Struct, frozen=True):
    """Rows to be compared with one another."""

    title: str
    rows: tuple[Stack, ...]

    @property
    def top(self) -> int:
        """The greatest total, at least 1."""
        return max([1, *(row.total for row in self.rows)])


def findings(dossier: Dossier) -> tuple[Stacks, ...]:
    """Findings by area and by device; nothing where there are none."""
    if not dossier.audit.findings:
        return ()
    by_area = Counter((one.area, one.severity) for one in dossier.audit.findings)
    by_device: Counter[tuple[str, Severity]] = Counter()
    for (device, _, severity), count in dossier.counts.items():
        by_device[device, severity] += count
    names = [device.name for device in outlines(dossier.audit.estate)]
    title = "by device"
    if len(names) > ROWS:
        order = sorted(names, key=lambda name: [-by_device[name, severity] for severity in Severity])
        names = order[:ROWS]
        title = f"by device, the {ROWS} worst of {len(order)}"
    return (
        Stacks("by area", tuple(_stack(area.value, by_area) for area in dossier.areas)),
        Stacks(title, tuple(_stack(name, by_device) for name in names)),
    )


def _stack(name: str, counts: Counter[tuple[str, Severity]]) -> Stack:
    return Stack(name, {severity: counts[name, severity] for severity in Severity if counts[name, severity]})


class Busy(Struct, frozen=True):
    """A rule with its share of all hits, and what it and those before it have together; both in percent."""

    device: str
    rule: str
    hits: int
    share: float
    sum: float


def busiest(counters: Sequence[Data]) -> tuple[Busy, ...]:
    """The busiest of rules that stand in this order; nothing where none was hit.

    counters: as `counted_rules` gives them
    """
    total = sum(one["hits"] for one in counters)
    out: list[Busy] = []
    for one in counters[:BARS] if total else ():
        share = 100 * one["hits"] / total
        before = out[-1].sum if out else 0
        out.append(Busy(one["device"], f"{one['chain']} {one['rule']}", one["hits"], share, before + share))
    return tuple(out)


def counted_rules(dossier: Dossier) -> list[Data]:
    """The rules of the estate that have a counter, the busiest first."""
    rules = [one for rules in dossier.rules.values() for one in rules if one["hits"] is not None]
    return sorted(rules, key=lambda one: -one["hits"])


def usage_sentence(counters: Sequence[Data]) -> str:
    """How few rules take most of the hits, and how many take none."""
    total = sum(one["hits"] for one in counters)
    running, needed = 0, 0
    for one in counters:
        if running >= 0.8 * total:
            break
        running += one["hits"]
        needed += 1
    never = sum(not one["hits"] for one in counters)
    takes = "takes" if needed == 1 else "take"
    return (
        f"{needed} of {counted(len(counters), 'rule')} with a counter {takes} 80 % of the hits; {never} were never hit"
    )


class Ways(Struct, frozen=True):
    """How many ways in from the outside countries have, a row of counts for each device.

    most: the name of the country that has most; left: countries that are not shown
    """

    codes: tuple[str, ...]
    rows: tuple[tuple[str, tuple[int, ...]], ...]
    most: str
    left: int

    @property
    def top(self) -> int:
        return max(count for _, counts in self.rows for count in counts)


def ways_in(dossier: Dossier) -> Ways | None:
    """The countries and devices with most ways in; None where no country has any."""
    ways: dict[str, Counter[str]] = {}
    for one in dossier.reach:
        ways.setdefault(one.device, Counter()).update({country.code for country in one.countries})
    ways = {name: count for name, count in ways.items() if count}
    if not ways:
        return None
    reached: Counter[str] = Counter()
    for count in ways.values():
        reached.update(count)
    codes = sorted(code for code, _ in sorted(reached.items(), key=lambda item: (-item[1], item[0]))[:COUNTRIES])
    names = sorted(ways, key=lambda name: -sum(ways[name].values())) if len(ways) > ROWS else list(ways)
    most = min(reached, key=lambda code: (-reached[code], code))
    rows = tuple((name, tuple(ways[name][code] for code in codes)) for name in names[:ROWS])
    return Ways(tuple(codes), rows, country_name(most), len(reached) - len(codes))
