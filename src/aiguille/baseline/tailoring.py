"""Baselines: which checks run on which device, with which parameters and severities."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Any

from msgspec import Struct

from aiguille.baseline.catalogue import Check, Severity
from aiguille.baseline.spec import Devices, Scope
from aiguille.model import Device, Ledger

STANDARD = "standard"
"""The baseline that is every check as it is. It has no file: most audits need none, and reading one takes longer than they do."""


class Chosen(Struct, frozen=True):
    """A check as it runs on a device: its parameters, and the severity that takes the place of its own."""

    check: Check
    params: Mapping[str, Any]
    severity: Severity | None = None


class Layer(Struct, frozen=True, dict=True):
    """One file of a baseline, read and checked. sha256: of the file; empty for one that has no file."""

    name: str
    about: str
    checks: tuple[str, ...] | None
    omit: tuple[str, ...]
    settings: Mapping[str, Mapping[str, Any]]
    scopes: tuple[Scope, ...]
    own: tuple[Check, ...]
    path: str = ""
    sha256: str = ""


STANDARD_LAYER = Layer(
    STANDARD, "Every check of the catalogue with its default parameters and severities.", None, (), {}, (), (), STANDARD
)


class Baseline(Struct, frozen=True, dict=True):
    """Checks with what files say of them; the file that was asked for is the last of `layers`.

    catalogue: every check there is, those of one's own included
    """

    layers: tuple[Layer, ...]
    catalogue: tuple[Check, ...]

    @classmethod
    def of(cls, checks: Sequence[Check], params: Mapping[str, Mapping[str, Any]] | None = None) -> Baseline:
        """Checks as they are, for programs."""
        layer = Layer("given", "", None, (), params or {}, (), ())
        return cls((layer,), tuple(checks))

    @property
    def name(self) -> str:
        return self.layers[-1].name

    def usual(self) -> tuple[Chosen, ...]:
        """What runs on a device no scope is about."""
        return self.for_device(Device("", "", "", (), Ledger()))

    def for_device(self, device: Device) -> tuple[Chosen, ...]:
        """What runs on a device, in the order of the catalogue."""
        wanted = {one.id for one in self.catalogue}
        values: dict[str, dict[str, Any]] = {one.id: one.defaults() for one in self.catalogue}
        severities: dict[str, Severity] = {}
        for layer in self.layers:
            own = {one.id for one in layer.own}
            if layer.checks is not None:
                wanted = {one.id for one in self.catalogue if _named(one, layer.checks)} | own
            wanted -= {one.id for one in self.catalogue if _named(one, layer.omit)}
            _settle(layer.settings, values, severities)
            for scope in layer.scopes:
                if concerns(scope.devices, device):
                    wanted -= {one.id for one in self.catalogue if _named(one, scope.omit)}
                    _settle(scope.settings, values, severities)
        return tuple(Chosen(one, values[one.id], severities.get(one.id)) for one in self.catalogue if one.id in wanted)


def _settle(
    settings: Mapping[str, Mapping[str, Any]], values: dict[str, dict[str, Any]], severities: dict[str, Severity]
) -> None:
    for check, given in settings.items():
        for name, value in given.items():
            if name == "severity":
                severities[check] = Severity(value)
            else:
                values[check][name] = value


def _named(check: Check, words: Iterable[str]) -> bool:
    return any(word in (check.id, check.area.value) for word in words)


def concerns(which: Devices, device: Device) -> bool:
    """Whether a scope is about a device."""
    sides = {zone.side for zone in device.zones}
    return (
        (not which.names or any(fnmatchcase(device.name, name) for name in which.names))
        and (not which.tags or bool(set(which.tags) & set(device.tags)))
        and (not which.dialects or device.dialect in which.dialects)
        and (not which.sides or bool(set(which.sides) & sides))
    )
