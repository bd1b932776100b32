"""Values of parameters as people write them in a baseline file: types, units, members of lists."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from aiguille.baseline.catalogue import Of, Param
from aiguille.model import MaskedAddress, NotUnderstoodError, Side, UsageError
from aiguille.model.countries import country_code, nearest_country
from aiguille.model.patterns import pattern
from aiguille.readers.literals import read_network, read_ports, read_protocol
from aiguille.space import IntervalSet

_TIMES = {"second": 1.0, "minute": 60.0, "hour": 3600.0, "day": 86400.0, "week": 604800.0}
_WITH_UNIT = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-z]+?)s?\s*")


class WrongValueError(ValueError):
    """What is wrong with a value, as the rest of a sentence."""


def read_value(param: Param, given: Any) -> Any:
    """The value of a parameter; raises WrongValueError for a wrong type, unit or member."""
    if param.type is bool:
        if not isinstance(given, bool):
            raise WrongValueError(f"'{param.name}' is true or false, not '{given}'")
        return given
    if param.type in (int, float):
        return _number(param, given)
    if param.type is str:
        if not isinstance(given, str):
            raise WrongValueError(f"'{param.name}' is a text ({param.unit}), not '{given}'")
        return _member(param, given)
    if isinstance(given, str) or not isinstance(given, list | tuple):
        raise WrongValueError(f"'{param.name}' is a list of {param.of}, in square brackets, not '{given}'")
    return tuple(_member(param, one) for one in given)


def _number(param: Param, given: Any) -> int | float:
    if isinstance(given, str):
        given = _in_unit(param, given)
    if isinstance(given, bool) or not isinstance(given, int | float):
        raise WrongValueError(f"'{param.name}' is a number of {param.unit}, not '{given}'")
    if given < 0:
        raise WrongValueError(f"'{param.name}' is {given}; it cannot be below 0")
    if param.type is int and given != int(given):
        raise WrongValueError(f"'{param.name}' is a whole number of {param.unit}, not {given}")
    return int(given) if param.type is int else float(given)


def _in_unit(param: Param, text: str) -> float:
    """A number with a unit of time, in the unit of the parameter."""
    found = _WITH_UNIT.fullmatch(text)
    own = param.unit.split()[0].rstrip("s")
    if found is None:
        raise WrongValueError(f"'{param.name}' is a number of {param.unit}, not '{text}'")
    unit = found[2].lower()
    if unit == own:
        return float(found[1])
    if own not in _TIMES or unit not in _TIMES:
        raise WrongValueError(f"'{param.name}' counts {param.unit}, and '{text}' does not")
    return float(found[1]) * _TIMES[unit] / _TIMES[own]


def _member(param: Param, given: Any) -> str:
    text = str(given) if isinstance(given, int | float) and not isinstance(given, bool) else given
    if not isinstance(text, str) or not text:
        hint = (
            "; YAML takes yes, no, on and off for truth values unless they stand in quotes"
            if isinstance(given, bool)
            else ""
        )
        raise WrongValueError(f"'{given}' in '{param.name}' is not one of {param.of}{hint}")
    match param.of:
        case Of.PATTERN:
            try:
                pattern(text)
            except UsageError as error:
                raise WrongValueError(f"in '{param.name}' {error}") from error
        case Of.NETWORK:
            check_network(param.name, text)
        case Of.SERVICE:
            check_service(param.name, text)
        case Of.COUNTRY:
            code = country_code(text)
            if code is None:
                near = nearest_country(text)
                hint = f"; did you mean {near}?" if near else "; write a code of ISO 3166 such as CH"
                raise WrongValueError(f"'{text}' in '{param.name}' is no country{hint}")
            return code
        case Of.SIDE:
            if text not in tuple(Side):
                raise WrongValueError(f"'{text}' in '{param.name}' is not a side; known are {', '.join(Side)}")
        case Of.RELEASE:
            if ":" not in text:
                raise WrongValueError(f"'{text}' in '{param.name}' names no release; write 'MAKE: RELEASE' in quotes")
        case Of.WORD:
            pass
    return text


def check_network(name: str, text: str) -> None:
    try:
        read_network(text)
    except NotUnderstoodError as error:
        raise WrongValueError(f"'{text}' in '{name}' is no address or network: {error.message}") from error


def check_service(name: str, text: str) -> None:
    protocol, _, ports = text.partition("/")
    try:
        read_protocol(protocol)
        if ports:
            read_ports(ports, "-")
    except NotUnderstoodError as error:
        raise WrongValueError(
            f"'{text}' in '{name}' is no service such as tcp/22 or udp/137-138: {error.message}"
        ) from error


def networks(texts: Iterable[str], family: int) -> IntervalSet:
    """The addresses of one family among networks written as people do."""
    found = [read_network(text) for text in texts]
    return IntervalSet((n.first, n.last) for n in found if not isinstance(n, MaskedAddress) and n.family == family)
