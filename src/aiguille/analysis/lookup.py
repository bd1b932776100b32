"""Finding what a user names: a device of an estate, a rule of a device."""

from __future__ import annotations

import difflib
import re

from aiguille.model import Device, Estate, Rule, UnreadableError, UsageError


def one_device(estate: Estate, name: str | None) -> Device:
    """The device of that name, or the only one; raises UsageError, listing them, if it is not clear which."""
    if not estate.devices:
        failures = "; ".join(failure.message for failure in estate.failures)
        raise UnreadableError(failures or "no device could be read")
    names = [device.name for device in estate.devices]
    if name is None:
        if len(names) > 1:
            raise UsageError(f"the paths hold several devices; choose one with --device: {', '.join(names)}")
        return estate.devices[0]
    for device in estate.devices:
        if device.name == name:
            return device
    near = difflib.get_close_matches(name, names, n=1)
    hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(names)}"
    raise UsageError(f"there is no device '{name}'; {hint}")


def rules_named(device: Device, name: str) -> list[tuple[str, Rule]]:
    """The rules that ``FILE:LINE`` (the end of the path will do) or ``CHAIN/NUMBER`` may mean, each with its place."""
    found: list[tuple[str, Rule]] = []
    by_line = re.fullmatch(r"(.*):([0-9]+)", name)
    for rulebase in device.rulebases:
        for chain, rule in rulebase.rules():
            place = f"{rulebase.name}/{chain.name}/{rule.number}"
            if by_line:
                file, line = by_line[1], int(by_line[2])
                fits = rule.where.first <= line <= rule.where.last and f"/{rule.where.file}".endswith(f"/{file}")
            else:
                fits = f"/{place}".endswith(f"/{name}")
            if fits:
                found.append((f"{place} ({rule.where})", rule))
    return found


def find_rule(device: Device, name: str) -> Rule:
    """A rule by ``FILE:LINE`` (the end of the path will do) or ``CHAIN/NUMBER``, with the rule base before if need be.

    Raises UsageError if no rule or several fit.
    """
    found = rules_named(device, name)
    if not found:
        raise UsageError(f"'{name}' is no rule of {device.name}; name one as FILE:LINE or CHAIN/NUMBER")
    if len(found) > 1:
        places = ", ".join(place for place, _ in found[:6])
        raise UsageError(f"'{name}' may be several rules of {device.name}: {places}; write FILE:LINE")
    return found[0][1]
