"""Packets one by one: what a packet is, sentences and tables of them.

What needs NumPy is imported from its own module: tables of packets (`table`, `rows`).
"""

from aiguille.packets.packet import Packet, packet_at
from aiguille.packets.sentences import COLUMNS, Sketch, families_of, read_row, read_sentence

__all__ = ["COLUMNS", "Packet", "Sketch", "families_of", "packet_at", "read_row", "read_sentence"]
