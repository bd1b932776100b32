"""A device, and the estate it belongs to."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

from msgspec import Struct, field

from aiguille.model.ledger import Ledger
from aiguille.model.locations import Locations
from aiguille.model.masking import mask_secrets
from aiguille.model.objects import (
    Addresses,
    AddressObject,
    Interface,
    MaskedAddress,
    Named,
    Route,
    ServiceObject,
    ServiceTerm,
    SetObject,
    Zone,
)
from aiguille.model.rules import Rulebase
from aiguille.model.settings import Setting, unknown
from aiguille.model.spans import Secret, Source, Span


class ManagementService(Struct, frozen=True):
    """A way to manage the device: what it is called, on which protocol and ports, and whether it is encrypted.

    `enabled` is whether the export says it runs at all; `cleartext` is True for protocols that send passwords readable.
    `sources` are the addresses it answers to: empty where any will do, unknown where the export leaves that to rules.
    """

    name: str
    terms: tuple[ServiceTerm, ...]
    cleartext: bool
    where: Span | None
    enabled: bool = True
    sources: Setting[tuple[Addresses, ...]] = field(default_factory=unknown)


class Account(Struct, frozen=True):
    """Somebody who may log in. `sources` is unknown where the export leaves it out, empty where any source will do.

    second_factor: whether a login needs more than a password
    last_used: when it last logged in, as the export writes it
    no_password: whether it has none, so that nothing is asked for
    """

    name: str
    where: Span
    role: str = ""
    enabled: bool = True
    sources: Setting[tuple[Addresses, ...]] = field(default_factory=unknown)
    second_factor: Setting[bool] = field(default_factory=unknown)
    last_used: Setting[str] = field(default_factory=unknown)
    no_password: Setting[bool] = field(default_factory=unknown)


class Administration(Struct, frozen=True):
    """How the device itself is managed.

    lockout_attempts: failed logins until lockout, math.inf where it is off
    lockout_seconds: how long a lockout lasts, math.inf until an administrator lifts it
    idle_minutes: math.inf where sessions are never closed
    password_length: least number of characters; password_classes: how many of small and capital letters, digits and signs a
        password must mix
    redirects: whether the cleartext web page sends visitors on to the encrypted one
    strong_ciphers: whether outdated ciphers and protocol versions are refused
    recovery_account: whether an account the maker built in, for emergencies, can log in
    link_layer: whether the device can be managed by hardware address, below every rule on IP
    discovery: whether it tells its neighbours on the link what it is
    """

    services: tuple[ManagementService, ...] = ()
    accounts: tuple[Account, ...] = ()
    lockout_attempts: Setting[float] = field(default_factory=unknown)
    lockout_seconds: Setting[float] = field(default_factory=unknown)
    idle_minutes: Setting[float] = field(default_factory=unknown)
    password_length: Setting[float] = field(default_factory=unknown)
    password_classes: Setting[float] = field(default_factory=unknown)
    redirects: Setting[bool] = field(default_factory=unknown)
    strong_ciphers: Setting[bool] = field(default_factory=unknown)
    recovery_account: Setting[bool] = field(default_factory=unknown)
    link_layer: Setting[bool] = field(default_factory=unknown)
    discovery: Setting[bool] = field(default_factory=unknown)


class Logging(Struct, frozen=True):
    """What is recorded and where it goes. Days are how long records are kept, math.inf without limit.

    elsewhere: hosts that other records are sent to while those of the rules are sent nowhere
    """

    device_days: Setting[float] = field(default_factory=unknown)
    collector_days: Setting[float] = field(default_factory=unknown)
    collectors: Setting[tuple[str, ...]] = field(default_factory=unknown)
    elsewhere: tuple[str, ...] = ()


class Fact(Struct, frozen=True):
    """A setting of the system below the firewall, by the name its own documentation gives it (net.ipv4.ip_forward, say)."""

    name: str
    setting: Setting[str]


class Listener(Struct, frozen=True):
    """A socket that waits for connections or packets, at any address but the loopback's."""

    protocol: int
    port: int
    where: Span


class Schedule(Struct, frozen=True):
    """Times at which rules hold, as the export states them."""

    name: str
    text: str
    where: Span


class Portal(Struct, frozen=True):
    """The page or gateway by which people from afar come in. `sources` is empty where any source will do."""

    where: Span | None = None
    enabled: Setting[bool] = field(default_factory=unknown)
    sources: Setting[tuple[Addresses, ...]] = field(default_factory=unknown)


class GeoFilter(Struct, frozen=True):
    """Countries a device refuses or, when `allows`, the only ones it lets through.

    inward, outward: which ways it looks; countries: as the export names them; exceptions: sources let through all the same
    before_rules: whether it stands ahead of the rules
    """

    where: Span
    countries: tuple[str, ...]
    allows: bool = False
    name: str = ""
    comment: str = ""
    enabled: bool = True
    inward: bool = True
    outward: bool = True
    logged: Setting[bool] = field(default_factory=unknown)
    before_rules: Setting[bool] = field(default_factory=unknown)
    exceptions: tuple[Addresses | MaskedAddress | Named, ...] = ()


class Device(Struct, frozen=True):
    """One firewall, in neutral words. Everything read carries the span it was read from.

    flood_protection: whether half-open connections are kept from filling the tables (RFC 4987)
    update_waiting: the release that waits to be installed; updates_itself: whether that happens by itself
    backed_up: when its configuration was last kept somewhere else, as the export writes it
    time_sources: where it gets the time from, empty where it asks nobody
    saved: the rules it would start with, where they are distinguished from those that run
    written: what a program makes of files of its own while `rulebases` are what a dump shows; empty once both are joined
    loads_rules: whether the rules are put in place when it starts
    advice: how a check's fix reads on this make, by the check's id
    listeners: sockets that listen, beyond the loopback; listed: the protocols, by number, of which all of them are stated
    waiting: rule bases that a program which is switched off would load
    routes: where packets to known networks leave; empty where the export states none
    administrators: addresses from which the auditor says that its administrators come
    """

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
    waiting: tuple[Rulebase, ...] = ()
    written: tuple[Rulebase, ...] = ()
    administration: Administration = Administration()
    logging: Logging = Logging()
    schedules: tuple[Schedule, ...] = ()
    portal: Portal = Portal()
    geo_filters: tuple[GeoFilter, ...] = ()
    flood_protection: Setting[bool] = field(default_factory=unknown)
    update_waiting: Setting[str] = field(default_factory=unknown)
    updates_itself: Setting[bool] = field(default_factory=unknown)
    backed_up: Setting[str] = field(default_factory=unknown)
    time_sources: Setting[tuple[str, ...]] = field(default_factory=unknown)
    saved: tuple[Rulebase, ...] | None = None
    loads_rules: Setting[bool] = field(default_factory=unknown)
    advice: tuple[tuple[str, str], ...] = ()
    administrators: tuple[Addresses, ...] = ()
    routes: tuple[Route, ...] = ()
    listeners: tuple[Listener, ...] = ()
    listed: frozenset[int] = frozenset()
    system: tuple[Fact, ...] = ()
    secrets: frozenset[Secret] = frozenset()
    tags: tuple[str, ...] = ()
    recognised: str = ""

    def zone(self, name: str) -> Zone | None:
        return next((zone for zone in self.zones if zone.name == name), None)

    def text(self, where: Span) -> tuple[str, ...]:
        """The lines of `where` as they were read, with secrets replaced; empty if the file is not one of ours.

        What looks like a secret is replaced too: people note them in comments.
        """
        source = next((source for source in self.sources if source.path == where.file), None)
        if source is None:
            return ()
        lines = list(source.lines[where.first - 1 : where.last])
        if where.stop and lines:
            # Behind the last column first: on a single line the others would move.
            lines[-1] = lines[-1][: where.stop]
        hidden = [s for s in self.secrets if s.file == where.file and where.first <= s.line <= where.last]
        begin = where.start if where.stop else 0
        for secret in sorted(hidden, reverse=True):
            at = secret.line - where.first
            if secret.start < len(lines[at]):
                lines[at] = lines[at][: secret.start] + "[secret]" + lines[at][secret.stop :]
                if at == 0 and secret.start < begin:
                    begin += len("[secret]") - (min(secret.stop, begin) - secret.start)
        if begin and lines:
            lines[0] = lines[0][begin:]
        return tuple(map(mask_secrets, lines))


class Failure(Struct, frozen=True):
    """An export that could not be read: what it was and the sentence that says why."""

    path: str
    message: str


class About(Struct, frozen=True):
    """What an engagement says of itself, for the head of a report: for whom, by whom, and what it covers."""

    client: str = ""
    auditor: str = ""
    scope: str = ""


class Estate(Struct, frozen=True, dict=True):
    """All devices of one engagement, in the order they were named, and what could not be read.

    as_of: the day ages are counted from
    notes: things a user should know that are not failures, a guessed side for instance
    locations: which country an address is in, as far as the files given show
    baseline, accepted, answers, claims: files the engagement names or has beside it, empty if there is none
    fail_on: the severity from which on findings make an audit fail, empty if the engagement leaves that open
    """

    devices: Sequence[Device]
    as_of: date
    title: str = ""
    failures: tuple[Failure, ...] = ()
    notes: tuple[str, ...] = ()
    locations: Locations = field(default_factory=Locations)
    baseline: str = ""
    accepted: str = ""
    answers: str = ""
    claims: str = ""
    about: About = About()
    fail_on: str = ""

    @property
    def known(self) -> dict[str, Any]:
        """What was made of the estate once, for whoever asks again; an estate with anything replaced starts without."""
        return self.__dict__
