"""A plain interpreter of rules, packet by packet, written without any of the set algebra it is there to check."""

from __future__ import annotations

from collections.abc import Iterator

from aiguille.model import (
    Action,
    Addresses,
    Chain,
    Condition,
    Device,
    Field,
    FlagTest,
    IcmpType,
    InterfaceName,
    MaskedAddress,
    Numbers,
    Rule,
    Rulebase,
)
from aiguille.packets import Packet

PORTED = (6, 17, 33, 132, 136)


def holds(condition: Condition, packet: Packet) -> bool | None:
    """Whether a condition holds; None if that cannot be told."""
    ported = packet.protocol in PORTED
    match condition.field:
        case Field.IN_INTERFACE:
            inside = any(_named(o, packet.in_interface) for o in condition.operands)
        case Field.OUT_INTERFACE:
            inside = any(_named(o, packet.out_interface) for o in condition.operands)
        case Field.SOURCE:
            inside = any(_address(o, packet.family, packet.source) for o in condition.operands)
        case Field.DESTINATION:
            inside = any(_address(o, packet.family, packet.destination) for o in condition.operands)
        case Field.PROTOCOL:
            inside = _within(condition, packet.protocol)
        case Field.STATE:
            inside = _within(condition, packet.state.number)
        case Field.DESTINATION_TYPE:
            inside = _within(condition, packet.destination_type.number)
        case Field.SOURCE_PORT:
            if not ported:
                return False
            inside = _within(condition, packet.sport or 0)
        case Field.DESTINATION_PORT:
            if not ported:
                return False
            inside = _within(condition, packet.dport or 0)
        case Field.EITHER_PORT:
            if not ported:
                return False
            inside = _within(condition, packet.sport or 0) or _within(condition, packet.dport or 0)
        case Field.TCP_FLAGS:
            if packet.flags is None:
                return False
            inside = any(isinstance(o, FlagTest) and packet.flags & o.mask == o.value for o in condition.operands)
        case Field.ICMP:
            if packet.icmp_type is None:
                return False
            inside = any(
                isinstance(o, IcmpType)
                and o.type_first <= packet.icmp_type <= o.type_last
                and o.code_first <= (packet.icmp_code or 0) <= o.code_last
                for o in condition.operands
            )
        case _:
            return None
    return inside is not condition.negated


def matches(rule: Rule, packet: Packet) -> bool | None:
    answers = [holds(condition, packet) for condition in rule.match.conditions]
    if False in answers:
        return False
    return None if None in answers or rule.qualifiers or rule.marks else True


def ends(rulebase: Rulebase, chain: Chain, packet: Packet) -> set[tuple[str, str, int | str]]:
    """Every possible (verdict, chain, rule number or "policy") of one base chain."""
    assert chain.policy is not None
    out = set()
    for verdict, where, number in _walk(rulebase, chain, packet):
        if verdict == "end":
            out.add((chain.policy.value, chain.name, "policy"))
        else:
            out.add((verdict, where, number))
    return out


def _walk(rulebase: Rulebase, chain: Chain, packet: Packet, at: int = 0) -> Iterator[tuple[str, str, int | str]]:
    """Verdicts reached from rule index `at` on; "end" where the chain is left at its end or by a return."""
    for number in range(at, len(chain.rules)):
        rule = chain.rules[number]
        matched = matches(rule, packet) if rule.enabled else False
        if matched is False:
            continue
        if rule.action in (Action.ACCEPT, Action.DROP, Action.REJECT):
            yield rule.action.value, chain.name, rule.number
        elif rule.action is Action.RETURN:
            yield "end", chain.name, 0
        elif rule.action in (Action.JUMP, Action.GOTO):
            target = rulebase.chain(rule.target or "")
            assert target is not None
            fell_out = False
            for end in _walk(rulebase, target, packet):
                if end[0] != "end" or rule.action is Action.GOTO:
                    yield end
                else:
                    fell_out = True
            if rule.action is Action.JUMP and (fell_out or matched is None):
                yield from _walk(rulebase, chain, packet, number + 1)
                return
            if rule.action is Action.JUMP:
                return
        elif rule.action is Action.CONTINUE:
            continue
        if matched and rule.action is not Action.CONTINUE:
            return
    yield "end", chain.name, 0


def base_chain(device: Device, table: str, name: str) -> tuple[Rulebase, Chain]:
    for rulebase in device.rulebases:
        if rulebase.name == table and (chain := rulebase.chain(name)) is not None:
            return rulebase, chain
    raise LookupError(f"{table}/{name}")


def _named(operand: object, name: str) -> bool:
    assert isinstance(operand, InterfaceName)
    if not name:
        return False
    return name.startswith(operand.name) if operand.prefix else name == operand.name


def _address(operand: object, family: int, value: int) -> bool:
    match operand:
        case Addresses(own, first, last):
            return own == family and first <= value <= last
        case MaskedAddress(own, fixed, mask):
            return own == family and value & mask == fixed
    raise TypeError(operand)


def _within(condition: Condition, value: int) -> bool:
    return any(isinstance(o, Numbers) and o.first <= value <= o.last for o in condition.operands)
