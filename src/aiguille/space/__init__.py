"""Sets of packets: exact algebra over interfaces, addresses, protocols, ports, flags and states.

What needs NumPy is imported from its own module: tables of packets (`table`, `rows`) and the index of long lists (`longindex`).
"""

from aiguille.space.fields import AXES, COUNTED, EVERYTHING, Axis, Box, Space, Symbols, box
from aiguille.space.index import BoxIndex, index_of
from aiguille.space.intervals import IntervalSet
from aiguille.space.packets import Packet, packet_at
from aiguille.space.packetset import PacketSet, everything
from aiguille.space.resolve import Piece, Resolver, expand_mask, symbols_of, term_boxes
from aiguille.space.sentences import COLUMNS, Sketch, families_of, read_row, read_sentence
from aiguille.space.slices import (
    BUDGET,
    Cell,
    Leaf,
    Slices,
    bits_of,
    box_size,
    common_size,
    covers,
    full_cell,
    holds,
    meets,
    overlap,
    subtract,
)

__all__ = [
    "AXES",
    "BUDGET",
    "COLUMNS",
    "COUNTED",
    "EVERYTHING",
    "Axis",
    "Box",
    "BoxIndex",
    "Cell",
    "IntervalSet",
    "Leaf",
    "Packet",
    "PacketSet",
    "Piece",
    "Resolver",
    "Sketch",
    "Slices",
    "Space",
    "Symbols",
    "bits_of",
    "box",
    "box_size",
    "common_size",
    "covers",
    "everything",
    "expand_mask",
    "families_of",
    "full_cell",
    "holds",
    "index_of",
    "meets",
    "overlap",
    "packet_at",
    "read_row",
    "read_sentence",
    "subtract",
    "symbols_of",
    "term_boxes",
]
