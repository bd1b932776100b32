"""Rules by section: what Shorewall does for the states of connections between them (shorewall-rules(5), version 5.2)."""

from __future__ import annotations

from msgspec import Struct, field

from aiguille.model import Span
from aiguille.readers.shorewall.actions import read_policy
from aiguille.readers.shorewall.bodies import ActionLine
from aiguille.readers.shorewall.calls import Calls
from aiguille.readers.shorewall.lines import Folder, parse_or_raise

SECTIONS = ("ALL", "ESTABLISHED", "RELATED", "INVALID", "UNTRACKED", "NEW")
STATES = SECTIONS[1:5]
SIGNS = {"ESTABLISHED": "^", "RELATED": "+", "INVALID": "_", "UNTRACKED": "="}
"""What the names of chains for one state begin with."""
LATER = Span("", 0, 0)
"""The place of a rule that stands for the policy of its pair, whatever that is."""
LIMIT = ("-j", "@")
"""Stands where a policy limits the rate of new connections."""


class Pair(Struct):
    """What the tables say of packets from one zone to another, in the order Shorewall writes it.

    body: rules of the chain itself; those that states and policies add by themselves have their place `LATER`
    states: rules of the sections for one connection state, each a chain of its own
    closed: states that have had their say; referenced: whether any rule named the pair
    """

    blacklist: list[ActionLine] = field(default_factory=list)
    body: list[ActionLine] = field(default_factory=list)
    states: dict[str, list[ActionLine]] = field(default_factory=dict)
    closed: set[str] = field(default_factory=set)
    referenced: bool = False

    @property
    def is_empty(self) -> bool:
        return not self.blacklist and not self.referenced


class Sections:
    """Puts rules where packets between two zones pass, and closes sections as the rules go on."""

    def __init__(self, folder: Folder, calls: Calls) -> None:
        self.folder, self.calls = folder, calls
        self.pairs: dict[tuple[str, str], Pair] = {}
        self.current = ""

    def pair(self, source: str, dest: str) -> Pair:
        return self.pairs.setdefault((source, dest), Pair())

    def begin(self, section: str) -> None:
        """A rule of another section follows: states of sections gone by are closed in every pair that has rules."""
        before, self.current = self.current, section
        done = _before(section)
        for (source, dest), pair in self.pairs.items():
            if pair.referenced:
                self._close(pair, f"{source}-{dest}", before, done)

    def put(self, pair: Pair, name: str, section: str, entries: list[ActionLine]) -> None:
        if not pair.referenced:
            self._close(pair, name, "", _before(section))
            pair.referenced = True
        if section in SIGNS:
            if section not in pair.states:
                pair.states[section] = []
                pair.body.append(
                    ActionLine(LATER, ("-m", "conntrack", "--ctstate", section), ("-j", SIGNS[section] + name))
                )
            pair.states[section] += entries
        else:
            pair.body += entries

    def finish(self, pair: Pair, name: str, section: str) -> None:
        """Close all states of a pair that no rule names."""
        self._close(pair, name, section, set(STATES), new=True)

    def _close(self, pair: Pair, name: str, section: str, states: set[str], *, new: bool = False) -> None:
        """What Shorewall adds for states at the end of their sections.

        A pair that has rules in the section that ends gets that state's disposition at the end of those; states closed in the
        same step after it get none, which Shorewall 5.2 does so.
        """
        left = [state for state in STATES if state in states - pair.closed]
        pair.closed |= states
        for state in list(left):
            said = "ACCEPT" if state == "ESTABLISHED" else self.disposition(state)
            level = "" if state == "ESTABLISHED" else self.folder.setting(f"{state}_LOG_LEVEL")
            own = state == section and state in pair.states
            if not (own or level or said != "ACCEPT"):
                continue
            where = LATER if state == "ESTABLISHED" else self._setting_place(state)
            target: tuple[str, ...] = () if said == "CONTINUE" else _TARGETS.get(said, ("-j", said))
            chain = pair.states.setdefault(state, []) if own or level else pair.body
            if level:
                chain.append(ActionLine(where, (), self.calls.recorded(level, SIGNS[state] + name, said)))
            if own or level:
                chain += [ActionLine(where, (), target)] if target else []
                target = ("-j", SIGNS[state] + name)
            left.remove(state)
            if own:
                break
            if target:
                if "ESTABLISHED" in left:
                    left.remove("ESTABLISHED")
                    pair.body.append(self._accepted(["ESTABLISHED"]))
                pair.body.append(ActionLine(where, ("-m", "conntrack", "--ctstate", state), target))
        usual: list[str] = (
            [] if self.folder.is_on("FASTACCEPT") else [s for s in ("ESTABLISHED", "RELATED") if s in left]
        )
        if "UNTRACKED" in left and self.disposition("UNTRACKED") == "ACCEPT":
            usual.append("UNTRACKED")
        if usual:
            pair.body.append(self._accepted(usual))
        if new or self.current == "NEW":
            pair.body.append(ActionLine(LATER, (), LIMIT))

    def _accepted(self, states: list[str]) -> ActionLine:
        return ActionLine(LATER, ("-m", "conntrack", "--ctstate", ",".join(states)), ("-j", "ACCEPT"))

    def _setting_place(self, state: str) -> Span:
        name = f"{state}_DISPOSITION"
        return self.folder.setting_where(name) if name in self.folder.said else LATER

    def disposition(self, name: str) -> str:
        """What a setting says is done with packets of a kind."""
        name = f"{name}_DISPOSITION"
        said = self.folder.setting(name) or self.folder.defaults[name]
        call = parse_or_raise(self.folder.setting_where(name), read_policy, said)
        return call.name.removeprefix("A_")


def _before(section: str) -> set[str]:
    """The states whose sections stand before one."""
    return set(SECTIONS[1 : SECTIONS.index(section)]) if section in SECTIONS[1:] else set()


_TARGETS = {"REJECT": ("-g", "reject")}
