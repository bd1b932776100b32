"""Comments and names that people wrote into an export, without the secrets that they noted there."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec.structs import replace

from aiguille.model import Device, Rule
from aiguille.model.masking import mask_secrets


def without_noted_secrets(device: Device) -> Device:
    """The device with what looks like a secret masked in the comments of its rules, objects, interfaces and zones."""
    changed: dict[str, Any] = {}
    for part in ("interfaces", "zones", "addresses", "services", "schedules", "geo_filters"):
        before = getattr(device, part, ())
        if before and (after := _commented(before)) != before:
            changed[part] = after
    for part in ("rulebases", "saved"):
        before = getattr(device, part)
        if before and (after := tuple(base.with_each_rule(_rule) for base in before)) != before:
            changed[part] = after
    return replace(device, **changed) if changed else device


def _rule(rule: Rule) -> Rule:
    if not rule.comment and not rule.name:
        return rule
    comment, name = mask_secrets(rule.comment), mask_secrets(rule.name)
    return rule if (comment, name) == (rule.comment, rule.name) else replace(rule, comment=comment, name=name)


def _commented(parts: Iterable[Any]) -> tuple[Any, ...]:
    return tuple(
        replace(one, comment=said)
        if (held := getattr(one, "comment", "")) and (said := mask_secrets(held)) != held
        else one
        for one in parts
    )
