"""A make of nested sections: a book of names in each zone, exceptions, rules and a default for each pair of zones."""

from __future__ import annotations

import random
from ipaddress import ip_address, ip_network

import pytest
from msgspec import Struct

from aiguille.model import Device
from aiguille.readers import mapped
from aiguille.readers.files import decode
from aiguille.readers.mapped.loading import load
from tests.readers.test_firewall_files import deciders, verdicts

LODGE = r"""
dialect: lodge
make: Lodge gatehouse
language: 1
recognise: {first-lines: "^-- lodge gatehouse"}
structure:
  family: text
  indentation: true
  comments: ["--"]
  sentences:
    - {of: [between], keywords: {and: {takes: word}}}
words:
  deed: {admit: accept, forbid: drop}
interfaces: {at: wing/leg, name: "@1", addresses: "@2", zone: ../@1}
zones: {at: wing, name: "@1", side: {is: inside}}
addresses:
  - {at: wing/book/host, name: {join: [../../@1, "@1"]}, members: "@2"}
  - {at: wing/book/clan, name: {join: [../../@1, "@1"]}, members: {from: "@2-", split: ",", book: ../../@1}, kind: group}
  - {at: everywhere/host, name: "@1", members: "@2"}
services:
  - {at: everywhere/trade, name: "@1", protocol: "@2", destination-ports: "@3-"}
rulebases:
  - name: between wings
    direction: through-device
    lists:
      - at: between/entry
        rule:
          action: {from: do, words: deed}
          in-zone: ../@1
          out-zone: ../and
          name: "@1"
          source: {from: who, book: ../@1, except: who/save}
          destination: {from: whom, book: ../and, except: whom/save}
          service: what
          logged: {from: writes, missing: false}
      - at: between
        shares: true
        rule:
          action: {from: otherwise, words: deed}
          in-zone: "@1"
          out-zone: and
    unmatched: {action: {is: drop}, logged: {is: false}}
"""
WINGS = {"yard": ("e1", "10.3.0.0/16"), "office": ("e2", "10.4.0.0/16"), "hall": ("e3", "10.5.0.0/16")}
BOOKS = {
    wing: {"cam1": f"{net[:5]}1.10", "cam2": f"{net[:5]}1.11", "desk": f"{net[:5]}2.0/24"}
    for wing, (_, net) in WINGS.items()
}
TRADES = {"web": ("tcp", (80, 443)), "steering": ("tcp", (502,)), "names": ("udp", (53,))}


class Entry(Struct):
    """An entry as its writer meant it; names are those of the wing's own book, or the one all share."""

    name: str
    admits: bool
    who: list[str]
    whom: list[str]
    but: list[str]
    trades: list[str]

    def text(self) -> str:
        lines = [f"  entry {self.name}", f"    do {'admit' if self.admits else 'forbid'}"]
        lines += [f"    who {' '.join(self.who)}"] if self.who else []
        lines += [f"    whom {' '.join(self.whom)}"] if self.whom else []
        lines += [f"      save {' '.join(self.but)}"] if self.whom and self.but else []
        lines += [f"    what {' '.join(self.trades)}"] if self.trades else []
        return "\n".join(lines)

    def takes(self, into: str, out: str, source: str, end: str, protocol: str, port: int) -> bool:
        def among(address: str, names: list[str], wing: str) -> bool:
            return any(ip_address(address) in ip_network(one) for name in names for one in meant(name, wing))

        return (
            (not self.who or among(source, self.who, into))
            and (not self.whom or (among(end, self.whom, out) and not (self.but and among(end, self.but, out))))
            and (not self.trades or any(TRADES[t][0] == protocol and port in TRADES[t][1] for t in self.trades))
        )


def meant(name: str, wing: str) -> list[str]:
    """What a name stands for in a wing: a clan, a host of its book, else the one that all share."""
    if name == "cams":
        return [BOOKS[wing]["cam1"], BOOKS[wing]["cam2"]]
    return [BOOKS[wing].get(name, "198.51.100.7/32" if name == "carer" else name)]


def lodge(pairs: dict[tuple[str, str], tuple[list[Entry], bool]]) -> Device:
    lines = ["-- lodge gatehouse, all of it", "everywhere", "  host carer 198.51.100.7", "  host cam1 192.0.2.250"]
    lines += [f"  trade {name} {protocol} {' '.join(map(str, ports))}" for name, (protocol, ports) in TRADES.items()]
    for wing, (leg, net) in WINGS.items():
        lines += [f"wing {wing}", f"  leg {leg} {net.replace('0.0/', '0.1/')}", "  book"]
        lines += [f"    host {name} {address}" for name, address in BOOKS[wing].items()] + ["    clan cams cam1,cam2"]
    for (into, out), (entries, admits) in pairs.items():
        lines += [f"between {into} and {out}", *(one.text() for one in entries)]
        lines += [f"  otherwise {'admit' if admits else 'forbid'}"]
    file = decode("lodge.txt", ("\n".join(lines) + "\n").encode())
    (device,) = mapped.read(load("lodge.dialect.yaml", LODGE), [file], "lodge")
    return device


@pytest.mark.parametrize("seed", range(3))
def test_names_are_looked_up_in_the_book_of_their_wing(seed: int) -> None:
    chance = random.Random(seed)
    names = ["cam1", "cams", "desk", "carer"]
    pairs: dict[tuple[str, str], tuple[list[Entry], bool]] = {}
    for into in WINGS:
        for out in WINGS:
            if into != out and chance.random() < 0.8:
                entries = [
                    Entry(f"e{n}", chance.random() < 0.6, chance.choice([[], chance.sample(names, 2)]),
                          chance.choice([[], chance.sample(names, 2)]), chance.choice([[], ["cam2"]]),
                          chance.choice([[], chance.sample(list(TRADES), 2)]))
                    for n in range(4)
                ]  # fmt: skip
                pairs[into, out] = (entries, chance.random() < 0.3)
    device = lodge(pairs)
    assert not device.ledger.unread, [entry.why for entry in device.ledger.unread]
    packets, expected, rules = [], "", []
    for _ in range(60):
        into, out = chance.sample(list(WINGS), 2)
        source = chance.choice(
            [*(a.replace(".0/24", ".9") for a in BOOKS[into].values()), "198.51.100.7", "192.0.2.250"]
        )
        end = chance.choice([*(a.replace(".0/24", ".9") for a in BOOKS[out].values()), "192.0.2.250", "198.51.100.7"])
        protocol, port = chance.choice([("tcp", 80), ("tcp", 502), ("udp", 53), ("tcp", 22)])
        packets.append(
            f"{protocol} from {source}:40000 to {end}:{port} entering {WINGS[into][0]} leaving {WINGS[out][0]}"
        )
        entries, admits = pairs.get((into, out), ([], False))
        taking = next((one for one in entries if one.takes(into, out, source, end, protocol, port)), None)
        expected += "A" if (taking.admits if taking is not None else admits) else "D"
        default = f"between {into} and {out}" if (into, out) in pairs else ""
        rules.append(f"entry {taking.name}" if taking is not None else default)
    assert verdicts(device, *packets) == expected
    assert deciders(device, *packets) == rules
