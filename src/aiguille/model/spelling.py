"""Values of the model as people write them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from ipaddress import IPv6Address

from aiguille.model.objects import (
    Addresses,
    FlagTest,
    IcmpType,
    InterfaceName,
    MaskedAddress,
    Named,
    Numbers,
    Operand,
    ServiceTerm,
    Tuples,
)
from aiguille.model.protocols import PROTOCOL_NAMES, TCP_FLAGS


def spell_address(family: int, value: int) -> str:
    """An address in dotted form, or as RFC 5952 has it."""
    if family == 4:
        return f"{value >> 24}.{value >> 16 & 255}.{value >> 8 & 255}.{value & 255}"
    return str(IPv6Address(value))


def spell_protocol(number: int) -> str:
    return PROTOCOL_NAMES.get(number, str(number))


def spell_flags(flags: int) -> str:
    """Flag names separated by commas, ``NONE`` for a packet without any."""
    return ",".join(name for name, bit in TCP_FLAGS.items() if flags & bit) or "NONE"


@lru_cache(maxsize=65536)
def spell_operand(operand: Operand) -> str:
    """An operand as people write it: a network by its prefix, a service as protocol/port."""
    match operand:
        case Numbers(first, last):
            return str(first) if first == last else f"{first}-{last}"
        case Addresses(family, first, last):
            return _spell_range(family, first, last)
        case MaskedAddress(family, value, mask):
            return f"{spell_address(family, value)}/{spell_address(family, mask)}"
        case InterfaceName(name, prefix):
            return f"{name}*" if prefix else name
        case IcmpType(first, last, code_first, code_last):
            codes = str(code_first) if code_first == code_last else f"{code_first}-{code_last}"
            code = "" if (code_first, code_last) == (0, 255) else f" code {codes}"
            return ("any" if (first, last) == (0, 255) else str(first)) + code
        case FlagTest(mask, value):
            return f"{spell_flags(value)} of {spell_flags(mask)}"
        case ServiceTerm(protocol, source_ports, destination_ports, icmp):
            ports = ",".join(spell_operand(p) for p in destination_ports)
            own = f" from {','.join(spell_operand(p) for p in source_ports)}" if source_ports else ""
            kinds = f" {','.join(spell_operand(i) for i in icmp)}" if icmp else ""
            return spell_protocol(protocol.first) + (f"/{ports}" if ports else "") + own + kinds
        case Named(_, name):
            return name
        case Tuples(roles, _):
            return " . ".join(roles)


def _spell_range(family: int, first: int, last: int) -> str:
    size = last - first + 1
    bits = 32 if family == 4 else 128
    if size & (size - 1) == 0 and first % size == 0:
        length = bits - size.bit_length() + 1
        return spell_address(family, first) + ("" if size == 1 else f"/{length}")
    return f"{spell_address(family, first)}-{spell_address(family, last)}"


def spell_spans(family: int, spans: Sequence[tuple[int, int]], most: int = 0) -> str:
    """Addresses as people write them: ``any``, networks and ranges, or ``any but`` those left out where that is shorter.

    spans: closed ranges, ascending; most: of many so many are named, 0 for all
    """
    top = (1 << (32 if family == 4 else 128)) - 1
    left_out = _left_out(spans, top)
    if not left_out:
        return "any"
    shorter = len(left_out) < len(spans) or (len(left_out) == len(spans) and spans[0][0] == 0 and len(spans) > 1)
    chosen, before = (left_out, "any but ") if shorter else (spans, "")
    said = [_spell_range(family, first, last) for first, last in chosen]
    if most and len(said) > most:
        said = [*said[:most], f"{len(said) - most} more"]
    return before + ", ".join(said)


def spell_numbers(spans: Sequence[tuple[int, int]], top: int, most: int = 0) -> str:
    """Ports or the like, 0 to `top`: numbers and ranges with commas, or ``but`` those left out; of many so many are named."""
    left_out = _left_out(spans, top)
    before = ""
    if left_out and len(left_out) < len(spans) and spans[0][0] == 0:
        spans, before = left_out, "but "
    said = [str(first) if first == last else f"{first}-{last}" for first, last in spans]
    if most and len(said) > most:
        said = [*said[:most], f"{len(said) - most} more"]
    return before + ",".join(said)


def _left_out(spans: Sequence[tuple[int, int]], top: int) -> list[tuple[int, int]]:
    out, at = [], 0
    for first, last in spans:
        if first > at:
            out.append((at, first - 1))
        at = last + 1
    if at <= top:
        out.append((at, top))
    return out


def grouped(number: int) -> str:
    """A number with its thousands apart: ``65 536``."""
    return f"{number:,}".replace(",", " ")
