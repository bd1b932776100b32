"""What stands between somebody who reaches the login and the device: lockout, accounts, passwords, ciphers."""

from __future__ import annotations

from collections.abc import Iterator
from fnmatch import fnmatchcase
from math import isinf

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
)
from aiguille.baseline.wording import by_default, counted, lines, listed
from aiguille.model import Account, Fact, Setting
from aiguille.model.patterns import pattern


def _off(setting: Setting[bool], what: str, on: str, off: str) -> Answer:
    """The answer about something that should be switched off; `on` and `off` say how it is found."""
    return Found(f"{on}{by_default(setting)}.", what, lines(setting.where)) if setting.value else Passed(off)


@check(
    id="access.lockout-threshold",
    title="Failed logins lock out too late or never",
    severity=Severity.MEDIUM,
    controls=("AC-7",),
    needs=("administration.lockout_attempts",),
    params=(Param("at_most", int, 3, "failed logins", "three leave room for a slip and none for guessing"),),
    why="Without a lockout passwords can be guessed at the speed of the network.",
    how="Compares the number of failed logins before a lockout with the parameter.",
    fix="Lock an account or source out after {at_most} failed logins or fewer.",
)
def lockout_threshold(subject: Subject) -> Iterator[Answer]:
    attempts = subject.device.administration.lockout_attempts
    never = not attempts.value or isinf(attempts.value)
    if not never and attempts.value <= subject.params["at_most"]:
        yield Passed(f"lockout after {attempts.value:g} failed logins")
        return
    how = "Failed logins never lock out" if never else f"Lockout comes only after {attempts.value:g} failed logins"
    yield Found(f"{how}{by_default(attempts)}.", "lockout threshold", lines(attempts.where))


@check(
    id="access.lockout-duration",
    title="A lockout is over too soon",
    severity=Severity.MEDIUM,
    controls=("AC-7",),
    needs=("administration.lockout_seconds", "administration.lockout_attempts"),
    params=(
        Param(
            "at_least", int, 300, "seconds", "five minutes make guessing hopeless and wait out a forgetful colleague"
        ),
    ),
    why="A lockout of seconds slows guessing down no more than a slow line does.",
    how="Compares the duration with the parameter; without any lockout there is nothing to compare.",
    fix="Let a lockout last at least {at_least} seconds.",
)
def lockout_duration(subject: Subject) -> Iterator[Answer]:
    administration = subject.device.administration
    seconds = administration.lockout_seconds
    if not administration.lockout_attempts.value or isinf(administration.lockout_attempts.value):
        yield NotApplicable("there is no lockout whose duration could be judged")
    elif seconds.value >= subject.params["at_least"]:
        lasts = "until it is lifted" if isinf(seconds.value) else f"{seconds.value:g} seconds"
        yield Passed(f"a lockout lasts {lasts}")
    else:
        text = f"A lockout lasts only {seconds.value:g} seconds{by_default(seconds)}."
        yield Found(text, "lockout duration", lines(seconds.where))


@check(
    id="access.idle-timeout",
    title="An idle management session stays open too long",
    severity=Severity.MEDIUM,
    controls=("AC-12", "SC-10"),
    needs=("administration.idle_minutes",),
    params=(Param("at_most", int, 600, "seconds", "a desk is rarely left longer unnoticed"),),
    why="Whoever finds the open session has the device.",
    how="Compares the time after which a silent session is closed with the parameter.",
    fix="Close idle sessions after {at_most} seconds or less, on every way in.",
)
def idle_timeout(subject: Subject) -> Iterator[Answer]:
    idle = subject.device.administration.idle_minutes
    never = not idle.value or isinf(idle.value)
    if not never and idle.value * 60 <= subject.params["at_most"]:
        yield Passed(f"idle sessions close after {idle.value:g} minutes")
        return
    how = "are never closed" if never else f"close only after {idle.value:g} minutes"
    yield Found(f"Idle sessions {how}{by_default(idle)}.", "idle timeout", lines(idle.where))


@check(
    id="access.redirect",
    title="The cleartext page does not lead to the encrypted one",
    severity=Severity.LOW,
    controls=("SC-8", "IA-5"),
    needs=("administration.redirects",),
    why="Whoever types the address without https logs in readable for everybody on the path.",
    how="Asks the setting; without a cleartext page there is nothing to redirect.",
    fix="Let the cleartext page do nothing but send visitors to the encrypted one, or switch it off.",
)
def redirect(subject: Subject) -> Iterator[Answer]:
    pages = [s for s in subject.device.administration.services if s.enabled and s.cleartext and _on_port(s.terms, 80)]
    redirects = subject.device.administration.redirects
    if redirects.value:
        yield Passed("the cleartext page leads to the encrypted one")
    elif not pages and subject.device.administration.services:
        yield NotApplicable("no cleartext page is switched on")
    else:
        where = lines(redirects.where, *(s.where for s in pages))
        yield Found(f"The cleartext page takes logins itself{by_default(redirects)}.", "redirect", where)


def _on_port(terms: object, port: int) -> bool:
    return any(p.first <= port <= p.last for term in terms for p in term.destination_ports)  # type: ignore[attr-defined]


NO_ACCOUNTS = "the export names no accounts; ask for the list of those who may log in"


def _accounts(subject: Subject) -> list[Account]:
    return [one for one in subject.device.administration.accounts if one.enabled]


def _named_accounts(subject: Subject) -> list[Account]:
    return [one for one in _accounts(subject) if one.name]


@check(
    id="access.default-account",
    together="accounts that every attacker knows by name can log in",
    title="An account every attacker knows by name can log in",
    severity=Severity.MEDIUM,
    controls=("AC-2", "IA-5"),
    params=(
        Param(
            "names",
            tuple,
            (
                "admin",
                "administrator",
                "default",
                "guest",
                "manager",
                "operator",
                "service",
                "setup",
                "supervisor",
                "support",
                "test",
                "user",
            ),
            "names",
            "what makers ship and what guessing programs try first",
        ),
    ),
    why="Half of a login is known, and with a maker's account often the other half too.",
    how="Compares the names of enabled accounts with the parameter, ignoring case; the host's own root is the matter of "
    "access.root-login.",
    fix="Rename, disable or delete the account, and give its users accounts of their own.",
)
def default_account(subject: Subject) -> Iterator[Answer]:
    accounts = _named_accounts(subject)
    if not accounts:
        yield CannotTell(NO_ACCOUNTS)
    known = {name.lower() for name in subject.params["names"]}
    found = [one for one in accounts if one.name.lower() in known]
    for one in found:
        yield Found(f"Account '{one.name}' can log in.", one.name, lines(one.where))
    if accounts and not found:
        yield Passed(f"none of {counted(len(accounts), 'account')} has a name that is tried first")


@check(
    id="access.shared-account",
    together="accounts have names that stand for several people",
    title="An account is shared by several people",
    severity=Severity.LOW,
    controls=("AC-2", "IA-2", "AU-2"),
    params=(
        Param(
            "patterns",
            tuple,
            (
                r"(?i)(^|[-_.])(team|staff|shared|everyone|all|crew|office|agency|company|group)($|[-_.])",
                r"(?i)(keepers|admins|operators|engineers|developers|users|people)$",
            ),
            "patterns",
            "words for several people",
            Of.PATTERN,
        ),
    ),
    why="Nobody can say who did it, and nobody's leaving changes the password.",
    how="Looks for words of the parameter in the names of enabled accounts; a name can only suggest that it is shared.",
    fix="Give each person an account of their own and delete the shared one.",
)
def shared_account(subject: Subject) -> Iterator[Answer]:
    accounts = _named_accounts(subject)
    if not accounts:
        yield CannotTell(NO_ACCOUNTS)
    found = [one for one in accounts if any(pattern(p).search(one.name) for p in subject.params["patterns"])]
    for one in found:
        yield Found(f"The name of account '{one.name}' stands for several people.", one.name, lines(one.where))
    if accounts and not found:
        yield Passed(f"no name of {counted(len(accounts), 'account')} stands for several people")


@check(
    id="access.recovery-account",
    title="The maker's recovery account can log in",
    severity=Severity.MEDIUM,
    controls=("AC-2", "IA-5", "CM-7"),
    needs=("administration.recovery_account",),
    why="A login built in by the maker is a back door for whoever learns of it.",
    how="Asks the setting.",
    fix="Switch the recovery account off, and keep a way to recover that needs somebody at the device.",
)
def recovery_account(subject: Subject) -> Iterator[Answer]:
    setting = subject.device.administration.recovery_account
    yield _off(setting, "recovery account", "The recovery account is on", "the recovery account is off")


@check(
    id="access.password-policy",
    title="Passwords may be too weak",
    severity=Severity.LOW,
    controls=("IA-5",),
    needs=("administration.password_length",),
    params=(
        Param("length", int, 12, "characters", "short ones are found by trying all"),
        Param(
            "classes",
            int,
            0,
            "classes of characters",
            "length protects better than signs; set it where a policy asks for them",
        ),
    ),
    why="Short passwords fall to guessing, from outside or from a stolen copy of the settings.",
    how="Compares the least length, and the classes of characters if the parameter asks for any, with the settings.",
    fix="Ask for passwords of at least {length} characters.",
)
def password_policy(subject: Subject) -> Iterator[Answer]:
    length, classes = subject.device.administration.password_length, subject.device.administration.password_classes
    wanted = subject.params["classes"]
    if length.value < subject.params["length"]:
        text = f"Passwords of {length.value:g} characters are taken{by_default(length)}."
        yield Found(text, "password length", lines(length.where))
    elif not wanted:
        yield Passed(f"passwords have at least {length.value:g} characters")
    if wanted and not classes.known:
        yield CannotTell("the export does not state how many classes of characters a password must mix")
    elif wanted and classes.value < wanted:
        text = f"Passwords of {classes.value:g} classes of characters are taken{by_default(classes)}."
        yield Found(text, "password classes", lines(classes.where))
    elif wanted:
        yield Passed(f"passwords mix {classes.value:g} classes of characters")


def _matched(subject: Subject, name: str) -> Iterator[tuple[str, Fact]]:
    """A setting of sshd where a Match sets it, each with whom that is for."""
    begin = f"sshd {name} (Match "
    for one in subject.device.system:
        if one.name.startswith(begin) and one.setting.known:
            yield one.name[len(begin) : -1], one


def _is_for_some(match: str) -> bool:
    """Whether a Match of sshd is for named users or sources, and not for all of them."""
    return any(value not in ("*", "0.0.0.0/0", "::/0") for value in match.split()[1::2])


def _may_be(match: str, user: str) -> bool:
    """Whether a Match of sshd may hold for a user (sshd_config(5), Match; ssh_config(5), PATTERNS)."""
    words = match.split()
    for key, value in zip(words[::2], words[1::2], strict=False):
        patterns = value.split(",")
        refused = [one[1:] for one in patterns if one.startswith("!")]
        named = [one for one in patterns if not one.startswith("!")]
        if key.lower() == "user" and (
            any(fnmatchcase(user, one) for one in refused) or not any(fnmatchcase(user, one) for one in named)
        ):
            return False
    return True


def _asks_for_more(methods: Fact | None) -> bool:
    """Whether each list of methods that sshd asks for has one that is no password (sshd_config(5), AuthenticationMethods)."""
    if methods is None or not methods.setting.value.strip():
        return False
    lists = [{one.partition(":")[0] for one in text.split(",")} for text in methods.setting.value.lower().split()]
    return all(one - {"password", "keyboard-interactive", "any", "none"} for one in lists)


def _takes_passwords(subject: Subject) -> Iterator[Found]:
    """Whom sshd lets in by a password, in general and where a Match says so."""
    if _asks_for_more(fact(subject, "sshd AuthenticationMethods")):
        for match, less in _matched(subject, "AuthenticationMethods"):
            if not _asks_for_more(less):
                severity = Severity.LOW if _is_for_some(match) else None
                said = f"AuthenticationMethods {less.setting.value}"
                text = f"sshd asks for a password at most for Match {match} ({said})."
                yield Found(text, less.name, lines(less.setting.where), severity=severity)
        return
    for name in ("PasswordAuthentication", "KbdInteractiveAuthentication"):
        one = fact(subject, f"sshd {name}")
        # Left to its default, the keyboard-interactive way asks what the system's own settings make it ask.
        certain = name == "PasswordAuthentication" or (one is not None and one.setting.standing == "stated")
        if one is not None and one.setting.value.lower() == "yes" and certain:
            yield Found(
                f"sshd takes passwords ({name} yes{by_default(one.setting)}).", one.name, lines(one.setting.where)
            )
            continue
        asked = {match: methods for match, methods in _matched(subject, "AuthenticationMethods")}
        for match, other in _matched(subject, name):
            if other.setting.value.lower() == "yes" and not _asks_for_more(asked.get(match)):
                severity = Severity.LOW if _is_for_some(match) else None
                text = f"sshd takes passwords for Match {match} ({name} yes)."
                yield Found(text, other.name, lines(other.setting.where), severity=severity)


def _needs_none(subject: Subject, passwords: bool) -> Iterator[Found]:
    """Accounts that no password is asked of, and sshd where it lets such in. passwords: whether it takes any"""
    bare = [one for one in _accounts(subject) if one.no_password.known and one.no_password.value]
    empty = fact(subject, "sshd PermitEmptyPasswords")
    allowed = [empty] if empty is not None and empty.setting.value.lower() == "yes" else []
    allowed += [one for _, one in _matched(subject, "PermitEmptyPasswords") if one.setting.value.lower() == "yes"]
    if passwords and allowed:
        names = listed(f"'{one.name}'" for one in bare)
        has = f"; {names} {'has' if len(bare) == 1 else 'have'} none" if bare else ""
        yield Found(
            f"sshd lets accounts without a password in (PermitEmptyPasswords yes){has}.",
            "sshd PermitEmptyPasswords",
            lines(allowed[0].setting.where, *(one.where for one in bare)),
            severity=Severity.CRITICAL if bare else Severity.HIGH,
        )
        return
    for one in bare:
        text = f"Account '{one.name}' has no password: nothing is asked of whoever takes its name."
        yield Found(text, f"no password {one.name}", lines(one.where), severity=Severity.HIGH if one.role else None)


@check(
    id="access.second-factor",
    together="ways in ask for a password at most",
    title="A password alone, or none, opens the device",
    severity=Severity.MEDIUM,
    controls=("IA-2", "AC-17", "IA-5"),
    why="Passwords are guessed, reused and phished; a key or a second proof is not.",
    how="Looks at password logins of sshd, those of a Match among them (light where it is for some users or sources alone), and at "
    "each account's second factor where the export states it. What AuthenticationMethods asks for beside a password counts. Accounts "
    "without a password are a finding, grave where sshd lets them in.",
    fix="Ask for keys, or a second factor, of everybody who logs in from afar; give every account a password or lock it.",
)
def second_factor(subject: Subject) -> Iterator[Answer]:
    passwords, keyboard = (
        fact(subject, f"sshd {n}") for n in ("PasswordAuthentication", "KbdInteractiveAuthentication")
    )
    looked = sum(one is not None for one in (passwords, keyboard))
    taken = list(_takes_passwords(subject))
    bare = list(_needs_none(subject, bool(taken)))
    yield from (*bare, *taken)
    found = bool(taken or bare)
    if (passwords is None) is not (keyboard is None):
        yield CannotTell("the export states one of sshd's two ways of asking for a password only")
    described = [one for one in _accounts(subject) if one.second_factor.known]
    for account in described:
        looked += 1
        if not account.second_factor.value:
            found = True
            text = f"Account '{account.name}' ({account.role or 'role not stated'}) logs in with a password alone."
            where = lines(account.second_factor.where, account.where)
            yield Found(text, f"account {account.name}", where)
    if described and len(described) < len(_accounts(subject)):
        names = listed(one.name for one in _accounts(subject) if one not in described)
        yield CannotTell(f"the export does not state whether {names} needs more than a password")
    if not looked:
        yield CannotTell("the export does not state how logins are proven; ask for the settings of the login service")
    elif not found:
        yield Passed("no login is open to a password alone")


@check(
    id="access.weak-ciphers",
    together="lists of ciphers hold outdated ones",
    title="Outdated ciphers are accepted for management",
    severity=Severity.MEDIUM,
    controls=("SC-13", "SC-8"),
    params=(
        Param(
            "weak",
            tuple,
            (
                "(?i)3des",
                "(?i)arcfour|rc4",
                "(?i)-cbc",
                "(?i)blowfish|cast128",
                "(?i)hmac-md5",
                "(?i)hmac-sha1-96|umac-64",
                "(?i)group1-sha1|group-exchange-sha1|group14-sha1",
            ),
            "patterns",
            "broken or deprecated: RFC 8758, RFC 9142",
            Of.PATTERN,
        ),
    ),
    why="What such a session carries can be read or changed by a patient attacker.",
    how="Asks the make's setting, or looks for the parameter's patterns in what sshd_config names; a list that begins with a minus "
    "sign takes away and is fine. Where sshd is left to its release the outcome is open.",
    fix="Refuse outdated ciphers, key exchanges and protocol versions.",
)
def weak_ciphers(subject: Subject) -> Iterator[Answer]:
    setting = subject.device.administration.strong_ciphers
    if setting.known:
        if setting.value:
            yield Passed("outdated ciphers are refused")
        else:
            yield Found(f"Outdated ciphers are accepted{by_default(setting)}.", "ciphers", lines(setting.where))
    said = 0
    lists = [one for name in ("Ciphers", "MACs", "KexAlgorithms") if (one := fact(subject, f"sshd {name}")) is not None]
    for one in lists:
        if one.setting.value.startswith("-"):
            continue
        names = one.setting.value.lstrip("+^").split(",")
        weak = [name for name in names if any(pattern(p).search(name) for p in subject.params["weak"])]
        if weak:
            said += 1
            yield Found(f"{one.name} names {listed(weak)}.", one.name, lines(one.setting.where))
    if len(lists) == 3 and not said:
        yield Passed("what sshd_config names is up to date")
    elif not setting.known and not said:
        yield CannotTell(
            "ciphers are left to the release of the login service; state Ciphers, MACs and KexAlgorithms in sshd_config, or ask "
            "for the make's setting"
        )


@check(
    id="access.link-layer",
    title="The device can be managed below the rules, by hardware address",
    severity=Severity.MEDIUM,
    controls=("CM-7", "AC-17"),
    needs=("administration.link_layer",),
    why="Whoever is on the same link reaches the login whatever the rules on addresses say.",
    how="Asks whether logins by hardware address are on.",
    fix="Switch logins by hardware address off.",
)
def link_layer(subject: Subject) -> Iterator[Answer]:
    setting = subject.device.administration.link_layer
    on = "The device can be managed by hardware address"
    yield _off(setting, "link layer", on, "it cannot be managed by hardware address")


@check(
    id="access.discovery",
    title="The device announces itself to its neighbours",
    severity=Severity.LOW,
    controls=("CM-7",),
    needs=("administration.discovery",),
    why="Make, release and name are told to everybody on the link, who need not even ask.",
    how="Asks the make's setting; on Linux hosts, whether a service listens on a port of multicast DNS, LLMNR, SSDP or WS-Discovery.",
    fix="Switch announcements off, or restrict them to the management network.",
)
def discovery(subject: Subject) -> Iterator[Answer]:
    setting = subject.device.administration.discovery
    yield _off(setting, "discovery", "It announces itself to its neighbours", "it does not announce itself")


@check(
    id="access.root-login",
    title="The all-powerful account logs in directly",
    severity=Severity.LOW,
    controls=("AC-6", "AC-17", "IA-2"),
    why="The log then shows that root did it, not who; and a guessed password is the last step, not the first.",
    how="PermitRootLogin of sshd decides, in general or in a Match that may hold for root: yes is a medium finding, keys only a low "
    "one. On other makes an enabled account called root is one. A second account with user id 0 is a back door, and high.",
    fix="Let people log in as themselves and become root where they must; set PermitRootLogin no, and leave user id 0 to root alone.",
)
def root_login(subject: Subject) -> Iterator[Answer]:
    hidden = [one for one in _accounts(subject) if _is_root_by_another_name(subject, one)]
    for one in hidden:
        text = f"Account '{one.name}' is root under another name (its user id is 0)."
        yield Found(text, one.name, lines(one.where), severity=Severity.HIGH)
    permit = fact(subject, "sshd PermitRootLogin")
    if permit is not None:
        value = permit.setting.value.lower()
        if value == "no":
            yield from _root_for_some(subject)
            return
        how = "" if value == "yes" else ", with a key"
        text = f"Root may log in over ssh{how} (PermitRootLogin {value}{by_default(permit.setting)})."
        severity = Severity.MEDIUM if value == "yes" else None
        yield Found(text, "sshd PermitRootLogin", lines(permit.setting.where), severity=severity)
        return
    if subject.device.dialect == "linux-host":
        yield CannotTell("the export does not hold sshd_config, which says whether root logs in")
        return
    accounts = _named_accounts(subject)
    if not accounts:
        yield CannotTell(NO_ACCOUNTS)
        return
    found = [one for one in accounts if one.name.lower() == "root"]
    for one in found:
        yield Found("An account called root can log in.", one.name, lines(one.where))
    if not found:
        yield Passed("no account is called root")


def _root_for_some(subject: Subject) -> Iterator[Answer]:
    """Whom a Match of sshd lets in as root, where others are not."""
    found = False
    for match, one in _matched(subject, "PermitRootLogin"):
        value = one.setting.value.lower()
        if value != "no" and _may_be(match, "root"):
            found = True
            text = f"Root may log in over ssh for Match {match} (PermitRootLogin {value})."
            severity = Severity.MEDIUM if value == "yes" else None
            yield Found(text, one.name, lines(one.setting.where), severity=severity)
    if not found:
        yield Passed("root cannot log in over ssh")


def _is_root_by_another_name(subject: Subject, account: Account) -> bool:
    return subject.device.dialect == "linux-host" and account.role == "root" and account.name != "root"


@check(
    id="access.portal-open",
    title="The portal for people from afar answers to everybody",
    severity=Severity.MEDIUM,
    controls=("AC-17", "SC-7"),
    why="Such pages are tried around the clock, and their flaws are used within hours.",
    how="Looks at the addresses the portal answers to; without a portal in the export there is nothing to judge.",
    fix="Restrict the portal to the addresses or countries people really come from.",
)
def portal_open(subject: Subject) -> Iterator[Answer]:
    portal = subject.device.portal
    if portal.where is None:
        yield NotApplicable("the export mentions no portal")
    elif portal.enabled.known and not portal.enabled.value:
        yield Passed("the portal is switched off")
    elif not portal.sources.known or not portal.enabled.known:
        yield CannotTell("the export does not state to whom the portal answers")
    elif not portal.sources.value:
        yield Found("The portal answers to any address.", "portal", lines(portal.where))
    else:
        yield Passed(f"the portal answers to {counted(len(portal.sources.value), 'named source')}")


CHECKS: tuple[Check, ...] = (
    lockout_threshold,
    lockout_duration,
    idle_timeout,
    redirect,
    default_account,
    shared_account,
    recovery_account,
    password_policy,
    second_factor,
    weak_ciphers,
    link_layer,
    discovery,
    root_login,
    portal_open,
)
