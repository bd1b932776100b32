"""What location data of a real size costs: ratios within this one run, against the sample estate without it.

    python -m benchmarks.locations [--ranges 250000] [--six 110000] [--networks 200000]

The data is made up, as large and as scattered as what the five registries publish together. An MMDB file of as many networks as
`--networks` says is read the first time, then out of the compiled copy, beside a bare walk of it by maxminddb.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import tempfile
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

import maxminddb
import pycountry
from mmdb_writer import MMDBWriter
from netaddr import IPNetwork, IPSet

from aiguille.demo import write_estate
from aiguille.readers.locations import read_locations
from benchmarks.described import seconds
from benchmarks.run import whole_process

CODES = sorted(country.alpha_2 for country in pycountry.countries)


def records(ranges: int, six: int, seed: int = 4) -> Iterator[str]:
    """A registry statistics file."""
    rnd = random.Random(seed)
    yield f"2|made-up|20261101|{ranges + six}|19830101|20261101|+0000"
    at, last = int(IPv4Address("1.0.0.0")), int(IPv4Address("223.255.255.255"))
    for _ in range(ranges):
        size = 1 << rnd.choice((8, 8, 9, 10, 10, 11, 12, 13, 14, 16))
        if at + size > last:
            break
        yield f"made-up|{rnd.choice(CODES)}|ipv4|{IPv4Address(at)}|{size}|20100101|allocated"
        at += size
    for number in range(six):
        start = int(IPv6Address("2001:200::")) + (number << 96)
        yield f"made-up|{rnd.choice(CODES)}|ipv6|{IPv6Address(start)}|32|20100101|allocated"


def made(path: Path, networks: int, seed: int = 3) -> Path:
    """An MMDB file of that many networks of both families; neighbours are of different countries, as a rule."""
    rnd = random.Random(seed)
    writer = MMDBWriter(6, "made-up-country", ipv4_compatible=True)
    for number in range(networks):
        four = f"{11 + (number >> 16) % 200}.{number >> 8 & 255}.{number & 255}.0/24"
        text = four if number % 4 else f"2a00:{number >> 16:x}:{number & 0xFFFF:x}::/48"
        writer.insert_network(IPSet([IPNetwork(text)]), {"country": {"iso_code": rnd.choice(CODES)}})
    writer.to_db_file(str(path))
    return path


def walked(path: Path) -> int:
    with maxminddb.open_database(str(path), maxminddb.MODE_MEMORY) as reader:
        return sum(1 for _ in reader)


def copies(folder: Path, networks: int) -> None:
    """The first reading and those after it, in times of a walk."""
    path = made(folder / "made-up.mmdb", networks)
    walk = min(seconds(lambda: walked(path)) for _ in range(2))
    first = seconds(lambda: read_locations([path], cache=True))
    again = min(seconds(lambda: read_locations([path], cache=True)) for _ in range(3))
    print("\n| networks of an MMDB file | first reading, times a walk | out of the copy, times a walk |")
    print("|---|---|---|")
    print(f"| {networks:,} | {first / walk:.1f} | {again / walk:.2f} |")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--ranges", type=int, default=250_000)
    parser.add_argument("--six", type=int, default=110_000)
    parser.add_argument("--networks", type=int, default=200_000)
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_CACHE_HOME"] = f"{folder}/cache"
        estate, data = folder / "estate", folder / "statistics.txt"
        write_estate(estate)
        data.write_text("\n".join(records(arguments.ranges, arguments.six)) + "\n")
        plain, *_ = whole_process(["audit", str(estate), "--json"], folder, (0, 1))
        print("| location data of a real size | read anew | the first time | out of the copy |")
        print("|---|---|---|---|")
        for words in (["geo", "lookup", "198.51.100.7"], ["geo", "reach", str(estate)], ["audit", str(estate)]):
            shutil.rmtree(f"{folder}/cache", ignore_errors=True)
            told = []
            for more in (["--no-cache"], [], []):
                took, memory, _ = whole_process([*words, "--json", "--geo", str(data), *more], folder, (0, 1))
                told.append(f"{took / plain:.1f}, {memory} MiB")
            called = " ".join(words[:2] if words[0] == "geo" else words[:1])
            print(f"| `{called}` | {' | '.join(told)} |", flush=True)
        copies(folder, arguments.networks)


if __name__ == "__main__":
    main()
