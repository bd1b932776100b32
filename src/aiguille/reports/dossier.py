"""An audit with what the fuller reports show beside it: every rule's standing, and which countries reach what."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct

from aiguille.analysis.program import Programs
from aiguille.analysis.sharing import share
from aiguille.analysis.standing import StandingReport, standings
from aiguille.baseline import Area, Audit, CheckOutcome, Chosen, Outcome, Severity
from aiguille.baseline.reaching import Reach, reach_of
from aiguille.model import Device
from aiguille.reports.data import Data

_MANY = 2000
"""Rules of an estate from which on several processes describe them."""


class Dossier(Struct, frozen=True, dict=True):
    """What reports are made of. What only some of them show is computed when the first of them asks, once.

    jobs: processes to share the devices among
    """

    audit: Audit
    jobs: int = 1

    @property
    def devices(self) -> Sequence[Device]:
        return self.audit.estate.devices

    @cached_property
    def rules(self) -> dict[str, list[Data]]:
        """Every rule of each device as `schemas/rules.schema.json` has it, in the order of the export."""
        devices = self.devices
        size = sum(1 for device in devices for base in device.rulebases for _ in base.rules())
        jobs = self.jobs if size > _MANY else 1  # describing fewer takes no longer than starting others to do it
        chunk = max(1, min(16, len(devices) // (4 * max(jobs, 1))))
        helpers = jobs if len(devices) == 1 else 1
        results = self.audit.results

        def described(number: int) -> list[Data]:
            held = results.get(devices[number].name)
            return _rules(devices[number], helpers, held.standings if held is not None else None)

        rows = share(described, range(len(devices)), jobs, chunk)
        return {device.name: mine for device, mine in zip(devices, rows, strict=True)}

    @cached_property
    def reach(self) -> tuple[Reach, ...]:
        """Every way in from the outside with its countries; empty without location data."""
        known = {name: held.reaches for name, held in self.audit.results.items()}
        return reach_of(self.audit.estate, known) if self.audit.estate.locations else ()

    @cached_property
    def counts(self) -> Counter[tuple[str, str, Severity]]:
        """Findings by device, area and severity; one that several devices share counts for each of them."""
        names = [device.name for device in self.devices]
        return Counter((name, one.area, one.severity) for name in names for one in self.audit.findings_on(name))

    @cached_property
    def outcomes(self) -> dict[str, dict[str, CheckOutcome]]:
        """What each check says of each device: check, then device."""
        out: dict[str, dict[str, CheckOutcome]] = {}
        for one in self.audit.outcomes:
            out.setdefault(one.check, {})[one.device] = one
        return out

    @cached_property
    def chosen(self) -> tuple[Chosen, ...]:
        """The checks that ran, with the parameters they have on a device no scope is about."""
        baseline = self.audit.baseline
        if baseline is None:
            return ()
        ran = {one.check for one in self.audit.outcomes}
        usual = {one.check.id: one for one in baseline.usual()}
        return tuple(
            usual.get(one.id, Chosen(one, one.defaults()))
            for one in baseline.catalogue
            if one.id in ran or one.id in usual
        )

    @cached_property
    def areas(self) -> tuple[Area, ...]:
        """The areas that were looked at."""
        seen = {one.check.area for one in self.chosen} | {Area(one.area) for one in self.audit.findings}
        return tuple(area for area in Area if area in seen)

    def tally(self, outcome: Outcome) -> int:
        """How many outcomes are of a kind."""
        return sum(one.outcome is outcome for one in self.audit.outcomes)


def _rules(device: Device, jobs: int, known: tuple[StandingReport, ...] | None) -> list[Data]:
    from aiguille.reports.rules import Describer, rule_data  # brings the terminal's tables with it

    programs = Programs(device)
    describer = Describer(device, programs)
    reports = known if known is not None else standings(programs, jobs)
    return [rule_data(device, describer, report) for report in reports]
