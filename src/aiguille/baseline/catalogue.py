"""What a check is: a declared record beside a pure function, and what such a function may answer."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from enum import Enum, StrEnum
from functools import cache, lru_cache
from typing import Any

from msgspec import NODEFAULT, Struct, field

from aiguille.analysis.decide import Proof
from aiguille.analysis.doubts import RATES
from aiguille.analysis.exposure import hours_of
from aiguille.analysis.program import Programs, Step
from aiguille.analysis.study import Study
from aiguille.model import Chain, Condition, Device, Rule, Rulebase, Span
from aiguille.packets import Packet


class Severity(StrEnum):
    """How bad a finding is; compare by `rank`."""

    CRITICAL = "critical"
    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"
    INFO = "info"

    @property
    def rank(self) -> int:
        """0 for info up to 4 for critical."""
        return _RANKS[self]


_RANKS = {severity: rank for rank, severity in enumerate(reversed(Severity))}


class Who(StrEnum):
    """Who can use what a finding is about, those nobody chose first."""

    ANYBODY = "anybody outside"
    GUESTS = "guests"
    PARTNER = "named sources outside"
    DMZ = "servers in a dmz"
    INSIDE = "inside networks"
    ADMINISTRATORS = "administrators"

    @property
    def rank(self) -> int:
        """0 for administrators up to 5 for anybody."""
        return len(Who) - 1 - list(Who).index(self)


class Area(StrEnum):
    """The themes of a baseline."""

    ACCESS = "access"
    DENY = "deny"
    LOGGING = "logging"
    GEO = "geo"
    RULES = "rules"
    OBJECTS = "objects"
    USAGE = "usage"
    SYSTEM = "system"


class Outcome(StrEnum):
    """What a check says of a device."""

    PASS = "pass"
    FAIL = "fail"
    CANNOT_TELL = "cannot tell"
    NOT_APPLICABLE = "not applicable"
    ACCEPTED = "accepted"


class Of(StrEnum):
    """What the members of a parameter's list are, so that a baseline file's are checked."""

    WORD = "words"
    PATTERN = "patterns (RE2)"
    NETWORK = "addresses or networks"
    SERVICE = "services such as tcp/22"
    COUNTRY = "countries (ISO 3166)"
    SIDE = "sides"
    RELEASE = "makes and releases, 'MAKE: RELEASE'"


class Param(Struct, frozen=True):
    """A parameter of a check: its type, unit, default, and the reason for that default.

    of: for lists (tuples), what the members are
    """

    name: str
    type: type
    default: Any
    unit: str
    why: str
    of: Of = Of.WORD


class RuleRef(Struct, frozen=True):
    """A rule a finding speaks of."""

    rulebase: str
    chain: str
    rule: int | str
    where: Span | None


def refer(rulebase: Rulebase, chain: Chain, rule: Rule | None) -> RuleRef:
    """A reference to a rule, or to the chain's policy."""
    if rule is None:
        return RuleRef(rulebase.name, chain.name, "policy", chain.policy_where)
    return RuleRef(rulebase.name, chain.name, rule.number, rule.where)


class Found(Struct, frozen=True):
    """Something that is wrong.

    detail: a sentence; ``{family}`` stands for the address families concerned
    subject: what the finding is about, in a form that changes only when that does; the fingerprint is made of it.
        Answers with one subject that speak of different families become one finding.
    where: the lines it rests on, the most decisive first
    family: the address family it was found in, None if that does not matter
    proof: a packet that shows it, or what finds one, which is asked once it is known that the finding is told by itself
    packet: what proves it where no single program does
    who: who can use it, by a word of `Who`; reports order findings of one severity by that
    name: where the findings of a check are counted together, what this one is about in a few words
    of: of how many it is one, 0 where that says nothing
    """

    detail: str
    subject: str
    where: tuple[Span, ...] = ()
    rules: tuple[RuleRef, ...] = ()
    proof: Proof | Callable[[], Proof] | None = None
    severity: Severity | None = None
    family: int | None = None
    packet: Packet | None = None
    who: Who | None = None
    name: str = ""
    of: int = 0


class Passed(Struct, frozen=True):
    """What was looked at and is as it should be."""

    because: str


class CannotTell(Struct, frozen=True):
    """Facts are missing; `because` names them and what would settle it."""

    because: str


class NotApplicable(Struct, frozen=True):
    """The question does not arise on this device."""

    because: str


Answer = Found | Passed | CannotTell | NotApplicable


def without_rules(device: Device) -> Answer:
    """What there is to say of rules where there is none: chains that are there and empty leave nothing to ask for."""
    if any(chain.base is not None for base in device.rulebases for chain in base.chains):
        return NotApplicable("no rule is written: the chains are empty")
    return CannotTell("the export holds no rules")


class Subject(Struct, frozen=True, dict=True):
    """What a check looks at: a device, what is computed of it, and the parameters in force."""

    study: Study
    params: Mapping[str, Any] = field(default_factory=dict)

    @property
    def device(self) -> Device:
        return self.study.device

    @property
    def programs(self) -> Programs:
        return self.study.programs


class Need(Struct, frozen=True):
    """What a check stands on, in words, and what it answers where that is missing; None where it is there."""

    words: str
    missing: Callable[[Subject], Answer | None]


class Check(Struct, frozen=True):
    """A check of the catalogue.

    how: what is looked at, and how the outcome follows from it
    needs: dotted names of the settings of `Device` without which the answer is "cannot tell"
    asks: what else must be there; what is missing first is the answer
    controls: NIST SP 800-53 Rev. 5 control numbers
    fix: advice; names of parameters in braces are filled in
    together: of findings that are one statement on a device, what is said of their number: "rules have no description"
    """

    id: str
    title: str
    severity: Severity
    controls: tuple[str, ...]
    why: str
    how: str
    fix: str
    run: Callable[[Subject], Iterator[Answer]]
    needs: tuple[str, ...] = ()
    params: tuple[Param, ...] = ()
    together: str = ""
    asks: tuple[Need, ...] = ()

    @property
    def area(self) -> Area:
        return Area(self.id.partition(".")[0])

    def defaults(self) -> dict[str, Any]:
        return {param.name: param.default for param in self.params}


def check(
    *,
    id: str,
    title: str,
    severity: Severity,
    controls: tuple[str, ...],
    why: str,
    how: str,
    fix: str,
    needs: tuple[str, ...] = (),
    params: tuple[Param, ...] = (),
    together: str = "",
    asks: tuple[Need, ...] = (),
) -> Callable[[Callable[[Subject], Iterator[Answer]]], Check]:
    """Make a `Check` of the function below."""

    def wrap(run: Callable[[Subject], Iterator[Answer]]) -> Check:
        return Check(id, title, severity, controls, why, how, fix, run, needs, params, together, asks)

    return wrap


def lines_of(step: Step) -> tuple[Span, ...]:
    """The lines that make a step decide, its own first, then the jumps that choose the packets which get to it.

    A jump that takes every packet chooses none; in files of programs that build chains by themselves most are such. Where the
    step's own rule takes every packet, the jump chose them, and comes first.
    """
    own = () if step.where is None else (step.where,)
    chosen = tuple(rule.where for _, rule in step.via if _chooses(rule))
    return (*own, *chosen) if step.rule is None or step.rule.made or _chooses(step.rule) else (*chosen, *own)


def _chooses(rule: Rule) -> bool:
    return bool(rule.match.conditions or rule.qualifiers or rule.marks)


def decisive_steps(proof: Proof) -> list[Step]:
    """The steps a finding rests on: not what a program puts in everybody's way by itself, unless that decides."""
    own = [(r := s.rule) is not None and (r.shipped or r.built_in or r.implied) for s in proof.steps]
    return [step for step, its in zip(proof.steps, own, strict=True) if not its or step is proof.steps[-1]]


def finding_from(proof: Proof, detail: str, subject: str = "", severity: Severity | None = None) -> Found:
    """A finding that rests on the steps which decide a packet; what is in braces stays for the families."""
    last = proof.steps[-1]
    decisive = decisive_steps(proof)
    if not proof.certain and any(q.name in RATES for step in proof.steps if step.rule for q in step.rule.qualifiers):
        detail = detail.removesuffix(".") + ", within a rate limit."
    elif hours := hours_of(proof):
        detail = detail.removesuffix(".") + f", at its hours ({hours[0]})."
    return Found(
        detail=detail,
        subject=subject or rule_subject(last.chain, last.rule),
        where=tuple(dict.fromkeys(where for step in reversed(decisive) for where in lines_of(step))),
        rules=tuple(refer(s.rulebase, s.chain, s.rule) for s in reversed(decisive)),
        proof=proof,
        severity=severity,
        family=proof.program.family,
        name=speak(last.chain, last.rule),
    )


def speak(chain: Chain, rule: Rule | None) -> str:
    """``rule 3 of chain INPUT``, with the rule's name where it has one, or what the chain does at its end."""
    if rule is None:
        return f"the {'built-in default' if chain.policy_is_default else 'policy'} of chain {chain.name}"
    name = f" ('{rule.name}')" if rule.name and rule.name != str(rule.number) else ""
    if rule.made:
        return f"line {rule.where.first} of {rule.where.file.rpartition('/')[2]}{name}"
    return f"rule {rule.number}{name} of chain {chain.name}"


def rule_subject(chain: Chain, rule: Rule | None) -> str:
    """The content of a rule, or of a chain's policy, without its number, line or counters."""
    if rule is None:
        return f"{chain.name}: policy {chain.policy}"
    parts = (
        rule.name,
        rule.action,
        rule.action_text,
        rule.target,
        rule.match,
        rule.qualifiers,
        rule.marks,
        rule.comment,
    )
    return f"{chain.name}: {canonical(parts)}"


def canonical(value: object) -> str:
    """A value of the model in a spelling that later versions share: fields that have their default are left out, so that
    a field added tomorrow changes no fingerprint of today."""
    return _speller(type(value))(value)


def _speller_of(kind: type) -> Callable[[Any], str]:
    if kind is tuple:
        return lambda value: f"[{', '.join([_speller(type(part))(part) for part in value])}]"
    if issubclass(kind, Enum):
        return lambda value: str(value.value)
    if not issubclass(kind, Struct):
        return str
    # A field that needs a value has a default equal to nothing.
    names, defaults = kind.__struct_fields__, kind.__struct_defaults__
    usual = tuple(zip(names, (*(NODEFAULT,) * (len(names) - len(defaults)), *defaults), strict=True))

    def spell(value: Struct) -> str:
        described = []
        for name, default in usual:
            part = getattr(value, name)
            if part is not default and part != default:
                described.append(f"{name}={_speller(type(part))(part)}")
        return f"{kind.__name__}({', '.join(described)})"

    # The same services and networks are named in rule after rule.
    return lru_cache(maxsize=10_000)(spell) if kind is Condition else spell


_speller: Callable[[type], Callable[[Any], str]] = cache(_speller_of)
"""What spells values of a kind."""
