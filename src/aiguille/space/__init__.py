"""Sets of packets: exact algebra over interfaces, addresses, protocols, ports, flags and states."""

from aiguille.space.fields import AXES, COUNTED, EVERYTHING, Axis, Box, Space, Symbols, box
from aiguille.space.index import BoxIndex
from aiguille.space.intervals import IntervalSet
from aiguille.space.packets import Packet, packet_at, spell_address, spell_flags, spell_protocol
from aiguille.space.packetset import PacketSet, everything
from aiguille.space.resolve import Piece, Resolver, expand_mask, symbols_of, term_boxes
from aiguille.space.slices import BUDGET, Cell, Leaf, Slices, box_size, full_cell, overlap, subtract

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
    "Packet",
    "PacketSet",
    "Piece",
    "Resolver",
    "Slices",
    "Space",
    "Symbols",
    "box",
    "box_size",
    "everything",
    "expand_mask",
    "full_cell",
    "overlap",
    "packet_at",
    "spell_address",
    "spell_flags",
    "spell_protocol",
    "subtract",
    "symbols_of",
    "term_boxes",
]
