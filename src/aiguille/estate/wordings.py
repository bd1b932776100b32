"""Changes in the words of iptables and nft, for `--as-if`: the commands that would make them, read as exports are.

iptables -I INPUT 3 -p tcp --dport 22 -j DROP      also -A, -R, -D (by number or as written) and -P
nft insert rule inet filter input tcp dport 22 drop      also add, with index N
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from aiguille.analysis.changes import MADE, as_if, default_set, nothing_named, places_of, rules_at, with_rules
from aiguille.model import AiguilleError, Device, Estate, Rule, Span, UsageError
from aiguille.readers.files import decode, load

_IPTABLES = re.compile(
    r"(?:(?P<program>ip6?tables)\s+)?(?:-t\s+(?P<table>\S+)\s+)?-(?P<verb>[AIDRP])\s+(?P<chain>\S+)(?:\s+(?P<number>\d+)(?=\s|$))?"
    r"(?P<rest>.*)"
)
_NFT = re.compile(
    r"(?:nft\s+)?(?P<verb>add|insert)\s+rule\s+(?:(?P<family>ip6?|inet)\s+)?(?P<table>\S+)\s+(?P<chain>\S+)"
    r"(?:\s+index\s+(?P<number>\d+))?\s+(?P<rest>.+)"
)


def in_their_words(text: str, number: int) -> Callable[[Device], Device] | None:
    """The change a command of iptables or nft would make, None for a text that is no such command.

    number: of the change, which is the line its rule is said to stand in
    """
    said = " ".join(text.split())
    if found := _IPTABLES.fullmatch(said):
        return partial(_iptables, found, number)
    if found := _NFT.fullmatch(said):
        return partial(_nft, found, number)
    return None


def changed(estate: Estate, changes: Iterable[str]) -> Estate:
    """The estate as if it were changed: sentences and commands, or files with one a line; see `aiguille.analysis.changes`.

    Raises UsageError for what is not understood or names nothing, and for a file that cannot be read.
    """
    return as_if(estate, single_changes(changes), in_their_words)


def changed_in_turn(estate: Estate, changes: Iterable[str]) -> list[tuple[str, Estate]]:
    """The estate after each single change, one after the other, each with the words of the change; raises as `changed` does."""
    said = single_changes(changes)
    return [(one, as_if(estate, said[: number + 1], in_their_words)) for number, one in enumerate(said)]


def single_changes(changes: Iterable[str]) -> list[str]:
    """Changes one by one, those of files among them."""
    said: list[str] = []
    for one in changes:
        path = Path(one)
        if "\n" not in one and len(one) < _PATH_TOP and path.is_file():
            said += [line for raw in load(path).lines if (line := raw.strip()) and not line.startswith("#")]
        else:
            said.append(one)
    return said


_PATH_TOP = 255
"""Signs of a text beyond which it cannot be a file's name."""


def _iptables(found: re.Match[str], number: int, device: Device) -> Device:
    family = {"iptables": 4, "ip6tables": 6}.get(found["program"] or "")
    table = found["table"] or "filter"
    chain, verb, rest = found["chain"], found["verb"], found["rest"].strip()
    places = [
        place
        for place in places_of(device, chain)
        if device.rulebases[place.base].name.split(" ")[-1] == table
        and (family is None or family in device.rulebases[place.base].families)
    ]
    if family is None and len(places) > 1:
        places = [one for one in places if 4 in device.rulebases[one.base].families]  # as iptables itself
    if not places:
        raise nothing_named(device, chain)
    place = places[0]
    if verb == "P":
        if rest not in ("ACCEPT", "DROP"):
            raise UsageError(f"'{rest}' is no policy: ACCEPT or DROP")
        return default_set(device, place, rest.lower())
    rules = rules_at(device, place)
    at = int(found["number"] or 1) - 1
    if (verb == "R" or (verb == "D" and found["number"])) and at >= len(rules):
        raise UsageError(f"there is no rule {at + 1} in {chain} of {device.name}; it has {len(rules)}")
    if verb == "D" and found["number"]:
        del rules[at]
        return with_rules(device, place, rules)
    rule = _rule(f"*{table}\n:{chain} - [0:0]\n-A {chain} {rest}\nCOMMIT\n", "iptables-save", chain, number)
    if verb == "D":
        same = [
            n
            for n, one in enumerate(rules)
            if (one.match, one.action, one.target) == (rule.match, rule.action, rule.target)
        ]
        if not same:
            raise UsageError(f"there is no such rule in {chain} of {device.name}: {rest}")
        del rules[same[0]]
    elif verb == "R":
        rules[at] = rule
    else:
        rules.insert(len(rules) if verb == "A" else min(at, len(rules)), rule)
    return with_rules(device, place, rules)


def _nft(found: re.Match[str], number: int, device: Device) -> Device:
    family, table, chain = found["family"] or "ip", found["table"], found["chain"]
    places = [
        one for one in places_of(device, chain) if device.rulebases[one.base].name in (f"{family} {table}", table)
    ]
    if not places:
        raise nothing_named(device, chain)
    text = f"table {family} {table} {{\n chain {chain} {{\n  {found['rest']}\n }}\n}}\n"
    rule = _rule(text, "nftables", chain, number)
    rules = rules_at(device, places[0])
    adds = found["verb"] == "add"
    at = int(found["number"]) + adds if found["number"] else len(rules) if adds else 0
    rules.insert(at, rule)
    return with_rules(device, places[0], rules)


def _rule(text: str, make: str, chain: str, number: int) -> Rule:
    from aiguille.readers import iptables, nftables

    file = decode(MADE, text.encode())
    try:
        device: Device = iptables.read([file], MADE) if make == "iptables-save" else nftables.read([file], MADE)
    except AiguilleError as error:
        raise UsageError(f"the change is not understood: {error.message}") from error
    found = [rule for base in device.rulebases for one, rule in base.rules() if one.name == chain]
    unread = [problem.why for problem in device.ledger.problems]
    if len(found) != 1 or found[0].unread or device.ledger.unread:
        raise UsageError(f"the change is not understood{': ' + unread[0] if unread else ''}")
    return replace(found[0], where=Span(MADE, number, number), comment=found[0].comment or "as if")
