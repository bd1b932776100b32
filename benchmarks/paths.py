"""Measures packets and whole flows followed over many devices, in a chain and in a star, as ratios within this one run.

    python -m benchmarks.paths [--devices 50] [--rules 200] [--packets 200]

Neither the work for a packet and hop nor that for all that one network reaches, for each device, may grow with their number.
"""

from __future__ import annotations

import argparse
import json
import random
from datetime import date
from time import perf_counter

from aiguille.analysis.network import Network
from aiguille.analysis.paths import Follower
from aiguille.analysis.reach import Reaches
from aiguille.model import Device, Estate
from aiguille.packets import Packet
from aiguille.readers import host
from aiguille.readers.files import decode


def device(name: str, interfaces: dict[str, str], routes: list[dict[str, str]], rules: int) -> Device:
    """A router with some rules, none of which takes the packets that are sent; the last lets them through."""
    draw = random.Random(name)
    lines = [
        f"-A FORWARD -s 172.16.{draw.randrange(256)}.0/24 -p tcp --dport {draw.randrange(1, 65535)} -j DROP\n"
        for _ in range(rules)
    ]
    dump = f"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n{''.join(lines)}-A FORWARD -j ACCEPT\nCOMMIT\n"
    told = [
        {"ifname": one, "flags": ["UP"], "addr_info": [{"local": text, "prefixlen": 24}]}
        for one, text in interfaces.items()
    ]
    files = {"rules.v4": dump, "ip-addr.json": json.dumps(told), "ip-route.json": json.dumps(routes)}
    return host.read([decode(file, text.encode()) for file, text in files.items()], name)


def chain(count: int, rules: int) -> Estate:
    """Routers in a row, network n between the routers n and n + 1."""
    out = []
    for n in range(count):
        routes = [{"dst": f"10.0.{m}.0/24", "gateway": f"10.0.{n}.1", "dev": "left"} for m in range(n)]
        routes += [
            {"dst": f"10.0.{m}.0/24", "gateway": f"10.0.{n + 1}.2", "dev": "right"} for m in range(n + 2, count + 1)
        ]
        out.append(device(f"r{n}", {"left": f"10.0.{n}.2", "right": f"10.0.{n + 1}.1"}, routes, rules))
    return Estate(tuple(out), as_of=date(2026, 11, 28))


def star(count: int, rules: int) -> Estate:
    """A router in the middle, and others with a network each."""
    names = range(1, count)
    routes = [{"dst": f"10.2.{n}.0/24", "gateway": f"10.1.{n}.2", "dev": f"to{n}"} for n in names]
    out = [device("hub", {f"to{n}": f"10.1.{n}.1" for n in names}, routes, rules)]
    for n in names:
        way = [{"dst": "default", "gateway": f"10.1.{n}.1", "dev": "up"}]
        out.append(device(f"s{n}", {"up": f"10.1.{n}.2", "down": f"10.2.{n}.1"}, way, rules))
    return Estate(tuple(out), as_of=date(2026, 11, 28))


def a_hop(estate: Estate, ends: list[tuple[int, int]]) -> tuple[float, float]:
    """Seconds that a packet takes for each hop, its answer included, and hops of a packet."""
    follower = Follower(Network(estate))
    hops = 0
    start = perf_counter()
    for number, (source, destination) in enumerate(ends):
        found = follower.path(Packet(4, "", "", source, destination, 6, 30000 + number, 443, flags=2))
        hops += sum(len(one.hops) for one in (*found.journeys, *found.answers))
    took = perf_counter() - start
    return took / max(hops, 1), hops / len(ends)


def a_device(estate: Estate) -> float:
    """Seconds that all an outer network reaches, over every device, takes for each device."""
    reaches = Reaches(estate)
    source = next(place for place in reversed(reaches.places) if place.end.name in ("right", "down"))
    start = perf_counter()
    found = reaches.reach(source)
    took = perf_counter() - start
    assert len({one.stops[-1].device.name for one in found}) == len(estate.devices)
    return took / len(estate.devices)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--devices", type=int, default=50)
    parser.add_argument("--rules", type=int, default=200)
    parser.add_argument("--packets", type=int, default=200)
    asked = parser.parse_args()
    draw = random.Random(1)
    print("| shape | devices | hops a packet, there and back | a packet's hop | a device of what a network reaches |")
    print("|---|---|---|---|---|")
    for shape, make in (("chain", chain), ("star", star)):
        first = whole = 0.0
        for count in (max(asked.devices // 5, 3), asked.devices):
            estate = make(count, asked.rules)
            low, high = (0, count) if shape == "chain" else (1, count - 1)
            base = 10 << 24 if shape == "chain" else 10 << 24 | 2 << 16
            pairs = [draw.sample(range(low, high + 1), 2) for _ in range(asked.packets)]
            took, hops = a_hop(estate, [(base | one << 8 | 9, base | other << 8 | 9) for one, other in pairs])
            first = first or took
            flows = a_device(estate)
            whole = whole or flows
            print(f"| {shape} | {count} | {hops:.1f} | {took / first:.2f} | {flows / whole:.2f} |")


if __name__ == "__main__":
    main()
