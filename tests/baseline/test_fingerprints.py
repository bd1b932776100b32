"""Fingerprints are quoted in disputes and files of accepted risks: they must come out the same for ever."""

from __future__ import annotations

import json
from enum import Enum
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from msgspec import Struct
from msgspec.structs import fields

import aiguille
from aiguille.baseline import fingerprint
from aiguille.baseline.catalogue import canonical, rule_subject
from aiguille.demo import write_estate
from aiguille.model import Action, Addresses, Condition, Field, Match, Numbers, Qualifier
from tests.helpers import filter_table


def spelt(value: object) -> str:
    """The spelling by its definition."""
    if isinstance(value, Enum):
        return str(value.value)
    if isinstance(value, tuple):
        return "[" + ", ".join(spelt(part) for part in value) + "]"
    if isinstance(value, Struct):
        told = [(f.name, getattr(value, f.name)) for f in fields(value) if getattr(value, f.name) != f.default]
        return type(value).__name__ + "(" + ", ".join(f"{name}={spelt(part)}" for name, part in told) + ")"
    return str(value)


numbers = st.builds(lambda a, b: Numbers(min(a, b), max(a, b)), st.integers(0, 99), st.integers(0, 99))
addresses = st.builds(lambda a: Addresses(4, a, a), st.integers(0, 9))
conditions = st.builds(
    Condition, st.sampled_from(Field), st.lists(numbers | addresses, max_size=2).map(tuple), st.booleans()
)
values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=4) | st.sampled_from(Action) | conditions
    | st.builds(Match, st.lists(conditions, max_size=2).map(tuple)) | st.builds(Qualifier, st.text(max_size=3), st.just("x")),
    lambda inner: st.lists(inner, max_size=3).map(tuple),
    max_leaves=6,
)  # fmt: skip


@given(values)
def test_values_are_spelt_as_defined(value: object) -> None:
    assert canonical(value) == spelt(value)


def test_spellings_and_fingerprints_of_the_past() -> None:
    device = filter_table('-A INPUT -s 10.0.0.0/8 -p tcp -m tcp --dport 22 -m comment --comment "x" -j ACCEPT')
    (chain, rule), *_ = device.rulebases[0].rules()
    assert rule_subject(chain, rule) == (
        "INPUT: [, accept, ACCEPT, None, Match(conditions=[Condition(field=source, operands=[Addresses(family=4, first=167772160, "
        "last=184549375)]), Condition(field=protocol, operands=[Numbers(first=6, last=6)]), Condition(field=destination port, "
        "operands=[Numbers(first=22, last=22)])]), [], [], x]"
    )
    assert fingerprint("access.cleartext", "gw", "telnet") == "b87d13e08b734389"


def test_the_sample_estate_keeps_its_fingerprints(tmp_path: Path) -> None:
    """The pages quote these; a change that moves them breaks every file of accepted risks there is."""
    write_estate(tmp_path)
    audit = aiguille.audit(aiguille.read([tmp_path]))
    quoted = {
        "7c6e395a6dbe9131": ("access.reachable-from-outside", "valley-gw"),
        "2113baa12f1a8002": ("access.reachable-from-outside", "valley-gw"),
        "6bfd281201229e62": ("access.no-source-restriction", "valley-gw"),
    }
    known = {one.fingerprint: (one.check, one.device) for one in audit.findings}
    assert quoted.items() <= known.items()
    assert len(known) == len(audit.findings)
    json.dumps(sorted(known))
