"""Chains that call one another."""

from __future__ import annotations

from collections.abc import Sequence

from aiguille.model import Action, Chain, UnreadableError


def refuse_circles(chains: Sequence[Chain]) -> None:
    """The kernel refuses a table in which chains that a packet can come to call one another in a circle, so such a dump was edited.

    Chains that no base chain leads to may, as the kernel does not look into them.
    """
    calls = {c.name: [r for r in c.rules if r.action in (Action.JUMP, Action.GOTO)] for c in chains}
    done: set[str] = set()
    for start in [chain.name for chain in chains if chain.base is not None]:
        stack: list[tuple[str, int]] = [(start, 0)]
        while stack:
            name, at = stack.pop()
            if at == 0 and name in done:
                continue
            if at >= len(calls[name]):
                done.add(name)
                continue
            stack.append((name, at + 1))
            rule = calls[name][at]
            on_path = [n for n, _ in stack]
            if rule.target in on_path:
                circle = " -> ".join([*on_path[on_path.index(rule.target) :], rule.target])
                raise UnreadableError(
                    f"{rule.where}: the chains call one another in a circle ({circle}); no kernel loads this"
                )
            if rule.target in calls and rule.target not in done:
                stack.append((rule.target, 0))
