"""Sets of packets: exact algebra over interfaces, addresses, protocols, ports, flags and states."""

from aiguille.space.fields import AXES, COUNTED, EVERYTHING, Axis, Box, Space, Symbols, box
from aiguille.space.index import BoxIndex
from aiguille.space.intervals import IntervalSet
from aiguille.space.packets import Packet, packet_at
from aiguille.space.packetset import PacketSet, everything
from aiguille.space.resolve import Piece, Resolver, expand_mask, symbols_of, term_boxes
from aiguille.space.rows import Fault, Group, PacketTable
from aiguille.space.sentences import COLUMNS, Sketch, families_of, read_row, read_sentence
from aiguille.space.slices import (
    BUDGET,
    Cell,
    Leaf,
    Slices,
    box_size,
    common_size,
    full_cell,
    holds,
    meets,
    overlap,
    subtract,
)
from aiguille.space.table import Part, TableFile

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
    "Fault",
    "Group",
    "IntervalSet",
    "Leaf",
    "Packet",
    "PacketSet",
    "PacketTable",
    "Part",
    "Piece",
    "Resolver",
    "Sketch",
    "Slices",
    "Space",
    "Symbols",
    "TableFile",
    "box",
    "box_size",
    "common_size",
    "everything",
    "expand_mask",
    "families_of",
    "full_cell",
    "holds",
    "meets",
    "overlap",
    "packet_at",
    "read_row",
    "read_sentence",
    "subtract",
    "symbols_of",
    "term_boxes",
]
