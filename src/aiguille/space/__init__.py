"""Sets of packets: exact algebra over interfaces, addresses, protocols, ports, flags and states.

The index of long lists (`longindex`) needs NumPy and is imported from its own module.
"""

from aiguille.space.boxes import (
    Cell,
    box_size,
    common_size,
    covers,
    full_cell,
    holds,
    meets,
    overlap,
    samples,
    subtract,
)
from aiguille.space.fields import AXES, COUNTED, EVERYTHING, Axis, Box, Space, Symbols, box
from aiguille.space.index import BoxIndex, index_of
from aiguille.space.intervals import IntervalSet
from aiguille.space.packetset import PacketSet, everything
from aiguille.space.slices import BUDGET, Leaf, Slices, bits_of

__all__ = [
    "AXES",
    "BUDGET",
    "COUNTED",
    "EVERYTHING",
    "Axis",
    "Box",
    "BoxIndex",
    "Cell",
    "IntervalSet",
    "Leaf",
    "PacketSet",
    "Slices",
    "Space",
    "Symbols",
    "bits_of",
    "box",
    "box_size",
    "common_size",
    "covers",
    "everything",
    "full_cell",
    "holds",
    "index_of",
    "meets",
    "overlap",
    "samples",
    "subtract",
]
