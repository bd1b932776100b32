"""A device, and the estate it belongs to."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date

from aiguille.model.ledger import Ledger
from aiguille.model.objects import Addresses, AddressObject, Interface, ServiceObject, ServiceTerm, SetObject, Zone
from aiguille.model.rules import Rulebase
from aiguille.model.settings import Setting, unknown
from aiguille.model.spans import Secret, Source, Span


@dataclass(frozen=True, slots=True)
class ManagementService:
    """A way to manage the device: what it is called, on which protocol and ports, and whether it is encrypted.

    `enabled` is whether the export says it runs at all; `cleartext` is True for protocols that send passwords readable.
    """

    name: str
    terms: tuple[ServiceTerm, ...]
    cleartext: bool
    where: Span | None
    enabled: bool = True


@dataclass(frozen=True, slots=True)
class Account:
    """Somebody who may log in. `sources` is unknown where the export leaves it out, empty where any source will do."""

    name: str
    where: Span
    role: str = ""
    enabled: bool = True
    sources: Setting[tuple[Addresses, ...]] = field(default_factory=unknown)


@dataclass(frozen=True, slots=True)
class Administration:
    """How the device itself is managed.

    lockout_attempts: failed logins until lockout, math.inf where it is off
    lockout_seconds: how long a lockout lasts, math.inf until an administrator lifts it
    idle_minutes: math.inf where sessions are never closed
    """

    services: tuple[ManagementService, ...] = ()
    accounts: tuple[Account, ...] = ()
    lockout_attempts: Setting[float] = field(default_factory=unknown)
    lockout_seconds: Setting[float] = field(default_factory=unknown)
    idle_minutes: Setting[float] = field(default_factory=unknown)


@dataclass(frozen=True, slots=True)
class Logging:
    """What is recorded and where it goes."""

    device_days: Setting[float] = field(default_factory=unknown)
    collectors: Setting[tuple[str, ...]] = field(default_factory=unknown)


@dataclass(frozen=True, slots=True)
class Fact:
    """A setting of the system below the firewall, by the name its own documentation gives it (net.ipv4.ip_forward, say)."""

    name: str
    setting: Setting[str]


@dataclass(frozen=True, slots=True)
class Device:
    """One firewall, in neutral words. Everything read carries the span it was read from."""

    name: str
    dialect: str
    make: str
    sources: tuple[Source, ...]
    ledger: Ledger
    firmware: Setting[str] = field(default_factory=unknown)
    taken_at: Setting[str] = field(default_factory=unknown)
    counters_since: Setting[str] = field(default_factory=unknown)
    interfaces: tuple[Interface, ...] = ()
    zones: tuple[Zone, ...] = ()
    addresses: tuple[AddressObject, ...] = ()
    services: tuple[ServiceObject, ...] = ()
    sets: tuple[SetObject, ...] = ()
    rulebases: tuple[Rulebase, ...] = ()
    administration: Administration = Administration()
    logging: Logging = Logging()
    system: tuple[Fact, ...] = ()
    secrets: frozenset[Secret] = frozenset()
    tags: tuple[str, ...] = ()
    recognised: str = ""

    def zone(self, name: str) -> Zone | None:
        return next((zone for zone in self.zones if zone.name == name), None)

    def text(self, where: Span) -> tuple[str, ...]:
        """The lines of `where` as they were read, with secrets replaced; empty if the file is not one of ours."""
        source = next((source for source in self.sources if source.path == where.file), None)
        if source is None:
            return ()
        lines = list(source.lines[where.first - 1 : where.last])
        hidden = [s for s in self.secrets if s.file == where.file and where.first <= s.line <= where.last]
        for secret in sorted(hidden, reverse=True):
            at = secret.line - where.first
            lines[at] = lines[at][: secret.start] + "[secret]" + lines[at][secret.stop :]
        if where.stop and lines:
            lines[-1] = lines[-1][: where.stop]
            lines[0] = lines[0][where.start :]
        return tuple(lines)


@dataclass(frozen=True, slots=True)
class Failure:
    """An export that could not be read: what it was and the sentence that says why."""

    path: str
    message: str


@dataclass(frozen=True, slots=True)
class Estate:
    """All devices of one engagement, in the order they were named, and what could not be read.

    as_of: the day ages are counted from
    notes: things a user should know that are not failures, a guessed side for instance
    """

    devices: tuple[Device, ...]
    as_of: date
    title: str = ""
    failures: tuple[Failure, ...] = ()
    notes: tuple[str, ...] = ()
