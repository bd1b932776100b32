"""What a reader of one firewall program gives to the host it belongs to."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from msgspec import Struct, field
from msgspec.structs import replace

from aiguille.model import Chain, Fact, Interface, Rule, Rulebase, ServiceObject, SetObject, Setting, Zone, unknown


class FirewallPart(Struct, frozen=True):
    """The part of a device that its firewall program settles.

    default_zone: the zone of interfaces that none is stated for, if the program has one
    system: settings of the kernel that the program makes when it starts
    waiting: rule bases it would load if it were switched on
    """

    rulebases: tuple[Rulebase, ...]
    sets: tuple[SetObject, ...] = ()
    zones: tuple[Zone, ...] = ()
    interfaces: tuple[Interface, ...] = ()
    services: tuple[ServiceObject, ...] = ()
    default_zone: str = ""
    firmware: Setting[str] = field(default_factory=unknown)
    taken_at: Setting[str] = field(default_factory=unknown)
    system: tuple[Fact, ...] = ()
    waiting: tuple[Rulebase, ...] = ()


def as_made(rulebases: Iterable[Rulebase], made: Callable[[Rule], bool] = lambda _: True) -> tuple[Rulebase, ...]:
    """Rule bases whose rules, or some of them, a program makes of files of its own."""

    def marked(chain: Chain) -> Chain:
        return replace(chain, rules=tuple(replace(rule, made=True) if made(rule) else rule for rule in chain.rules))

    return tuple(replace(one, chains=tuple(map(marked, one.chains))) for one in rulebases)


def with_shipped(rulebases: Iterable[Rulebase], shipped: Callable[[Chain, Rule], bool]) -> tuple[Rulebase, ...]:
    """Rule bases with those rules marked that programs put there by themselves; they are implied as well."""

    def marked(chain: Chain) -> Chain:
        rules = (replace(r, implied=True, shipped=True) if shipped(chain, r) else r for r in chain.rules)
        return replace(chain, rules=tuple(rules))

    return tuple(replace(one, chains=tuple(map(marked, one.chains))) for one in rulebases)


def with_implied(rulebases: Iterable[Rulebase], implied: Callable[[Chain, Rule], bool]) -> tuple[Rulebase, ...]:
    """Rule bases that a program makes of its files, with those rules marked whose lines are no statements about packets."""

    def marked(chain: Chain) -> Chain:
        rules = (replace(rule, implied=True) if implied(chain, rule) else rule for rule in chain.rules)
        return replace(chain, rules=tuple(rules))

    return tuple(replace(one, chains=tuple(map(marked, one.chains))) for one in rulebases)
