"""Keys that mean one object and no other that is like it: two rules may say the same and stand in different places."""

from __future__ import annotations


class Same:
    """A key equal to itself alone. It holds the object, so that no later one can come to stand at its address in memory."""

    __slots__ = ("it",)

    def __init__(self, it: object) -> None:
        self.it = it

    def __hash__(self) -> int:
        return id(self.it)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and self.it is other.it
