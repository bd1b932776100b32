"""What location data of a real size costs: ratios within this one run, against the sample estate without it.

    python -m benchmarks.locations [--ranges 250000] [--six 110000]

The data is made up, as large and as scattered as what the five registries publish together.
"""

from __future__ import annotations

import argparse
import random
import tempfile
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

import pycountry

from aiguille.demo import write_estate
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


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--ranges", type=int, default=250_000)
    parser.add_argument("--six", type=int, default=110_000)
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        estate, data = folder / "estate", folder / "statistics.txt"
        write_estate(estate)
        data.write_text("\n".join(records(arguments.ranges, arguments.six)) + "\n")
        plain, *_ = whole_process(["audit", str(estate), "--json"], folder, (0, 1))
        print("| location data of a real size | times an audit of the sample estate with its own |")
        print("|---|---|")
        for words in (["geo", "lookup", "198.51.100.7"], ["geo", "reach", str(estate)], ["audit", str(estate)]):
            seconds, memory, _ = whole_process([*words, "--json", "--geo", str(data)], folder, (0, 1))
            print(
                f"| `{' '.join(words[:2] if words[0] == 'geo' else words[:1])}` | {seconds / plain:.1f}, {memory} MiB |",
                flush=True,
            )


if __name__ == "__main__":
    main()
