"""Matches of nft rules as conditions of the model."""

from __future__ import annotations

import operator
from collections.abc import Callable, Mapping
from itertools import pairwise
from typing import Any

from msgspec import Struct, field

from aiguille.model import (
    Addresses,
    Condition,
    Field,
    FlagTest,
    IcmpType,
    MarkTest,
    Named,
    NameKind,
    NotUnderstoodError,
    Numbers,
    Operand,
    Qualifier,
    SetEntry,
    Tuples,
)
from aiguille.readers.nftables.keys import (
    Key,
    flag_bits,
    key_of,
    masked_address,
    qualifier_name,
    sent_key,
    spell,
    state_bits,
    states_where,
)

_MARK_TOP = 0xFFFFFFFF
_TOPS = {Field.SOURCE_PORT: 65535, Field.DESTINATION_PORT: 65535, Field.PROTOCOL: 255}
_MOST_RANGES = 1024
"""Ranges of values a masked comparison may come to; beyond, it is reported as not followed."""
_COMPARE: dict[str, Callable[[int, int], bool]] = {"==": operator.eq, "!=": operator.ne}


class Matched(Struct):
    """What one match says. All lists empty: it always holds.

    raw: it looks at ports without saying of which protocol
    """

    conditions: list[Condition] = field(default_factory=list)
    marks: list[MarkTest] = field(default_factory=list)
    qualifiers: list[Qualifier] = field(default_factory=list)
    raw: bool = False


def bare(element: Any) -> Any:
    """A set element without its attributes."""
    return element["elem"]["val"] if isinstance(element, dict) and "elem" in element else element


class Conditions:
    """Reads the matches of one table's rules.

    sets: the name in the model of each named set, by the name the table gives it
    """

    def __init__(self, sets: Mapping[str, str]) -> None:
        self.sets = sets

    def match(self, body: Mapping[str, Any]) -> Matched:
        """A match statement: what it looks at, how it compares, with what. Raises NotUnderstoodError."""
        left, right, op = body["left"], body["right"], body.get("op", "==")
        if op == "in" and isinstance(right, dict) and "set" in right:
            op = "=="
        mask: Any = None
        if isinstance(left, dict) and "&" in left:
            left, mask = left["&"][0], left["&"][1]
            if mask is not None and isinstance(left, dict) and "&" in left:
                return self._doubtful(body)
        if isinstance(left, dict) and "concat" in left:
            return self._concat(left["concat"], right, op) if mask is None else self._doubtful(body)
        if left == {"meta": {"key": "mark"}}:
            return self._mark(body, mask, right, op)
        if left == {"ct": {"key": "status"}} and right == "dnat" and op in ("in", "==", "!") and mask in (None, "dnat"):
            return Matched([Condition(Field.TRANSLATED, (), op == "!")])
        key = sent_key(left, right) or key_of(left)
        if key is None:
            return self._doubtful(body)
        try:
            found = self.compare(key, right, op, mask)
        except NotUnderstoodError:
            if key.field in (Field.DESTINATION_TYPE, Field.SOURCE_TYPE):
                return self._doubtful(body)
            raise
        found.raw = left["payload"]["protocol"] == "th" if "payload" in left else False
        return found

    def compare(self, key: Key, right: Any, op: str, mask: Any = None) -> Matched:
        """A comparison of a field that is modelled."""
        if isinstance(right, str) and right[:1] == "@":
            if mask is not None:
                raise NotUnderstoodError(f"a masked field looked up in '{right}'")
            named = Named(NameKind.SET, self._set_name(right), (str(key.field),))
            return Matched([*key.guards, Condition(Field.SET, (named,), op == "!=")])
        if key.field is Field.STATE:
            return self._states(key, right, op, mask)
        if key.field is Field.TCP_FLAGS:
            return self._flags(key, right, op, mask)
        if mask is not None:
            return self._masked(key, right, op, mask)
        if isinstance(right, dict) and "set" in right:
            elements = [bare(one) for one in right["set"]]
            if "*" in elements and key.dimension != "interface":
                return Matched(list(key.guards)) if op == "==" else Matched([Condition(Field.FAMILY, (Numbers(0, 0),))])
            operands = tuple(key.read(one) for one in elements)
        elif op in ("<", "<=", ">", ">="):
            operands = (_ordered(key, key.read(right), op),)
            op = "=="
        else:
            operands = (key.read(right),)
        if op not in ("==", "!=", "in"):
            raise NotUnderstoodError(f"'{op} {spell(right)}' is no comparison that makes sense of this field")
        return Matched([*key.guards, Condition(key.field, operands, op == "!=")])

    def _set_name(self, text: str) -> str:
        return self.sets.get(text[1:], text[1:])

    def _doubtful(self, body: Mapping[str, Any]) -> Matched:
        op = body.get("op", "==")
        said = f"{spell(body['left'])} {'' if op in ('==', 'in') else op + ' '}{spell(body['right'])}"
        return Matched(qualifiers=[Qualifier(qualifier_name(body["left"]), said)])

    def _states(self, key: Key, right: Any, op: str, mask: Any) -> Matched:
        """nft compares states as bits, of which a packet has one: ``!= established,related`` so holds always."""
        if isinstance(right, dict) and "set" in right:
            wanted = {state_bits(bare(one)) for one in right["set"]}
            held = states_where(lambda bit: (bit in wanted) is (op != "!="))
        else:
            value = state_bits(right)
            if mask is not None:
                bits, test = state_bits(mask), _COMPARE.get(op)
                if test is None:
                    raise NotUnderstoodError(f"'{op}' is no comparison of connection states")
                held = states_where(lambda bit: test(bit & bits, value))
            elif op == "in":
                held = states_where(lambda bit: bool(bit & value))
            elif op == "!":
                held = states_where(lambda bit: not bit & value)
            else:
                held = states_where(lambda bit: (bit == value) is (op == "=="))
        return Matched([Condition(Field.STATE, held)])

    def _flags(self, key: Key, right: Any, op: str, mask: Any) -> Matched:
        everything = 0xFF
        if isinstance(right, dict) and "set" in right:
            bits = everything if mask is None else flag_bits(mask)
            tests = tuple(FlagTest(bits, flag_bits(bare(one))) for one in right["set"])
            return Matched([Condition(Field.TCP_FLAGS, tests, op == "!=")])
        value = flag_bits(right)
        if op in ("in", "!"):  # any of the flags is set, or none
            return Matched([Condition(Field.TCP_FLAGS, (FlagTest(value, 0),), op == "in")])
        if op not in ("==", "!="):
            raise NotUnderstoodError(f"'{op}' is no comparison of TCP flags")
        test = FlagTest(everything if mask is None else flag_bits(mask), value)
        return Matched([Condition(Field.TCP_FLAGS, (test,), op == "!=")])

    def _masked(self, key: Key, right: Any, op: str, mask: Any) -> Matched:
        if key.field in _TOPS and op in _COMPARE and isinstance(mask, int):
            return Matched([*key.guards, Condition(key.field, _with_bits(key, right, mask), op == "!=")])
        if key.dimension != "address" or op not in ("==", "!="):
            raise NotUnderstoodError(f"'& {spell(mask)} {op} {spell(right)}' masks a field we do not take apart")
        parts = [bare(one) for one in right["set"]] if isinstance(right, dict) and "set" in right else [right]
        operands = tuple(masked_address(mask, one) for one in parts)
        return Matched([*key.guards, Condition(key.field, operands, op == "!=")])

    def _mark(self, body: Mapping[str, Any], mask: Any, right: Any, op: str) -> Matched:
        if mask is None and isinstance(right, dict) and "prefix" in right:
            right, mask = right["prefix"]["addr"], _MARK_TOP ^ (_MARK_TOP >> right["prefix"]["len"])
        plain = isinstance(right, int) and not isinstance(right, bool) and (mask is None or isinstance(mask, int))
        if not plain or op not in ("==", "!="):
            return self._doubtful(body)
        return Matched(marks=[MarkTest(right, _MARK_TOP if mask is None else mask, op == "!=")])

    def _concat(self, parts: list[Any], right: Any, op: str) -> Matched:
        """Several fields looked up together."""
        keys = [key_of(part) for part in parts]
        known = [key for key in keys if key is not None]
        if len(known) != len(keys) or any(key.field in (Field.TCP_FLAGS,) for key in known) or op not in ("==", "!="):
            return self._doubtful({"left": {"concat": parts}, "right": right, "op": op})
        roles = tuple(str(key.field) for key in known)
        guards = _once(guard for key in known for guard in key.guards)
        operand: Operand
        if isinstance(right, str) and right[:1] == "@":
            operand = Named(NameKind.SET, self._set_name(right), roles)
        else:
            given = right["set"] if isinstance(right, dict) and "set" in right else [right]
            operand = Tuples(roles, tuple(entry(known, bare(one)) for one in given))
        # Ports among the fields exist only where the guards hold, negated or not; see the resolver for the rest.
        return Matched([*guards, Condition(Field.SET, (operand,), op == "!=")])


def entry(keys: list[Key], given: Any) -> SetEntry:
    """One element of a set over several fields; raises NotUnderstoodError if it does not fit them."""
    values = given["concat"] if isinstance(given, dict) and "concat" in given else [given]
    if len(values) != len(keys):
        raise NotUnderstoodError(f"'{spell(given)}' has {len(values)} parts where {len(keys)} were expected")
    return SetEntry(tuple(key.read(one) for key, one in zip(keys, values, strict=True)))


def _once(found: Any) -> list[Condition]:
    out: list[Condition] = []
    for one in found:
        if one not in out:
            out.append(one)
    return out


def _ordered(key: Key, bound: Operand, op: str) -> Operand:
    """All values on one side of a bound."""
    match bound:
        case Numbers(low, high) if key.field in _TOPS:
            first, last = _side(low, high, _TOPS[key.field], op)
            return Numbers(first, last)
        case Addresses(family, low, high):
            first, last = _side(low, high, (1 << (32 if family == 4 else 128)) - 1, op)
            return Addresses(family, first, last)
        case IcmpType(low, high, 0, 255):
            return IcmpType(*_side(low, high, 255, op))
        case _:
            raise NotUnderstoodError(f"'{op}' compares a field that has no order we follow")


def _side(low: int, high: int, top: int, op: str) -> tuple[int, int]:
    first, last = {"<": (0, low - 1), "<=": (0, high), ">": (high + 1, top), ">=": (low, top)}[op]
    if first > last:
        raise NotUnderstoodError(f"nothing is {op} {low}")
    return first, last


def _with_bits(key: Key, right: Any, mask: int) -> tuple[Operand, ...]:
    """The values that equal one of those given in the bits of a mask, as ranges."""
    given = [bare(one) for one in right["set"]] if isinstance(right, dict) and "set" in right else [right]
    wanted = {one.first for one in map(key.read, given) if isinstance(one, Numbers) and one.first == one.last}
    if len(wanted) != len(given):
        raise NotUnderstoodError(f"'& {spell(mask)}' is compared with a range")
    held = [number for number in range(_TOPS[key.field] + 1) if number & mask in wanted]
    if not held:
        return (Numbers(0, -1),)
    edges = [0, *(at for at in range(1, len(held)) if held[at] != held[at - 1] + 1), len(held)]
    if len(edges) > _MOST_RANGES:
        raise NotUnderstoodError(f"'& {spell(mask)}' holds for more ranges of values than we take apart")
    return tuple(Numbers(held[a], held[b - 1]) for a, b in pairwise(edges))
