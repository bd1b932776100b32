"""Measures Aiguille against its peers on generated rule sets and prints Markdown: ratios within this one run.

    python -m benchmarks.run [--sizes 300,1000,3000,10000] [--large] [--packets 1000000]

Needs the extra `bench`. ``--large`` adds 100,000 rules, which the peers are spared. Answers are compared: a rule that one tool
calls hidden and another does not ends the run.
"""

from __future__ import annotations

import argparse
import json
import random
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from functools import partial
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from statistics import median
from typing import TypeVar

from aiguille.model import Direction
from benchmarks import peers
from benchmarks.generate import GeneratedRule, as_dump, as_ipv6, as_nft, generate, hosting, widened

T = TypeVar("T")

BDD_LIMIT = 10_000
SOLVER_LIMIT = 300

RUNS = 5
"""Of what takes seconds; the medians are compared."""


def timed(work: Callable[[], T]) -> tuple[float, T]:
    start = time.perf_counter()
    result = work()
    return time.perf_counter() - start, result


_MEASURE = """
import json, resource, subprocess, sys, time
start = time.perf_counter()
code = subprocess.run(sys.argv[2:], stdout=open(sys.argv[1], "wb")).returncode
took = time.perf_counter() - start
print(json.dumps([code, took, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss]))
"""
"""Runs a command from a small process of its own: a child starts with the memory of whoever starts it."""


def whole_process(words: Sequence[str], folder: Path, codes: Sequence[int] = (0,)) -> tuple[float, int, bytes]:
    """Seconds, peak memory of the largest process in MiB, and output of one run of the program.

    codes: what it may end with
    """
    out = folder / "output"
    command = [sys.executable, "-c", _MEASURE, str(out), sys.executable, "-m", "aiguille", *words]
    measured = subprocess.run(command, stdout=subprocess.PIPE, check=True)
    code, seconds, memory = json.loads(measured.stdout)
    if code not in codes:
        raise SystemExit(f"aiguille {' '.join(words)} failed")
    return seconds, memory // 1024, out.read_bytes()


def standings_in(output: bytes) -> list[str]:
    return [rule["standing"] for rule in json.loads(output)["rules"]]


def rules_table(sizes: Sequence[int], folder: Path) -> None:
    print(
        "| rules | hidden | `aiguille rules` | memory | all standings by BDD (CUDD), tuned order | hidden rules alone, tuned order "
        "| the same, header order | the same by z3 |"
    )
    print("|---|---|---|---|---|---|---|---|")
    first: tuple[int, float] | None = None
    for size in sizes:
        made = generate(size)
        path = folder / f"{size}.v4"
        path.write_text(as_dump(made))
        seconds, memory, output = whole_process(["rules", str(path), "--json"], folder)
        standings = standings_in(output)
        hidden = [r["rule"] - 1 for r in json.loads(output)["rules"] if r["witness"] is None]
        growth = "" if first is None else f", {seconds / first[1]:.1f} times {first[0]} rules"
        first = first or (size, seconds)
        cells = [f"{size:,}", f"{len(hidden):,}", f"1{growth}", f"{memory} MiB"]
        cells += [
            _bdd(made, standings, seconds, peers.standings_by_bdd, BDD_LIMIT),
            _bdd(made, hidden, seconds, peers.hidden_by_bdd, BDD_LIMIT),
            _bdd(made, hidden, seconds, partial(peers.hidden_by_bdd, order=peers.HEADER), BDD_LIMIT // 3),
            _solver(made, hidden, seconds),
        ]
        print(f"| {' | '.join(cells)} |", flush=True)


def _bdd(
    rules: list[GeneratedRule],
    ours: Sequence[object],
    seconds: float,
    peer: Callable[[list[GeneratedRule]], Sequence[object]],
    limit: int,
) -> str:
    """Times the peer over ours; up to so many rules."""
    if len(rules) > limit:
        return "not run"
    took, found = timed(lambda: peer(rules))
    if found != ours:
        raise SystemExit(f"the diagrams disagree on {len(rules)} rules")
    return f"{took / seconds:.2f}"


def _solver(rules: list[GeneratedRule], hidden: list[int], seconds: float) -> str:
    if len(rules) > 1000:
        return "not run"
    wanted = range(min(len(rules), SOLVER_LIMIT))
    took, found = timed(lambda: peers.hidden_by_solver(rules, wanted))
    if found != [number for number in hidden if number in wanted]:
        raise SystemExit(f"the solver disagrees on {len(rules)} rules")
    return f"{took / seconds:.2f} for the first {len(wanted)}"


def hidden_alone(made: list[GeneratedRule]) -> float:
    """The peers' own question, and no other, in one process each, reading left out on both sides: their time over ours."""
    from aiguille.analysis.program import Programs
    from aiguille.analysis.standing import hidden_steps
    from aiguille.model import Direction
    from aiguille.readers import iptables
    from aiguille.readers.files import decode

    device = iptables.read([decode("dump", as_dump(made).encode())], "bench")

    def ours() -> list[int]:
        program = Programs(device).get(4, Direction.THROUGH_DEVICE)
        return [] if program is None else hidden_steps(program)

    seconds, found = timed(ours)
    took, theirs = timed(lambda: peers.hidden_by_bdd(made, peers.TUNED))
    if found != theirs:
        raise SystemExit("the answers differ")
    return took / seconds


def reading(size: int, folder: Path) -> None:
    from aiguille.readers import iptables
    from aiguille.readers.files import decode

    text = as_dump(generate(size))
    lines = text.splitlines()
    split, _ = timed(lambda: [shlex.split(line) for line in lines if line.startswith("[")])
    read, _ = timed(lambda: iptables.read([decode("dump", text.encode())], "bench"))
    print(f"\nReading {size:,} rules takes {read / split:.2f} times `shlex.split` over the same lines.")


def reading_nft(size: int) -> None:
    """Both forms of one nft rule set, against `json.load` of the JSON; what is read must be the same."""
    from aiguille.readers import nftables
    from aiguille.readers.files import decode

    text, data = as_nft(generate(size))
    load, _ = timed(lambda: json.loads(data))
    took, device = timed(lambda: nftables.read([decode("rules.json", data.encode())], "bench"))
    spent, other = timed(lambda: nftables.read([decode("rules.nft", text.encode())], "bench"))
    rules, others = ([rule.match for b in d.rulebases for _, rule in b.rules()] for d in (device, other))
    if rules != others or len(rules) != size:
        raise SystemExit("the two forms of a rule set were read differently")
    print(
        f"\nReading {size:,} nft rules takes {took / load:.1f} times `json.load` of their JSON form, and from their text "
        f"{spent / load:.1f} times the same."
    )


def packets(count: int, folder: Path, family: int) -> None:
    """A table of packets of one family through `probe`, and through a plain loop over rules in Python."""
    made = generate(1000) if family == 4 else as_ipv6(generate(1000))
    dump, table = folder / f"probe.v{family}", folder / "packets.csv"
    dump.write_text(as_dump(made))
    rnd = random.Random(1)
    rows = []
    for number in range(count):
        source, destination = (f"10.{rnd.randrange(8)}.{rnd.randrange(48)}.{rnd.randrange(256)}" for _ in range(2))
        zones = f"zone{source.split('.')[1]},zone{destination.split('.')[1]}"
        if family == 6:
            source, destination = (
                str(IPv6Address(widened(int(IPv4Address(one)), rnd.getrandbits(64)))) for one in (source, destination)
            )
        rows.append(f"{number},{zones},{source},{destination},tcp,{rnd.randrange(65536)},{rnd.randrange(10000)},,,,")
    table.write_text(
        "id,in,out,src,dst,protocol,sport,dport,icmp_type,icmp_code,tcp_flags,state\n" + "\n".join(rows) + "\n"
    )
    words = ["probe", str(dump), "--packets", str(table)]
    sample = min(count, 3000)
    ratios: dict[str, list[float]] = {"--json": [], "as lines": []}
    loops = []
    for _ in range(RUNS):  # each beside a loop of its own: a machine may be slow for a while
        for what, flags in (("--json", ["--json"]), ("as lines", [])):
            took, plain = timed(lambda: [peers.first_match(made, row.split(",")) for row in rows[:sample]])
            seconds, memory, output = whole_process([*words, *flags], folder)
            loops.append(took)
            ratios[what].append((count / seconds) / (sample / took))
            if flags and plain != [p["decided_by"]["rule"] for p in json.loads(output)["packets"][:sample]]:
                raise SystemExit("the plain loop disagrees")
            if not flags and output.count(b"\n") != count:
                raise SystemExit("the view lacks packets")
    for what, found in ratios.items():
        print(
            f"\n{count:,} IPv{family} packets on 1,000 rules: the whole process of `probe --packets` ({what}) handles "
            f"{median(found):.0f} times the packets per second of a plain Python loop over rules "
            f"({min(found):.0f} to {max(found):.0f}); {memory} MiB."
        )
    took = median(loops)
    classify(made, rows, sample / took, family)


def classify(made: list[GeneratedRule], rows: list[str], plain: float, family: int) -> None:
    """The decision alone, without reading the table and writing JSON."""
    from aiguille.analysis.program import Programs
    from aiguille.analysis.walk.bulk import Classifier, settle
    from aiguille.packets import COLUMNS
    from aiguille.packets.table import TableFile
    from aiguille.readers import iptables
    from aiguille.readers.files import decode

    device = iptables.read([decode(f"dump.v{family}", as_dump(made).encode())], "bench")
    programs = Programs(device)
    file = TableFile("\n".join([",".join(COLUMNS), *rows]).encode())
    symbols = programs.resolver(family).space.symbols
    took, tables = timed(lambda: [file.read(part, symbols) for part in file.parts])

    def decide() -> None:
        program = programs.get(family, Direction.THROUGH_DEVICE)
        assert program is not None
        classifier = Classifier(program)
        for table in tables:
            for group in table.groups:
                settle(classifier, group)

    seconds, _ = timed(decide)
    print(f"Reading the table alone: {len(rows) / took / plain:.0f} times.")
    print(f"The decision alone, packets once read: {len(rows) / seconds / plain:.0f} times.")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sizes", default="300,1000,3000,10000")
    parser.add_argument("--large", action="store_true")
    parser.add_argument("--packets", type=int, default=1_000_000)
    arguments = parser.parse_args()
    sizes = [int(size) for size in arguments.sizes.split(",")]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rules_table([*sizes, *([100_000] if arguments.large else [])], folder)
        for name, make in (("our rules", generate), ("rules of a hosting site", hosting)):
            ratio = hidden_alone(make(max(sizes)))
            print(
                f"\nThe hidden-rule question alone on {max(sizes):,} of {name}: BDD in tuned order {ratio:.1f} times ours."
            )
        reading(100_000 if arguments.large else max(sizes), folder)
        reading_nft(100_000 if arguments.large else max(sizes))
        for family in (4, 6):
            packets(arguments.packets, folder, family)


if __name__ == "__main__":
    main()
