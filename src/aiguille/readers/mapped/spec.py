"""The dialect language: what a `*.dialect.yaml` may say.

A dialect describes a make's export without code: how its text becomes a tree (`structure`), which places of the tree mean
what (`device` to `geo`), what the make does where the export is silent (`missing`, `behaviour`), which statements are left out
for a stated reason (`ignore`), and samples with what they must yield (`examples`). Every docstring below gives, a line a key,
what stands there; docs/dialects.md and the JSON Schema for editors are made from them.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct, field
from msgspec.structs import FieldInfo, fields

Scalar = str | int | bool | float

PathText = str
"""A path, see `paths`; the name tells the loader which texts to check."""

LANGUAGE = 1
"""The version of the language this release reads."""


class DialectEntry(Struct, forbid_unknown_fields=True, rename="kebab", frozen=True):
    """Base of all tables of the language: keys are spelt with hyphens, and unknown ones are refused."""


class Lookup(DialectEntry, frozen=True):
    """Turns a word into another that stands elsewhere, such as an id into a name.

    in: path to the statements to search
    by: the place, from there, that must hold the word
    take: the place, from there, whose word is taken instead
    """

    source: PathText = field(name="in")
    by: PathText
    take: PathText


class Value(DialectEntry, frozen=True):
    """A place with its options; a bare path stands for one without any.

    from: path to the value, or several: the first that is there is taken
    all-of: several places, instead of one; the words of all that are there count, one place after the other
    except: for a condition, a place whose words are taken out again
    book: for names of objects, a place: an object named by its word, a slash and the name counts before one of the name alone
    is: a constant, instead of a place
    join: several places, instead of one; their words are put together
    between: what stands between joined words ("/" for address and mask, "-" for the ends of a range)
    split: the sign that separates several values in one word, or several signs of which any does
    pattern: an RE2 pattern with one group; the group is the value, a word that does not fit is not understood
    format: how the value is written into the name, with {} for the word
    lookup: turns each word into another that stands elsewhere
    words: the word table that turns the make's words into ours
    missing: what the make does if nothing stands there; the value then counts as the make's default
    any: words that stand for "no restriction"
    never: words that stand for "never", or "without limit"
    negated-by: the word, first sign of a word, or first words of a cell, that turn a condition round; or several of them
    negated-each: whether such a sign may stand before some words only, which are then taken out of the others
    negated-if: a place that turns the condition round if it is there, unless its word is no, false, off or 0
    unit: what a bare number counts (seconds, minutes, hours, days)
    wildcard: the mask behind the address marks the free bits instead of the fixed ones
    date: how a date is written, in the signs of strftime(3); it is turned into year-month-day
    """

    source: PathText | tuple[PathText, ...] | None = field(name="from", default=None)
    constant: Scalar | tuple[Scalar, ...] | None = field(name="is", default=None)
    all_of: tuple[PathText, ...] = ()
    excluded: PathText | None = field(name="except", default=None)
    book: PathText | None = None
    join: tuple[PathText, ...] = ()
    between: str = "/"
    split: str | tuple[str, ...] = ""
    pattern: str = ""
    format: str = ""
    lookup: Lookup | None = None
    words: str | None = None
    missing: Scalar | None = None
    any: tuple[str, ...] = ()
    never: tuple[str, ...] = ()
    negated_by: str | tuple[str, ...] | None = None
    negated_each: bool = False
    negated_if: PathText | None = None
    unit: Literal["seconds", "minutes", "hours", "days"] | None = None
    wildcard: bool = False
    date: str = ""


Where = str | Value


class Block(DialectEntry, frozen=True):
    """Two marks.

    opens: the mark it begins with
    closes: the mark it ends with
    """

    opens: Annotated[str, Meta(min_length=1)]
    closes: Annotated[str, Meta(min_length=1)]


class Phrase(DialectEntry, frozen=True):
    """A block that a statement opens by its first word and an end word closes.

    opens: the first words of statements that open one
    closes: the end words
    """

    opens: tuple[str, ...]
    closes: tuple[str, ...]


class Heading(DialectEntry, frozen=True):
    """Lines that begin a section, which lasts until the next.

    pattern: an RE2 pattern for the whole line; group 1 is the section's name
    split: the sign that separates the levels of a path in that name ("/" for 'net/addresses')
    """

    pattern: str
    split: str = ""


class Keyword(DialectEntry, frozen=True):
    """A word, or several in a row, that says what the next words of a sentence are.

    said: how it is written, in one or more ways; several words apart by blanks; its own name if nothing is given
    takes: none (its own last word is its value), word (the next one, whatever it is), words (all up to the next keyword),
        or rest (all to the end of the statement)
    """

    said: tuple[str, ...] = ()
    takes: Literal["none", "word", "words", "rest"] = "words"


class Sentence(DialectEntry, frozen=True):
    """Statements whose words are sorted by keywords. What a keyword takes becomes a statement inside, under the keyword's name; words
    in quotes or within a list are never keywords.

    of: first words of the statements; none for all that no other sentence is for
    keywords: by our name for each
    fillers: words and signs between the values of a keyword that say nothing, "and" for instance; also at the end of a word
    """

    of: tuple[str, ...] = ()
    keywords: dict[str, Keyword] = {}
    fillers: tuple[str, ...] = ()


class TextStructure(DialectEntry, frozen=True, tag_field="family", tag="text"):
    """How text becomes statements: one a line, unless a list, block or continuation goes on or a separator ends it.

    comments: marks that begin a comment where a word would begin
    quotes: signs that hold a word with spaces together; a closing one may stand lines below
    escape: the sign that makes the next one plain within quotes
    continuation: the sign at the end of a line that the next belongs to
    continues: the sign at the start of a line that belongs to the one above
    separator: signs that end a statement before the line does
    block: one-sign marks around the statements inside another
    list: one-sign marks around several words that belong to the statement before
    indentation: whether lines that stand deeper belong to the one above
    phrases: blocks with an opening word and an end word
    headings: lines that begin a section
    pairs: the sign between key and value of words such as colour=red, which become statements inside theirs
    raw: marks around text that is taken as it stands over several lines (keys, greetings)
    numbered: what to call statements that begin with a number, as in a numbered list; the number becomes their first word
    sentences: statements whose words are sorted by keywords
    """

    comments: tuple[str, ...] = ()
    quotes: tuple[str, ...] = ('"',)
    escape: str = "\\"
    continuation: str = ""
    continues: str = ""
    separator: str = ""
    block: Block | None = None
    list: Block | None = None
    indentation: bool = False
    phrases: tuple[Phrase, ...] = ()
    headings: Heading | None = None
    pairs: str = ""
    raw: Block | None = None
    numbered: str = ""
    sentences: tuple[Sentence, ...] = ()

    def marks(self) -> str:
        """All signs that are words by themselves."""
        pairs = [b for b in (self.block, self.list) if b is not None]
        return self.separator + "".join(b.opens + b.closes for b in pairs)


class IniStructure(DialectEntry, frozen=True, tag_field="family", tag="ini"):
    """Sections in brackets and assignments below them.

    comments: marks that begin a comment at the start of a line
    assigns: signs between key and value
    """

    comments: tuple[str, ...] = ("#", ";")
    assigns: tuple[str, ...] = ("=", ":")


class JsonStructure(DialectEntry, frozen=True, tag_field="family", tag="json"):
    """JSON: keys name children, the values of an array are children of the same name (`item` in an array of arrays)."""


class YamlStructure(DialectEntry, frozen=True, tag_field="family", tag="yaml"):
    """YAML, as JSON."""


class XmlStructure(DialectEntry, frozen=True, tag_field="family", tag="xml"):
    """XML: elements and their attributes name children; text is one word. Namespaces are left out of names."""


class Table(DialectEntry, frozen=True):
    """A table of a sheet. Its rows are statements `row`, with a child for each filled cell.

    called: other names the table goes by; the sheet's name, or a row of its own above the headings, shows it
    columns: our name of each column, and other headings it goes by
    instead: headings that stand for a column where no other heading does; they may be other columns' too, which then go without
    needs: columns without which a table is none of this kind, whatever it is called
    neutral: words that say nothing in a column whose heading is not known; such a cell goes to the column `aside`
    """

    called: tuple[str, ...] = ()
    columns: dict[str, tuple[str, ...]] = {}
    instead: dict[str, tuple[str, ...]] = {}
    needs: tuple[str, ...] = ()
    neutral: tuple[str, ...] = ()


class SheetStructure(DialectEntry, frozen=True, tag_field="family", tag="sheet"):
    """Tables with a row of headings: CSV, TSV, semicolons, or a workbook.

    tables: the tables by our name; one that is not named in the file is the first
    device-column: our name of the column of the first table that says whose row it is; the rows of each device then stand below
        a statement `device`, beside its name under that column's name, and there is one such statement in any case
    """

    tables: dict[str, Table]
    device_column: str = ""


class Recognise(DialectEntry, frozen=True):
    """How an export of the make is known: by what is given here, all of it.

    first-lines: an RE2 pattern found in one of the first twenty lines
    columns: names of columns that a sheet's headings must hold
    """

    first_lines: str = ""
    columns: tuple[str, ...] = ()


class Devices(DialectEntry, frozen=True):
    """For exports that hold several devices.

    at: path to the devices; all other paths start at one of these
    template: path, from the device, to what it falls back on, or the name of that to be looked up
    templates: path to the templates if `template` gives a name
    by: the place in a template that holds its name
    """

    at: PathText
    template: PathText | None = None
    templates: PathText | None = None
    by: PathText | None = None


class DeviceMap(DialectEntry, frozen=True):
    """What is said of the device as a whole.

    name: its name
    firmware: the release it runs
    taken-at: when the export was made
    counters-since: since when hits are counted
    running-for: how long the device has been running when the export was made; where nothing says since when hits are counted, they
        are counted since then (a bare number counts seconds unless `unit` says otherwise)
    flood-protection: whether half-open connections are limited
    update-waiting: the release that waits to be installed
    updates-itself: whether it installs updates by itself
    backed-up: when its configuration was last backed up
    time-sources: whom it asks the time
    loads-rules: whether the rules are put in place when it starts
    """

    name: Where | None = None
    firmware: Where | None = None
    taken_at: Where | None = None
    counters_since: Where | None = None
    running_for: Where | None = None
    flood_protection: Where | None = None
    update_waiting: Where | None = None
    updates_itself: Where | None = None
    backed_up: Where | None = None
    time_sources: Where | None = None
    loads_rules: Where | None = None


class InterfaceMap(DialectEntry, frozen=True):
    """Network interfaces.

    at: path to each
    name: its name
    comment: what it is for
    addresses: its own addresses, with prefix length or mask
    zone: the zone it is in
    services: names of the device's own services that answer on it
    enabled: whether it is in use
    """

    at: PathText
    name: Where
    comment: Where | None = None
    addresses: Where | None = None
    zone: Where | None = None
    services: Where | None = None
    enabled: Where | None = None


class ZoneMap(DialectEntry, frozen=True):
    """Zones, interface groups, networks with a purpose.

    at: path to each
    name: its name
    side: outside, inside, dmz, management or guest, by a word table
    interfaces: names of its interfaces, where these do not name their zone
    networks: the addresses behind it, where its interfaces do not show
    comment: what it is for
    """

    at: PathText
    name: Where
    side: Where | None = None
    interfaces: Where | None = None
    networks: Where | None = None
    comment: Where | None = None


class AddressMap(DialectEntry, frozen=True):
    """Address objects and groups.

    at: path to each
    name: its name
    members: hosts, prefixes, ranges, masked addresses, or names of other objects
    excluded: what is taken out again
    comment: what it is for
    kind: single; group (members may be names); hostname, country or hardware (addresses the export does not state)
    derived: whether the statement is no object of the export, but one for reading rules by; the checks on objects pass it over
    """

    at: PathText
    name: Where
    members: Where
    excluded: Where | None = None
    comment: Where | None = None
    kind: Literal["single", "group", "hostname", "country", "hardware"] = "single"
    derived: bool = False


class ServiceMap(DialectEntry, frozen=True):
    """Services, port groups and service groups.

    at: path to each
    name: its name
    protocol: protocol by name or number; TCP and UDP if there is no place for it
    destination-ports: ports and ranges
    source-ports: ports and ranges
    icmp: message types, by name or number
    members: names of other services, for a group
    comment: what it is for
    derived: whether the statement is no service of the export, but one for reading rules by; the checks on objects pass it over
    """

    at: PathText
    name: Where
    protocol: Where | None = None
    destination_ports: Where | None = None
    source_ports: Where | None = None
    icmp: Where | None = None
    members: Where | None = None
    comment: Where | None = None
    derived: bool = False


class ScheduleMap(DialectEntry, frozen=True):
    """Times at which rules hold. They are shown and make a rule one that may match.

    at: path to each
    name: its name
    times: the words that show the times
    """

    at: PathText
    name: Where
    times: Where | None = None


class QualifierMap(DialectEntry, frozen=True):
    """A condition of a rule that is not computed: the rule then may match.

    name: what to call it ("user", "rate limit")
    from: where it stands
    any: words that stand for "no restriction"
    """

    name: str
    source: PathText = field(name="from")
    any: tuple[str, ...] = ()


class RuleMap(DialectEntry, frozen=True):
    """The fields of a rule, from its statement.

    action: accept, drop, reject, return, jump, goto or continue, by a word table
    target: the chain of a jump or goto
    chain: the chain the rule stands in, where a rule base has several
    name: what the export calls the rule
    comment: its description
    enabled: whether it is switched on
    in-interface: interfaces it comes in by
    out-interface: interfaces it leaves by
    in-zone: zones it comes from
    out-zone: zones it goes to
    source: addresses and names of address objects
    destination: addresses and names of address objects
    service: names of services, or protocol/port
    protocol: protocols by name or number
    source-ports: ports, ranges, names of port groups
    destination-ports: ports, ranges, names of port groups
    icmp: message types
    states: new, established, related or invalid, by a word table
    translated: whether its destination must have been translated before, or must not
    logged: whether hits are recorded
    log-prefix: what the record begins with
    hits: packets or connections counted
    last-hit: when it was last hit
    schedule: the times at which it holds
    to-address: for a translation, the new address
    to-ports: for a translation, the new port
    requester: who asked for it
    ticket: under which number
    expires: until when it is meant
    created-by: the account that made it
    created-at: when it was made
    changed-by: the account that changed it last
    changed-at: when that was
    qualifiers: conditions that are not computed
    """

    action: Where | None = None
    target: Where | None = None
    chain: Where | None = None
    name: Where | None = None
    comment: Where | None = None
    enabled: Where | None = None
    in_interface: Where | None = None
    out_interface: Where | None = None
    in_zone: Where | None = None
    out_zone: Where | None = None
    source: Where | None = None
    destination: Where | None = None
    service: Where | None = None
    protocol: Where | None = None
    source_ports: Where | None = None
    destination_ports: Where | None = None
    icmp: Where | None = None
    states: Where | None = None
    translated: Where | None = None
    logged: Where | None = None
    log_prefix: Where | None = None
    hits: Where | None = None
    last_hit: Where | None = None
    schedule: Where | None = None
    to_address: Where | None = None
    to_ports: Where | None = None
    requester: Where | None = None
    ticket: Where | None = None
    expires: Where | None = None
    created_by: Where | None = None
    created_at: Where | None = None
    changed_by: Where | None = None
    changed_at: Where | None = None
    qualifiers: tuple[QualifierMap, ...] = ()


class Unmatched(DialectEntry, frozen=True):
    """What happens to packets no rule matches.

    action: accept, drop or reject, or unknown while nobody has found out; `missing` gives the make's way where the export
        does not say
    logged: whether that is recorded
    """

    action: Where
    logged: Where | None = None


class RuleList(DialectEntry, frozen=True):
    """One list of a rule base.

    at: path to each rule, or several paths, one list after the other
    order: the place of a number that shows the order, where the export's is another
    rule: its fields
    shares: whether the statement says other things too, so that what else it holds is no condition of the rule (an
        interface with a switch, the pair of zones that a closing rule is for)
    """

    at: PathText | tuple[PathText, ...]
    rule: RuleMap
    order: Where | None = None
    shares: bool = False


Way = Literal[
    "to-device",
    "through-device",
    "from-device",
    "arriving",
    "destination-translation",
    "source-translation",
]


class ChainMap(DialectEntry, frozen=True):
    """A chain at which packets begin.

    name: as the rules call it
    direction: as for a rule base
    unmatched: what happens at its end
    also: other words of rules that put them in it, each perhaps in other chains too
    """

    name: str
    direction: Way
    unmatched: Unmatched
    also: tuple[str, ...] = ()


class RulebaseMap(DialectEntry, frozen=True):
    """A rule base: one ordered list, several lists one after the other, or chains.

    name: what to call it
    direction: to-device, through-device, from-device; arriving (to and through the device, before it is known which);
        destination-translation (port forwards) or source-translation
    at: path to each rule; short for one list
    rule: the fields of a rule; short for one list
    order: the place of a number that shows the order, where the export's is another; short for one list
    lists: several lists, evaluated one after the other; one whose fields are constants is a rule the make has built in
    chains: for rules that name their chain, the chains at which packets begin; all others are reached by jumps
    decides: whether the first or the last rule that matches decides
    unmatched: what happens where no rule matches
    leaving: words of rules, for their chain, by which an interface or zone they come in by is the one they leave by where none is told
    itself: words for the device as source or destination; in a rule base with chains such a rule stands in the chain at which
        that traffic begins, and one for any destination in that too, unless it names its chain
    """

    name: str
    direction: Way | None = None
    at: PathText | tuple[PathText, ...] | None = None
    rule: RuleMap | None = None
    order: Where | None = None
    lists: tuple[RuleList, ...] = ()
    chains: tuple[ChainMap, ...] = ()
    decides: Literal["first", "last"] = "first"
    unmatched: Unmatched | None = None
    leaving: tuple[str, ...] = ()
    itself: tuple[str, ...] = ()

    def all_lists(self) -> tuple[RuleList, ...]:
        if self.at is not None and self.rule is not None:
            return (RuleList(self.at, self.rule, self.order), *self.lists)
        return self.lists


class ServiceEntry(DialectEntry, frozen=True):
    """The ways of managing the device.

    at: path to each, or several
    name: its name, a key of `known`
    ports: the ports it listens on; the usual ones of `known` if none are given
    enabled: whether it runs
    sources: the addresses it answers to
    """

    at: PathText | tuple[PathText, ...]
    name: Where
    ports: Where | None = None
    enabled: Where | None = None
    sources: Where | None = None


class KnownService(DialectEntry, frozen=True):
    """What a service of this name is.

    protocol: tcp, udp or icmp
    port: its usual port
    icmp: its message type
    cleartext: whether it sends passwords readable
    managing: whether one can manage the device by it
    """

    protocol: str
    port: int | None = None
    icmp: str | None = None
    cleartext: bool = False
    managing: bool = True


class AccountMap(DialectEntry, frozen=True):
    """Who may log in.

    at: path to each
    name: its name
    role: what it may do
    sources: the addresses it may come from
    enabled: whether it can log in
    second-factor: whether it needs more than a password
    last-used: when it last logged in
    """

    at: PathText
    name: Where
    role: Where | None = None
    sources: Where | None = None
    enabled: Where | None = None
    second_factor: Where | None = None
    last_used: Where | None = None


class Management(DialectEntry, frozen=True):
    """How the device itself is managed.

    known: what the services of the device are, by the name the export gives them
    services: which of them run
    accounts: who may log in
    lockout-attempts: failed logins until lockout
    lockout-seconds: how long a lockout lasts
    idle-minutes: when an idle session is closed (a bare number counts seconds unless `unit` says otherwise)
    password-length: least length of a password
    password-classes: how many classes of characters a password must mix
    redirects: whether the cleartext web page sends visitors to the encrypted one
    strong-ciphers: whether outdated ciphers are refused
    recovery-account: whether the maker's recovery account can log in
    link-layer: whether the device can be managed by hardware address
    discovery: whether it tells its neighbours on the link what it is
    """

    known: dict[str, KnownService] = {}
    services: ServiceEntry | tuple[ServiceEntry, ...] | None = None
    accounts: AccountMap | tuple[AccountMap, ...] | None = None
    lockout_attempts: Where | None = None
    lockout_seconds: Where | None = None
    idle_minutes: Where | None = None
    password_length: Where | None = None
    password_classes: Where | None = None
    redirects: Where | None = None
    strong_ciphers: Where | None = None
    recovery_account: Where | None = None
    link_layer: Where | None = None
    discovery: Where | None = None


class LoggingMap(DialectEntry, frozen=True):
    """What is recorded and for how long.

    device-days: how long records stay on the device
    collectors: where they are sent
    collector-days: how long they stay there
    """

    device_days: Where | None = None
    collectors: Where | None = None
    collector_days: Where | None = None


class PortalMap(DialectEntry, frozen=True):
    """The portal by which people from afar come in.

    at: path to it
    enabled: whether it is open
    sources: the addresses it answers to
    """

    at: PathText
    enabled: Where | None = None
    sources: Where | None = None


class GeoMap(DialectEntry, frozen=True):
    """Filters by country.

    at: path to each
    name: its name
    comment: what it is for
    countries: two-letter codes (ISO 3166) or names
    allows: whether only these are let through, instead of refused
    inward: whether it looks at what comes from outside
    outward: whether it looks at what goes there
    enabled: whether it is switched on
    logged: whether what it refuses is recorded
    before-rules: whether it stands ahead of the rules
    exceptions: addresses let through all the same
    """

    at: PathText
    countries: Where
    name: Where | None = None
    comment: Where | None = None
    allows: Where | None = None
    inward: Where | None = None
    outward: Where | None = None
    enabled: Where | None = None
    logged: Where | None = None
    before_rules: Where | None = None
    exceptions: Where | None = None


class ToDevice(DialectEntry, frozen=True):
    """How the make guards its own services, where no rule base does.

    action: what happens to all other traffic to the device
    services-on-interfaces: services answer on the interfaces that name them
    sources-from-accounts: and only to the addresses from which some account may log in
    logged: whether refusals are recorded
    """

    action: Literal["accept", "drop", "reject"]
    services_on_interfaces: bool = False
    sources_from_accounts: bool = False
    logged: Where | None = None


class Behaviour(DialectEntry, frozen=True):
    """What the make does by itself.

    to-device: how it guards its own services
    from-device: what happens to traffic it sends itself
    services-keep-sources: whether services refuse addresses outside their own list, whatever the rules say
    well-known-services: whether rules may name services by their well-known names, without a definition
    labelled-addresses: whether an address may stand beside a name for it, as people write in tables
    sides-as-addresses: whether a word such as internet or lan may stand for an address, in an export that shows no zones
        and interfaces; it then means the zone of that name
    """

    to_device: ToDevice | None = None
    from_device: Literal["accept", "drop", "reject"] | None = None
    services_keep_sources: bool = False
    well_known_services: bool = False
    labelled_addresses: bool = False
    sides_as_addresses: bool = False


class Ignore(DialectEntry, frozen=True):
    """Statements that are left out.

    at: path to them; all below is left out with them
    why: the reason, which is shown
    """

    at: PathText
    why: str


class Example(DialectEntry, frozen=True):
    """A piece of an export, and what must come of it.

    name: what it shows
    text: the piece, as it would stand in a file
    holds: what the device must hold: keys as in `read --json`, or `rules` with the lines of `rules --json`; what is not
        named is not compared
    unread: how many lines are not understood
    """

    name: str
    text: str
    holds: dict[str, Any] = {}
    unread: int = 0


Structure = TextStructure | IniStructure | JsonStructure | YamlStructure | XmlStructure | SheetStructure


class LogMap(DialectEntry, frozen=True):
    """The make's log lines: what each says of a packet and what was done with it. `aiguille dialect check --log` reads them.

    structure: how a line becomes a tree; each line is read by itself
    at: path to each record; "*" for a line that is one statement
    time: when it was
    verdict: accept, drop or reject, by a word table
    rule: the number or name of the rule that decided
    prefix: the text by which a rule marks its records
    in-interface: the interface it came in by
    out-interface: the interface it left by
    source: its source address
    destination: its destination address
    protocol: its protocol by name or number
    source-port: its source port
    destination-port: its destination port
    """

    structure: Structure
    source: Where
    destination: Where
    at: PathText = "*"
    time: Where | None = None
    verdict: Where | None = None
    rule: Where | None = None
    prefix: Where | None = None
    in_interface: Where | None = None
    out_interface: Where | None = None
    protocol: Where | None = None
    source_port: Where | None = None
    destination_port: Where | None = None


class Dialect(DialectEntry, frozen=True):
    """A whole dialect file.

    dialect: its name: small letters, digits and hyphens
    make: what to call the make
    about: what it reads, in a sentence or two
    language: the version of this language, 1
    recognise: how an export is known
    structure: how its bytes become a tree
    words: word tables: the make's word, then ours
    words-ignore-case: whether capital and small letters are alike in word tables
    devices: for exports that hold several devices
    device: the device as a whole
    interfaces: network interfaces
    zones: zones
    addresses: address objects and groups
    services: services and groups
    schedules: times
    rulebases: rules
    management: how the device is managed
    portal: the way in for people from afar
    geo: filters by country
    logging: what is recorded
    log: the make's log lines
    behaviour: what the make does by itself
    advice: how what is found is mended on this make, by the check's id
    secrets: paths to words that must never be shown
    ignore: statements left out, with the reason
    examples: samples that test the file
    """

    dialect: Annotated[str, Meta(pattern=r"^[a-z][a-z0-9-]*$")]
    make: str
    language: Literal[1]
    recognise: Recognise
    structure: Structure
    about: str = ""
    words: dict[str, dict[str, Scalar]] = {}
    words_ignore_case: bool = False
    devices: Devices | None = None
    device: DeviceMap = DeviceMap()
    interfaces: InterfaceMap | tuple[InterfaceMap, ...] = ()
    zones: ZoneMap | tuple[ZoneMap, ...] = ()
    addresses: tuple[AddressMap, ...] = ()
    services: tuple[ServiceMap, ...] = ()
    schedules: tuple[ScheduleMap, ...] = ()
    rulebases: tuple[RulebaseMap, ...] = ()
    management: Management = Management()
    portal: PortalMap | None = None
    geo: tuple[GeoMap, ...] = ()
    logging: LoggingMap = LoggingMap()
    log: LogMap | None = None
    behaviour: Behaviour = Behaviour()
    advice: dict[str, str] = {}
    secrets: tuple[PathText, ...] = ()
    ignore: tuple[Ignore, ...] = ()
    examples: tuple[Example, ...] = ()


def many(given: Any) -> tuple[Any, ...]:
    """One mapping or several, as several."""
    return () if given is None else given if isinstance(given, tuple) else (given,)


@cache
def fields_of(kind: type[Struct]) -> tuple[FieldInfo, ...]:
    """The fields of a table of the language."""
    return fields(kind)


@cache
def field_kinds(kind: type[Struct]) -> dict[str, str]:
    """What each field of a table holds, by our name: "path", "place" (a path or a `Value`), or "" for all else."""
    out = {}
    for base in reversed(kind.__mro__):
        for name, described in getattr(base, "__annotations__", {}).items():
            text = str(described)
            out[name] = "path" if "PathText" in text else "place" if "Where" in text else ""
    return out


def paths_of(given: Struct, prefix: str = "") -> Iterator[tuple[str, str]]:
    """Every path of a dialect that must lead somewhere, with the key it stands under."""
    kinds = field_kinds(type(given))
    for one in fields_of(type(given)):
        value = getattr(given, one.name)
        key = f"{prefix}{one.encode_name}"
        parts = value if isinstance(value, tuple) else (value,)
        for number, part in enumerate(parts):
            place = f"{key}/{number + 1}" if isinstance(value, tuple) and len(parts) > 1 else key
            if isinstance(part, Lookup):
                yield f"{place}/in", part.source
            elif isinstance(part, Struct) and not isinstance(part, Devices | Example | LogMap):
                yield from paths_of(part, f"{place}/")
            elif isinstance(part, str) and part and kinds.get(one.name):
                yield place.removesuffix("/from"), part
