"""The system below the rules: its release, what it starts with, what the kernel lets pass, and whether siblings are alike."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from typing import TYPE_CHECKING

from msgspec.structs import replace

from aiguille.analysis.alignment import shape
from aiguille.analysis.compare import differences
from aiguille.analysis.edits import Edit, RuleEdit, rule_edits
from aiguille.analysis.effects import Does, effects_apart
from aiguille.analysis.outlines import surroundings
from aiguille.analysis.program import ipv6_is_off
from aiguille.analysis.refusals import drops_forged
from aiguille.analysis.siblings import oddities
from aiguille.analysis.sides import outside_known
from aiguille.baseline import releases
from aiguille.baseline.asking import fact
from aiguille.baseline.catalogue import (
    Answer,
    CannotTell,
    Check,
    Found,
    NotApplicable,
    Of,
    Param,
    Passed,
    Severity,
    Subject,
    check,
    refer,
    speak,
)
from aiguille.baseline.dates import read_date
from aiguille.baseline.wording import by_default, capital, counted, lines, listed
from aiguille.model import Action, Chain, Direction, Rulebase, Span

if TYPE_CHECKING:
    from packaging.version import Version


@check(
    id="system.old-firmware",
    title="The device runs a release that is too old",
    severity=Severity.MEDIUM,
    controls=("SI-2", "CM-2", "RA-5"),
    needs=("firmware",),
    params=(
        Param(
            "releases",
            tuple,
            (),
            "least release for each make",
            "only the auditor knows what is current; none by default",
            Of.RELEASE,
        ),
    ),
    why="Old releases have flaws that are known and used.",
    how="Compares the release with the auditor's table, by the make's name or the dialect's. Without an "
    "entry for the make its age is not "
    "known, and the outcome open.",
    fix="Install a current release.",
)
def old_firmware(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    wanted = None
    for entry in subject.params["releases"]:
        make, _, release = entry.rpartition(":")
        if make.strip().lower() in (device.make.lower(), device.dialect.lower()) or device.firmware.value.startswith(
            make.strip() or "\0"
        ):
            wanted = release.strip()
    runs, least = (_version(device.firmware.value), _version(wanted)) if wanted is not None else (None, None)
    if least is None or runs is None:
        why = "states no least release for" if wanted is None else "and the export do not state comparable releases of"
        yield CannotTell(
            f"the baseline {why} {device.make}; it runs {device.firmware.value}. Set 'releases' of this check"
        )
    elif runs < least:
        yield Found(f"It runs {device.firmware.value}, the least is {wanted}.", "release", lines(device.firmware.where))
    else:
        yield Passed(f"it runs {device.firmware.value}, {wanted} or later is asked for")


def _version(text: str) -> Version | None:
    """The first word of a text that is a version."""
    from packaging.version import InvalidVersion, Version  # few exports state their release

    for word in text.replace("(", " ").split():
        try:
            return Version(word)
        except InvalidVersion:
            continue
    return None


@check(
    id="system.end-of-support",
    title="The system gets no more security updates",
    severity=Severity.HIGH,
    controls=("SI-2", "RA-5"),
    needs=("firmware",),
    params=(
        Param("grace", int, 0, "days", "whoever pays for longer support can say for how long"),
        Param("warn", int, 120, "days before", "a change of release takes a season"),
    ),
    why="Flaws found from that day on stay open, and everybody can read how to use them.",
    how="The release is looked up in a table of the dates on which makers end their free support, with their sources; what ends soon "
    "is a low finding. A release the table does not know is open.",
    fix="Move to a release that is supported, or have its support extended by contract.",
)
def end_of_support(subject: Subject) -> Iterator[Answer]:
    device, as_of = subject.device, subject.study.estate.as_of
    entry = releases.of(device.firmware.value)
    if entry is None:
        yield CannotTell(
            f"the table of releases does not know {device.firmware.value}; look up how long it is supported"
        )
        return
    end = entry.ends + timedelta(days=subject.params["grace"])
    where = lines(device.firmware.where)
    if end < as_of:
        yield Found(f"{entry.name} is supported until {entry.ends} only ({entry.source}).", "end of support", where)
    elif (end - as_of).days <= subject.params["warn"]:
        text = f"{entry.name} is supported until {entry.ends}, which is {counted((end - as_of).days, 'day')} away ({entry.source})."
        yield Found(text, "end of support is near", where, severity=Severity.LOW)
    else:
        yield Passed(f"{entry.name} is supported until {entry.ends} ({entry.source})")


@check(
    id="system.updates",
    title="Updates wait or are not fetched",
    severity=Severity.MEDIUM,
    controls=("SI-2",),
    why="Each day between an update's release and its installation is a day for those who read what it mends.",
    how="A release that waits to be installed is a finding; updates that are not installed by themselves a low one.",
    fix="Install the update; switch on updates by itself, or plan a day a month for them.",
)
def updates(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    waits, itself = device.update_waiting, device.updates_itself
    waiting = (
        waits.known and bool(waits.value) and waits.value != (device.firmware.value if device.firmware.known else "")
    )
    if waiting:
        yield Found(f"Release {waits.value} waits to be installed.", "update waits", lines(waits.where))
    if itself.known and not itself.value:
        yield Found(
            f"It does not update itself{by_default(itself)}.",
            "updates itself",
            lines(itself.where),
            severity=Severity.LOW,
        )
    elif itself.known:
        yield Passed("it updates itself")
    elif waits.known and not waiting:
        yield Passed("no update waits")
    elif not waiting:
        yield CannotTell("the export does not state whether an update waits; ask for the state of updates")


@check(
    id="system.backup",
    title="No recent copy of the configuration is kept elsewhere",
    severity=Severity.LOW,
    controls=("CP-9", "CP-10"),
    needs=("backed_up",),
    params=(Param("days", int, 92, "days", "a quarter; whoever changes rules oftener keeps copies oftener"),),
    why="When the device breaks, or somebody has changed it, nothing shows how it was.",
    how="Asks when the configuration was last kept somewhere else; longer ago than the parameter is a finding. A general host has "
    "no such date.",
    fix="Keep a copy of the configuration elsewhere after every change, and try once a year whether it can be put back.",
)
def backup(subject: Subject) -> Iterator[Answer]:
    kept = subject.device.backed_up
    day = read_date(kept.value)
    if not kept.value or kept.value.lower() in ("never", "none", "no"):
        yield Found(f"No copy of the configuration is kept elsewhere{by_default(kept)}.", "backup", lines(kept.where))
    elif day is None:
        yield CannotTell(f"'{kept.value}' is no date of a copy; ask when the configuration was last backed up")
    elif (days := (subject.study.estate.as_of - day).days) > subject.params["days"]:
        yield Found(f"The configuration was last backed up {counted(days, 'day')} ago.", "backup", lines(kept.where))
    else:
        yield Passed(f"the configuration was backed up {counted(max(days, 0), 'day')} ago")


@check(
    id="system.unsaved",
    title="The rules that run are not those it starts with",
    severity=Severity.HIGH,
    controls=("CM-3", "CM-6", "CP-10"),
    why="The next restart brings another firewall, when nobody is looking.",
    how="Running and stored rules are compared as sets of packets, in every direction and family; a "
    "packet that fares differently is the "
    "proof. Where all fare alike, what rules send elsewhere is compared, which source they hide (medium) and what they record (low). "
    "Rules written otherwise that do the same are no finding.",
    fix="Store the running rules if they are right, or load the stored ones.",
)
def unsaved(subject: Subject) -> Iterator[Answer]:
    device = subject.device
    if device.saved is None:
        yield CannotTell(
            "the export does not hold both the running and the stored rules; add the file the rules are loaded from"
        )
        return
    families = {f for base in device.saved for f in base.families}
    stored = replace(device, rulebases=device.saved)
    running = replace(
        device,
        rulebases=tuple(
            _lent_apart(_only(base, families), device.saved) for base in device.rulebases if base.families & families
        ),
    )
    if found := differences(running, stored, certainly=True):
        described = []
        for one in found:
            now, then = ("accepted" if True in side else "refused" for side in (one.one, one.other))
            described.append(f"'{one.packet.sentence()}' is {now} now and {then} after the next start")
        more = f", and {len(described) - 2} ways more" if len(described) > 2 else ""
        edits = list(filter(_matters, rule_edits(running, stored)))
        yield Found(
            f"{listed(described[:2])}{more}{_only_on_a_side(edits)}.",
            "unsaved",
            lines(*(side.where for edit in edits for side in (edit.before, edit.after) if side is not None))[:6]
            or _begins(device.saved),
            packet=found[0].packet,
        )
    elif apart := effects_apart(running, stored):
        worst = [one for one in apart if one.does is apart[0].does]
        told = [
            f"{speak(one.chain, one.rule)} {one.does} {'now and not after' if one.first else 'only after'} the next start"
            for one in worst[:2]
        ]
        more = f", and {len(apart) - 2} rules more differ" if len(apart) > 2 else ""
        yield Found(
            f"{capital(listed(told))}{more}; what is let through is the same.",
            "unsaved",
            lines(*(one.rule.where for one in apart))[:6],
            severity=_WORTH[worst[0].does],
        )
    elif open_ended := differences(running, stored):
        yield CannotTell(
            f"conditions that cannot be determined leave open whether '{open_ended[0].packet.sentence()}' fares alike after the "
            "next start; `aiguille read` names what was not understood"
        )
    else:
        yield Passed("the stored rules let through exactly what the running ones do, send it on and record it alike")


_WORTH = {Does.SENDS: Severity.HIGH, Does.HIDES: Severity.MEDIUM, Does.RECORDS: Severity.LOW}


def _matters(edit: RuleEdit) -> bool:
    """Whether a rule that decides or changes something itself was edited; programs leave many jumps to empty chains, and chains
    with a default that another program never makes."""
    sides = [side for side in (edit.before, edit.after) if side is not None]
    decides = any(s.action in (Action.ACCEPT, Action.DROP, Action.REJECT) or s.effects for s in sides)
    return decides and (len(sides) > 1 or sides[0].number > 0)


def _lent_apart(base: Rulebase, saved: tuple[Rulebase, ...]) -> Rulebase:
    """A rule base without the rules that another program hangs into it whenever it starts, and that nobody stores."""
    chains = {
        chain.name: chain
        for one in saved
        if one.name == base.name and one.families & base.families
        for chain in one.chains
    }

    def kept(chain: Chain) -> Chain:
        stored = {shape(rule) for rule in chains[chain.name].rules} if chain.name in chains else set()
        return replace(chain, rules=tuple(r for r in chain.rules if not r.shipped or shape(r) in stored))

    return replace(base, chains=tuple(map(kept, base.chains)))


def _only_on_a_side(edits: list[RuleEdit]) -> str:
    """How many rules stand on one side only, as the end of a sentence."""
    described = [
        counted(number, "rule") + how
        for kinds, how in (
            ((Edit.REMOVED,), " running but not stored"),
            ((Edit.ADDED,), " stored but not running"),
            ((Edit.CHANGED, Edit.MOVED), " stored otherwise"),
        )
        if (number := sum(edit.edit in kinds for edit in edits))
    ]
    return f"; {listed(described)}" if described else ""


def _only(base: Rulebase, families: set[int]) -> Rulebase:
    return replace(base, families=frozenset(base.families & families))


def _begins(bases: tuple[Rulebase, ...]) -> tuple[Span, ...]:
    """The line of each base chain, where the stored rules begin."""
    chains: list[Chain] = [chain for base in bases for chain in base.chains if chain.base is not None]
    return lines(*(chain.where for chain in chains))[:4]


@check(
    id="system.start-up",
    title="The rules are not loaded when the device starts",
    severity=Severity.HIGH,
    controls=("CM-6", "SC-24"),
    needs=("loads_rules",),
    why="After a power cut the device comes up open.",
    how="Asks whether the program that loads the rules starts with the system: the list of units, and the program's own switch.",
    fix="Enable the unit that loads the rules, and restart once to see.",
)
def start_up(subject: Subject) -> Iterator[Answer]:
    loads = subject.device.loads_rules
    if loads.value:
        yield Passed("the rules are loaded at start-up")
    else:
        # A firewall that is switched off is one matter: what loads it is switched off with it.
        off = tuple(
            refer(base, chain, None)
            for base in subject.device.rulebases
            for chain in base.chains
            if subject.device.waiting
        )
        yield Found(f"Nothing loads the rules at start-up{by_default(loads)}.", "start-up", lines(loads.where), off)


def _kernel(
    subject: Subject, names: tuple[str, ...], good: tuple[str, ...], bad: str, fine: str, *, leads_in: bool = False
) -> Iterator[Answer]:
    """Settings of the kernel: one that is wrong is a finding, and all must be known for a pass.

    leads_in: whether it opens a way past the rules on a device that forwards between an outside and others
    """
    grave = leads_in and bool(subject.study.forwards) and outside_known(subject.device)
    if ipv6_is_off(subject.device):
        names = tuple(name for name in names if not name.startswith("net.ipv6."))
    facts = {one.name: one for one in subject.device.system if one.setting.known and one.name in names}
    wrong = [one for one in facts.values() if one.setting.value not in good]
    for one in wrong:
        yield Found(
            f"{one.name} is {one.setting.value}: {bad}.",
            one.name,
            lines(one.setting.where),
            severity=Severity.MEDIUM if grave else None,
            name=f"{one.name} = {one.setting.value}",
        )
    missing = [name for name in names if name not in facts]
    if not facts and subject.device.dialect not in _LINUX:
        yield NotApplicable("the export of this make says nothing of its system below the rules")
    elif missing:
        yield CannotTell(f"the export does not state {listed(missing, 3)}; ask for `sysctl -a`")
    elif not wrong:
        yield Passed(f"{fine} ({listed(names, 2)})")


_LINUX = ("linux-host", "iptables-save", "nftables")


@check(
    id="system.spoofing",
    together="settings leave forged sources unchecked",
    title="The kernel does not check where packets come from",
    severity=Severity.LOW,
    controls=("SC-7(11)", "SI-10"),
    why="Forged sources then pass for inside ones.",
    how="net.ipv4.conf.*.rp_filter must be 1 or 2 for all, or for each interface it is stated for (RFC 3704); a rule that drops what "
    "fails the check of the reverse path does the same. For IPv6, which the kernel does not check by itself, firewalld's "
    "IPv6_rpfilter must not be switched off.",
    fix="Set net.ipv4.conf.all.rp_filter to 1, or 2 where routes differ by direction; leave firewalld's IPv6_rpfilter on.",
)
def spoofing(subject: Subject) -> Iterator[Answer]:
    yield from _unchecked_ipv6(subject)
    program = subject.programs.get(4, Direction.TO_DEVICE)
    step = drops_forged(program, program.space.symbols.present) if program is not None else None
    if step is not None:
        yield Passed(f"a rule drops what comes from where its source does not lie ({step.where})")
        return
    everywhere = "net.ipv4.conf.all.rp_filter"
    facts = {one.name: one for one in subject.device.system if one.setting.known}
    if everywhere in facts and facts[everywhere].setting.value in ("1", "2"):
        # The kernel takes the greater of all and the interface's own (ip-sysctl, rp_filter).
        yield Passed(f"{everywhere} is {facts[everywhere].setting.value}")
        return
    own = tuple(f"net.ipv4.conf.{one.name}.rp_filter" for one in subject.device.interfaces if one.name != "lo")
    stated = tuple(
        name
        for name in facts
        if name.endswith(".rp_filter") and name not in (everywhere, "net.ipv4.conf.default.rp_filter")
    )
    names = tuple(dict.fromkeys((*own, *stated))) or (everywhere,)
    if everywhere in facts and not set(names) & set(facts):
        names = (everywhere,)
    yield from _kernel(
        subject,
        names,
        ("1", "2"),
        "packets are taken from wherever they come",
        "forged sources are dropped",
        leads_in=True,
    )


def _unchecked_ipv6(subject: Subject) -> Iterator[Found]:
    for one in subject.device.system:
        if one.name == "IPv6_rpfilter" and one.setting.known and one.setting.value in ("no", "false"):
            grave = bool(subject.study.forwards) and outside_known(subject.device)
            yield Found(
                f"{one.name} of firewalld is {one.setting.value}: IPv6 packets are taken from wherever they come.",
                one.name,
                lines(one.setting.where),
                severity=Severity.MEDIUM if grave else None,
                name=f"{one.name} = {one.setting.value}",
            )


@check(
    id="system.redirects",
    together="settings let neighbours redirect traffic",
    title="Neighbours can redirect the device's traffic",
    severity=Severity.LOW,
    controls=("SC-7", "CM-7"),
    why="A machine on the link can make itself the way to everywhere.",
    how="accept_redirects of IPv4 and IPv6, and send_redirects, must be 0 for all.",
    fix="Set net.ipv4.conf.all.accept_redirects, net.ipv6.conf.all.accept_redirects and net.ipv4.conf.all.send_redirects to 0.",
)
def redirects(subject: Subject) -> Iterator[Answer]:
    yield from _kernel(
        subject,
        (
            "net.ipv4.conf.all.accept_redirects",
            "net.ipv6.conf.all.accept_redirects",
            "net.ipv4.conf.all.send_redirects",
        ),
        ("0",),
        "redirects are taken or sent",
        "redirects are neither taken nor sent",
    )


_HELPERS = "net.netfilter.nf_conntrack_helper"


@check(
    id="system.helpers",
    title="Whoever is let out can have more opened",
    severity=Severity.MEDIUM,
    controls=("SC-7", "CM-7"),
    why="The kernel then reads FTP, SIP and others on every interface, and opens the ports a client or a page it visits names.",
    how="Asks net.netfilter.nf_conntrack_helper (of kernels before 6.0; off by default since 4.7): 1 attaches helpers to every "
    "connection that looks right. A low finding on a device that does not forward.",
    fix="Set net.netfilter.nf_conntrack_helper to 0, and attach a helper in a rule to the servers and interfaces that need it.",
)
def helpers(subject: Subject) -> Iterator[Answer]:
    one = fact(subject, _HELPERS)
    if one is None:
        yield NotApplicable("nothing says that the kernel attaches helpers by itself")
    elif one.setting.value == "0":
        yield Passed("the kernel attaches no helper by itself")
    else:
        yield Found(
            f"{_HELPERS} is {one.setting.value}: helpers are attached to every connection that looks right.",
            _HELPERS,
            lines(one.setting.where),
            severity=None if subject.study.forwards else Severity.LOW,
        )


@check(
    id="system.source-routing",
    together="settings accept source routes",
    title="Senders may choose the way packets take",
    severity=Severity.LOW,
    controls=("SC-7", "CM-7"),
    why="Source routes lead around the rules (RFC 6274, 3.13.2.3).",
    how="accept_source_route must be 0 or below for all, in IPv4 and IPv6. Switched on for one interface it is a low finding where "
    "nothing says that it is off for all: the kernel takes such packets where both are on (ip-sysctl, accept_source_route).",
    fix="Set net.ipv4.conf.all.accept_source_route and net.ipv6.conf.all.accept_source_route to 0.",
)
def source_routing(subject: Subject) -> Iterator[Answer]:
    facts = {one.name: one for one in subject.device.system if one.setting.known}
    for name, one in facts.items():
        family, _, place = name.removeprefix("net.").partition(".conf.")
        interface = place.removesuffix(".accept_source_route")
        if interface == place or interface in ("all", "default") or one.setting.value in ("0", "-1"):
            continue
        if f"net.{family}.conf.all.accept_source_route" not in facts:
            yield Found(
                f"{name} is {one.setting.value}: packets that come by {interface} may choose their way, if this is on for all as well.",
                name,
                lines(one.setting.where),
                name=f"{name} = {one.setting.value}",
            )
    yield from _kernel(
        subject,
        ("net.ipv4.conf.all.accept_source_route", "net.ipv6.conf.all.accept_source_route"),
        ("0", "-1"),
        "packets with a route of their own are forwarded",
        "source routes are ignored",
        leads_in=True,
    )


@check(
    id="system.old-export",
    title="The export is old",
    severity=Severity.LOW,
    controls=("CM-2", "RA-5"),
    params=(Param("at_most", int, 365, "days", "rules that nobody exported for a year are judged from memory"),),
    why="What was changed since is not in it: the audit speaks of a device that may no longer be like that.",
    how="Compares the day the export says it was made with the day of the audit.",
    fix="Export the configuration again and repeat the audit.",
)
def old_export(subject: Subject) -> Iterator[Answer]:
    taken = subject.device.taken_at
    day = read_date(taken.value) if taken.known else None
    if day is None:
        yield NotApplicable("the export does not say when it was made")
        return
    days = (subject.study.estate.as_of - day).days
    if days > subject.params["at_most"]:
        yield Found(
            f"The export was made on {day}, {counted(days, 'day')} before the audit.", "old", lines(taken.where)
        )
    else:
        yield Passed(f"the export was made on {day}")


@check(
    id="system.drift",
    title="The device differs from its siblings",
    severity=Severity.MEDIUM,
    controls=("CM-2", "CM-3", "CM-6"),
    params=(
        Param("siblings", int, 3, "devices", "with two nobody knows which is the odd one"),
        Param(
            "likeness",
            float,
            0.6,
            "of what they say",
            "a tag such as edge brings together what was never meant to be alike",
        ),
    ),
    why="What all others have and this one has not was changed here by hand, or forgotten here.",
    how="Devices of one make that share a tag, or are described in one export, are compared by settings, services of interfaces, "
    "defaults and named rules; what all others "
    "agree on and this one does not is reported. Addresses are expected to differ.",
    fix="Bring the device in line with its siblings, or write down why it differs.",
)
def drift(subject: Subject) -> Iterator[Answer]:
    alike = surroundings(subject.study.estate).siblings.get(subject.device.name)
    if alike is None or alike.size < subject.params["siblings"]:
        yield NotApplicable("fewer than three devices of this make share a tag or an export with it")
        return
    if alike.likeness < subject.params["likeness"]:
        yield NotApplicable(f"the devices {alike.words} were not set up alike")
        return
    found = oddities(subject.device, alike)
    if found:
        described = listed((_spell(one.what, one.mine, one.theirs) for one in found), 6)
        yield Found(
            f"Unlike the other {counted(alike.size - 1, 'device')} {alike.words}: {described}.",
            "drift: " + "; ".join(f"{one.what}={one.mine}" for one in found),
            lines(*(one.where for one in found)),
        )
    else:
        yield Passed(f"it is like the other {counted(alike.size - 1, 'device')} {alike.words}")


def _spell(what: str, mine: str, theirs: str) -> str:
    return f"{what} is {mine or 'missing'} instead of {theirs or 'none'}"


CHECKS: tuple[Check, ...] = (
    old_firmware,
    end_of_support,
    updates,
    backup,
    unsaved,
    start_up,
    spoofing,
    redirects,
    helpers,
    source_routing,
    old_export,
    drift,
)
