"""The verdict of an audit in a paragraph."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from aiguille.analysis.outlines import outlines
from aiguille.baseline import CATALOGUE, Audit, Outcome, Severity
from aiguille.reports.dossier import Dossier
from aiguille.reports.text import counted

_NAMED = 3


def elsewhere(audit: Audit, device: str) -> list[str]:
    """Sentences: which findings on a device are reported with another, as both have them by the same lines."""
    by_home: dict[str, list[str]] = {}
    for one in audit.reported_elsewhere(device):
        by_home.setdefault(audit.home(one), []).append(f"F-{one.number}" if one.number else one.fingerprint)
    return [f"As on {home}, and described there: {', '.join(numbers)}." for home, numbers in by_home.items()]


def verdict(dossier: Dossier) -> list[str]:
    """Sentences: whether the estate meets its baseline, what is worst and where, what is open, what could not be read."""
    audit = dossier.audit
    if not audit.estate.devices:
        return ["Nothing could be read, so nothing was checked."]
    baseline = f"the baseline '{audit.baseline.name}'" if audit.baseline else "the baseline"
    count = len(audit.estate.devices)
    devices = counted(count, "device")
    grave = [f for f in audit.findings if f.severity.rank >= Severity.HIGH.rank]
    passed, total = dossier.tally(Outcome.PASS), len(audit.outcomes)
    described = [f"{n} {severity.value}" for severity, n in audit.counts().items() if n]
    out = []
    if not audit.findings:
        out.append(f"Nothing speaks against {baseline} on {devices}, as far as the exports show.")
    elif not grave:
        out.append(
            f"On {devices} there is nothing of high severity; {counted(len(audit.findings), 'lighter finding')} "
            f"{'speaks' if len(audit.findings) == 1 else 'speak'} against {baseline} ({', '.join(described)})."
        )
    else:
        hurt = len({name for f in grave for name in (f.device, *f.also_on)})
        fails = f"The device does not meet {baseline}" if count == 1 else f"The {devices} do not meet {baseline}"
        whom = "it has" if count == 1 else f"{'all' if hurt == count else hurt} of the devices have"
        out.append(
            f"{fails}: there {'is' if len(audit.findings) == 1 else 'are'} {counted(len(audit.findings), 'finding')} "
            f"({', '.join(described)}), and {whom} some of high severity or above."
        )
        titles = Counter(f.title for f in grave).most_common(_NAMED)
        named = [f"{title[0].lower()}{title[1:]} ({counted(n, 'time')})" for title, n in titles]
        out.append(f"The gravest and most frequent: {_listed(named)}.")
    open_ones = dossier.tally(Outcome.CANNOT_TELL)
    rest = f"; {open_ones} cannot be determined, and are counted as neither pass nor fail" if open_ones else ""
    out.append(f"Of {counted(total, 'outcome')}, {passed} {'is a pass' if passed == 1 else 'are passes'}{rest}.")
    if audit.accepted:
        listed = "it is" if len(audit.accepted) == 1 else "they are"
        be = "is" if len(audit.accepted) == 1 else "are"
        found = counted(len(audit.accepted), "finding")
        out.append(f"{found} {be} accepted by a named owner until a set date; {listed} listed apart.")
    unread = [d for d in outlines(audit.estate) if d.ledger.unread_lines]
    if audit.estate.failures:
        out.append(f"{counted(len(audit.estate.failures), 'export')} could not be read at all.")
    if unread:
        lines = sum(d.ledger.unread_lines for d in unread)
        out.append(
            f"{counted(lines, 'line')} of the exports of {counted(len(unread), 'device')} "
            f"{'was' if lines == 1 else 'were'} not understood; rules in them count as ones that may match."
        )
    elif not audit.estate.failures:
        out.append("Every line of every export was read or set aside for a stated reason.")
    return out


_HOLDING = 4
_DETERMINED = 0.5


def holding(dossier: Dossier) -> list[str]:
    """Titles of the gravest checks that nothing fails, and that most devices that could fail them pass.

    The catalogue's alone: claims have a list of their own, and that no rule fits the words of a check of one's own says nothing of
    what defaults let through.
    """
    known = {check.id for check in CATALOGUE}
    found: list[tuple[int, str]] = []
    for one in [each for each in dossier.chosen if each.check.id in known]:
        outcomes = [o.outcome for o in dossier.outcomes.get(one.check.id, {}).values()]
        asked = [o for o in outcomes if o is not Outcome.NOT_APPLICABLE]
        passed = outcomes.count(Outcome.PASS)
        severity = one.severity or one.check.severity
        fails = Outcome.FAIL in asked or Outcome.ACCEPTED in asked
        if passed and not fails and passed > _DETERMINED * len(asked) and severity.rank >= Severity.MEDIUM.rank:
            found.append((-severity.rank, one.check.title))
    return [title for _, title in sorted(found, key=lambda pair: pair[0])[:_HOLDING]]


def decision(dossier: Dossier) -> str:
    """What the client is asked to decide, in a sentence; empty where nothing is grave."""
    found = dossier.audit.causes()
    grave = [one for one in found if one.severity.rank >= Severity.HIGH.rank]
    if not grave:
        return ""
    cleared, total = sum(one.clears for one in grave), sum(one.clears for one in found)
    changes = counted(len(grave), "cause")
    return (
        f"Asked of the client: to have the {changes} of critical and high findings mended, with which {cleared} of {total} "
        "findings and their consequences go; and to name an owner and an end for each that is to stay."
    )


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
