"""Policies: what becomes of new connections that no rule decides (shorewall-policy(5))."""

from __future__ import annotations

from msgspec import Struct

from aiguille.model import Span, UnreadableError
from aiguille.readers.shorewall.actions import Call, read_policy
from aiguille.readers.shorewall.columns import rate_words
from aiguille.readers.shorewall.lines import ColumnRow, Folder, parse_or_raise
from aiguille.readers.shorewall.zones import Network, Zone


class Policy(Struct, frozen=True):
    """A row of the policy table: what it decides; where nothing says anything, the default within a zone."""

    action: Call
    where: Span
    defaults: str = ""
    rate: str = ""
    name: str = ""


class Policies:
    """The rows of the policy table in order; the first that names a pair of zones counts."""

    def __init__(self, folder: Folder, network: Network) -> None:
        self.folder, self.network, self.ledger = folder, network, folder.ledger
        self.rows = [self._policy_row(row) for row in folder.rows("policy")]

    def first(self, source: str, dest: str) -> Policy | None:
        """The policy that stands for packets between zones named so, or "all" in their place."""
        for _, one, other, policy in self.rows:
            if one in (source, "all") and other in (dest, "all"):
                return policy
        return None

    def _policy_row(self, row: ColumnRow) -> tuple[ColumnRow, str, str, Policy]:
        self.ledger.read(row.where)
        if len(row.columns) < 3:
            raise UnreadableError(
                f"{row.where}: a policy has a source, a destination and an action; the line is cut off"
            )
        said, _, own = row.columns[2].partition(":")
        call = parse_or_raise(row.where, read_policy, said)
        if rate := row.column(4, "rate|limit"):
            parse_or_raise(row.where, rate_words, rate)
        level, _, tag = row.column(3, "loglevel").partition(":")
        default = (
            self.folder.setting(f"{call.name}_DEFAULT") if f"{call.name}_DEFAULT" in self.folder.defaults else "none"
        )
        if own:
            default = f"{default},{own[1:]}" if own.startswith("+") else own
        action = Call(call.name, call.parameters, level, tag)
        return (
            row,
            row.columns[0],
            row.columns[1],
            Policy(action, row.where, default, row.column(4, "rate|limit"), f"{row.columns[0]}-{row.columns[1]}"),
        )

    def between(self, source: Zone, dest: Zone) -> Policy:
        """What is done with new connections that no rule decides."""
        implied: Policy | None = None
        for row, one, other, policy in self.rows:
            if not (self._named(one, source, row.where) and self._named(other, dest, row.where)):
                continue
            plus = one.endswith("+") or other.endswith("+")
            if source is dest and not plus and (one.split("!")[0] != source.name or other.split("!")[0] != dest.name):
                continue
            nested, wide = source.parents or dest.parents, one.startswith("all") or other.startswith("all")
            if self.folder.is_on("IMPLICIT_CONTINUE") and nested and wide:
                implied = implied or Policy(Call("CONTINUE"), policy.where)
                continue  # until a policy names both
            return policy
        if implied is not None:
            return implied
        if source is dest:
            return Policy(Call("ACCEPT"), source.where)
        raise UnreadableError(
            f"{self.folder.home.file}: no policy says what becomes of packets from zone '{source.name}' to zone "
            f"'{dest.name}'; Shorewall refuses that"
        )

    def _named(self, text: str, zone: Zone, where: Span) -> bool:
        head, _, without = text.partition("!")
        if zone.name in without.split(","):
            return False
        head = head.rstrip("+")
        if head == "any":
            return not zone.parents
        return head == "all" or zone.name in [self.network.zone(one, where).name for one in head.split(",")]
