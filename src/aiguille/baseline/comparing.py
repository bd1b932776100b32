"""Before and after: what a change, a quarter or a drift opened, closed, rewrote and mended, device by device."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.compare import PAIR_EFFORT, Change, changes, silent
from aiguille.analysis.decide import maybe_accepted, surely_accepted
from aiguille.analysis.edits import RuleEdit, ThingEdit, rule_edits, thing_edits
from aiguille.analysis.exposure import opening
from aiguille.analysis.flows import read_services
from aiguille.analysis.moving import at_site, exchanged
from aiguille.analysis.program import Programs, own_addresses
from aiguille.analysis.services import management_services
from aiguille.analysis.siblings import groups_of_sites, most_like
from aiguille.analysis.sides import interface_names, not_loopback
from aiguille.analysis.study import Study
from aiguille.baseline.audit import Audit
from aiguille.baseline.findings import Finding
from aiguille.model import (
    Addresses,
    Device,
    Direction,
    Estate,
    ManagementService,
    Numbers,
    ServiceTerm,
    State,
    TooComplexError,
    UsageError,
)
from aiguille.model.spelling import spell_operand
from aiguille.space import Axis, Box, IntervalSet, box, overlap
from aiguille.space.effort import limited


class Access(Struct, frozen=True):
    """Whether an administrator gets to a way of managing a device: newly, and with a session that runs.

    before, after: "yes", "perhaps" or "no" each
    between: where several changes are made, what each is and whether a new session gets in after it
    """

    administrator: str
    service: str
    before: str
    after: str
    running_before: str
    running_after: str
    between: tuple[tuple[str, str], ...] = ()

    @property
    def lost(self) -> bool:
        return self.before == "yes" and self.after != "yes"

    @property
    def interrupted(self) -> str:
        """The first change after which no new session surely gets in although one does in the end; empty if there is none."""
        if self.lost or self.before != "yes":
            return ""
        return next((change for change, verdict in self.between if verdict != "yes"), "")


class Pair(Struct, frozen=True):
    """One device before and after.

    changes: what newly opens or closes; None where that is too entangled to tell
    silent: families and directions with rules on one side only, True where that is after
    against: what the device is compared with, where that is not what it was itself
    """

    before: Device
    after: Device
    changes: tuple[Change, ...] | None
    silent: tuple[tuple[int, Direction, bool], ...]
    rules: tuple[RuleEdit, ...]
    things: tuple[ThingEdit, ...]
    access: tuple[Access, ...] = ()
    against: str = ""

    @property
    def opened(self) -> tuple[Change, ...]:
        return tuple(one for one in self.changes or () if one.opens)

    @property
    def closed(self) -> tuple[Change, ...]:
        return tuple(one for one in self.changes or () if not one.opens)


class Comparison(Struct, frozen=True):
    """Two estates side by side.

    only_before, only_after: devices of one side alone
    new, mended: findings; due: those that only time brought; unchanged: how many there are on both sides, None where nobody looked
    """

    pairs: tuple[Pair, ...]
    only_before: tuple[str, ...]
    only_after: tuple[str, ...]
    new: tuple[Finding, ...]
    mended: tuple[Finding, ...]
    due: tuple[Finding, ...]
    unchanged: int | None

    @property
    def opened(self) -> bool:
        """Whether anything gets through that did not, or may."""
        return any(one.opened or one.changes is None for one in self.pairs)


def paired(before: Estate, after: Estate) -> tuple[Estate, Estate]:
    """The estates with devices that belong together named alike: one each, or those of one name.

    Raises UsageError if no device of one has its like in the other.
    """
    if len(before.devices) == 1 and len(after.devices) == 1:
        name = before.devices[0].name
        return before, replace(after, devices=(replace(after.devices[0], name=name),))
    names = {device.name for device in before.devices}
    if names.isdisjoint(device.name for device in after.devices):
        mine, theirs = (", ".join(d.name for d in estate.devices) or "none" for estate in (before, after))
        raise UsageError(f"no device is on both sides: {mine} before, {theirs} after; name files or devices alike")
    return before, after


Administrator = tuple[Addresses, str]
"""Where an administrator sits, and the service he uses: by name, or as tcp/9443; empty for any way of managing a device."""


def compare(
    before: Estate,
    after: Estate,
    audited: Callable[[Estate], Audit] | None,
    administrators: Sequence[Administrator] = (),
    steps: Sequence[tuple[str, Estate]] = (),
) -> Comparison:
    """Compare two estates.

    audited: what checks one of them, None to leave findings out
    steps: the changes that lead from the one to the other, each with the estate after it

    Raises UsageError if no device is on both sides, and for an administrator's service that is none.
    """
    before, after = paired(before, after)
    theirs = {device.name: device for device in after.devices}
    pairs = tuple(
        _pair(
            before,
            one,
            theirs[one.name],
            administrators,
            [(said, device) for said, estate in steps for device in estate.devices if device.name == one.name],
        )
        for one in before.devices
        if one.name in theirs
    )
    both = [pair.before.name for pair in pairs]
    only_before, only_after = (
        tuple(device.name for device in one.devices if device.name not in both) for one in (before, after)
    )
    if audited is None:
        return Comparison(pairs, only_before, only_after, (), (), (), None)
    first = _findings(audited(before), both)
    last = _findings(audited(after), both)
    aged = first
    if before.as_of != after.as_of:
        aged = _findings(audited(replace(before, as_of=after.as_of)), both)
    return Comparison(
        pairs,
        only_before,
        only_after,
        tuple(one for key, one in last.items() if key not in aged and key not in first),
        tuple(one for key, one in first.items() if key not in last),
        tuple(one for key, one in last.items() if key in aged and key not in first),
        sum(1 for key in last if key in first),
    )


def compare_sites(estate: Estate, master: Device | None = None) -> Comparison:
    """Each site with its template, moved to the site's own networks: what the site lets through beyond it, and what it does not.

    master: the template, for all sites of its make; without one, of each group of siblings the one that is most like the others

    Raises UsageError where no two devices are siblings, or none is of the master's make.
    """
    apart: tuple[str, ...] = ()
    if master is not None:
        others = [one for one in estate.devices if one.name != master.name]
        pairs = [_site(estate, master, one) for one in others if one.dialect == master.dialect]
        apart = tuple(one.name for one in others if one.dialect != master.dialect)
    else:
        pairs = []
        for group in groups_of_sites(estate):
            template = most_like(group)
            pairs += [_site(estate, template, one) for one in group if one is not template]
    if not pairs:
        raise UsageError(
            "there are no sites to compare: siblings are of one make, share a tag or an export, and most of their rules by name; "
            "--master NAME or FILE says with what to compare"
        )
    return Comparison(tuple(pairs), (), apart, (), (), (), None)


def _site(estate: Estate, master: Device, site: Device) -> Pair:
    pair = _pair(estate, at_site(master, site), site, ())
    return replace(pair, before=replace(pair.before, name=master.name), against=master.name)


def compare_interfaces(estate: Estate, device: Device, one: str, other: str) -> Comparison:
    """What a device lets enter or leave by one interface and not by another, in terms of `other`.

    Raises UsageError, with those there are, for an interface the device does not have.
    """
    known = interface_names(device)
    for name in (one, other):
        if name not in known:
            near = difflib.get_close_matches(name, known, n=2) or list(known)[:8]
            raise UsageError(f"{device.name} has no interface '{name}'; there is {', '.join(near)}")
    try:
        with limited(PAIR_EFFORT, apart=True):
            found = tuple(changes(exchanged(device, one, other), device, other))
    except TooComplexError:
        found = None
    pair = Pair(device, device, found, (), (), (), (), f"{one}, for {other}")
    return Comparison((pair,), (), (), (), (), (), None)


def _findings(audit: Audit, devices: Sequence[str]) -> dict[str, Finding]:
    return {one.fingerprint: one for one in audit.findings if one.device in devices}


def _pair(
    estate: Estate,
    before: Device,
    after: Device,
    administrators: Sequence[Administrator],
    steps: Sequence[tuple[str, Device]] = (),
) -> Pair:
    try:
        with limited(PAIR_EFFORT, apart=True):
            found = tuple(changes(before, after))
    except TooComplexError:
        found = None
    named = {who for who, _ in administrators}
    wanted = (*administrators, *((who, "") for who in before.administrators if who not in named))
    return Pair(
        before,
        after,
        found,
        tuple(silent(before, after)),
        tuple(rule_edits(before, after)),
        tuple(thing_edits(before, after)),
        tuple(access(estate, before, after, wanted, steps)),
    )


def access(
    estate: Estate,
    before: Device,
    after: Device,
    administrators: Sequence[Administrator],
    steps: Sequence[tuple[str, Device]] = (),
) -> list[Access]:
    """For each administrator and way of managing the device that answers before: whether new and running sessions go on.

    steps: the device after each of several changes, with the words of the change
    """
    studies = [Study(device, estate, Programs(device)) for device in (before, after)]
    between = [(said, Study(device, estate, Programs(device))) for said, device in steps] if len(steps) > 1 else []
    out = []
    for who, used in administrators:
        for service in _used(before, used):
            ways = list(opening(who.family, service))
            first, last = (_reaches(study, who, ways) for study in studies)
            if first[0] != "no":
                in_turn = tuple((said, _reaches(study, who, ways)[0]) for said, study in between)
                out.append(Access(spell_operand(who), service.name, first[0], last[0], first[1], last[1], in_turn))
    return out


def _used(device: Device, used: str) -> list[ManagementService]:
    """The ways of managing a device, or the one an administrator is said to use."""
    known = [one for one in management_services(device) if one.enabled]
    if not used:
        return known
    named = [one for one in known if one.name.lower() == used.lower()]
    if named:
        return named
    terms = [
        ServiceTerm(Numbers(number, number), (), tuple(Numbers(*span) for span in ports.spans))
        for number, ports in read_services(used.replace(":", "/"))
    ]
    return [ManagementService(used, tuple(terms), False, None)]


def _reaches(study: Study, who: Addresses, services: Sequence[Box]) -> tuple[str, str]:
    """Whether a new session gets in, and whether one that runs goes on, by the best way there is."""
    program = study.programs.get(who.family, Direction.TO_DEVICE)
    if program is None:
        return ("no rules", "no rules")
    source = IntervalSet([(who.first, who.last)])
    entering = [e.interfaces for e in study.entrances if _lives_in(study, e.label, who)]
    real = not_loopback(program.space.symbols)
    here = overlap(real, box([(Axis.SRC, source), *([(Axis.IN, _union(entering))] if entering else [])])) or real
    own = _address_for(study.device, who) or own_addresses(study.device, who.family)
    if own is not None:
        here = overlap(here, box([(Axis.DST, own)])) or here
    found = []
    for state in (State.NEW, State.ESTABLISHED):
        best = "no"
        for one in services:
            region = overlap(_in_state(one, state), here)
            if region is None:
                continue
            if study.find(program, region, surely_accepted) is not None:
                best = "yes"
                break
            if study.find(program, region, maybe_accepted) is not None:
                best = "perhaps"
        found.append(best)
    return found[0], found[1]


def _address_for(device: Device, who: Addresses) -> IntervalSet | None:
    """The addresses of a device in the network of an administrator, which are those he uses; None where nothing shows one."""
    near = [
        (a.first, a.last)
        for one in device.interfaces
        if one.enabled
        and any(n.family == who.family and n.first <= who.first and who.last <= n.last for n in one.networks)
        for a in one.addresses
        if a.family == who.family
    ]
    return IntervalSet(near) if near else None


def _in_state(one: Box, state: State) -> Box:
    out = list(one)
    out[Axis.STATE] = IntervalSet.of(state.number)
    if state is not State.NEW:
        out[Axis.FLAGS] = None
    return tuple(out)


def _lives_in(study: Study, zone: str, who: Addresses) -> bool:
    networks = study.networks(zone)
    return any(n.family == who.family and n.first <= who.first and who.last <= n.last for n in networks)


def _union(sets: Sequence[IntervalSet]) -> IntervalSet:
    return IntervalSet(span for one in sets for span in one.spans)
