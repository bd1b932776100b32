"""Measures every goal of docs/performance.md in one run and writes the table there, between its marks.

    python -m benchmarks.all [--only PART] [--rounds 3] [--devices 240]

Figures are ratios within this run, so that two machines may be compared; of whole commands the median of some turns, else the best
of some rounds. What limits a goal that is not met is told beside it. Needs the extras `bench` and `cluster`. ``--only`` measures one
part and prints it alone.
"""

from __future__ import annotations

import argparse
import io
import json
import os
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from statistics import median

from msgspec import Struct
from tests.helpers import dialect

from aiguille.demo import write_estate
from aiguille.readers import iptables, mapped
from aiguille.readers.files import decode
from aiguille.readers.locations import read_locations
from benchmarks import cluster, estate, locations, peers
from benchmarks.described import SENTENCES, cloud, least, sentences
from benchmarks.generate import GeneratedRule, as_dump, as_nft, generate, hosting
from benchmarks.reports import best
from benchmarks.run import hidden_alone, timed, whole_process

PAGE = Path(__file__).parents[1] / "docs" / "performance.md"
BEGIN, END = "<!-- figures -->\n", "<!-- end of figures -->\n"

TEN_THOUSAND = 10_000
"""Rules of the large rule sets."""


FEWER = 2_000
"""Rules of the other kind: of more the diagrams take many minutes."""


SHORT = 7
"""Turns of commands that take a second or a few."""


class Row(Struct):
    """A line of the table. aim: how much the figure may be at most, or with `least` must be at least; None: told for its growth"""

    what: str
    figure: float
    aim: float | None = None
    least: bool = False
    limit: str = ""

    def line(self) -> str:
        if self.aim is None:
            return f"| {self.what} | {_number(self.figure)} | | | {self.limit} |"
        met = self.figure >= self.aim if self.least else self.figure <= self.aim
        aim = f"at {'least' if self.least else 'most'} {_number(self.aim)}"
        return f"| {self.what} | {_number(self.figure)} | {aim} | {'yes' if met else '**no**'} | {'' if met else self.limit} |"


def _number(value: float) -> str:
    return f"{value:.2g}" if value < 10 else f"{value:,.0f}"


class Bench:
    """Runs of the program in a folder that goes with them. rounds: of which the best counts"""

    def __init__(self, folder: Path, rounds: int, devices: int) -> None:
        self.folder, self.rounds, self.devices = folder, rounds, devices
        self.sample = folder / "sample"
        write_estate(self.sample)
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")

    def run(self, *words: str | Path) -> float:
        """Seconds of a whole process."""
        return min(whole_process([*map(str, words)], self.folder, (0, 1))[0] for _ in range(self.rounds))

    def paired(self, words: Sequence[str | Path], other: Sequence[str | Path], rounds: int = 0) -> float:
        """Seconds of the program with some words over those of another command, run in turn: the median of the turns' ratios, as a
        machine that others use is quick for a while and slow for another.

        other: words of the program too, or Python's arguments where they begin with ``-c``
        """

        def seconds(given: Sequence[str | Path]) -> float:
            if given[0] == "-c":
                return timed(lambda: subprocess.run([sys.executable, *given], check=True))[0]
            return whole_process([*map(str, given)], self.folder, (0, 1))[0]

        return median(seconds(words) / seconds(other) for _ in range(rounds or self.rounds))

    def memory(self, *words: str | Path) -> int:
        """MiB of its largest process."""
        return whole_process([*map(str, words)], self.folder, (0, 1))[1]

    def dump(self, made: list[GeneratedRule], name: str) -> Path:
        path = self.folder / f"{name}.v4"
        path.write_text(as_dump(made))
        return path


Measure = Callable[[Bench], Iterator[Row]]


def where_addresses_are(bench: Bench) -> Iterator[Row]:
    """Location data."""
    data = locations.made(bench.folder / "made-up.mmdb", 200_000)
    looked = bench.paired(["geo", "lookup", "203.0.113.7", "--geo", data], ["-c", "import maxminddb"], SHORT)
    yield Row("`geo lookup` in an MMDB of 200,000 networks, times `import maxminddb`", looked, 3,
              limit="Python, the program's own modules and the words of its answer")  # fmt: skip
    walk = best(2, lambda: locations.walked(data))
    first, _ = timed(lambda: read_locations([data], cache=True))
    again = best(bench.rounds, lambda: read_locations([data], cache=True))
    yield Row(
        "the same read the first time, times a walk by maxminddb",
        first / walk,
        1.5,
        limit="making a range of each network",
    )
    yield Row("the same out of the compiled copy, times a walk", again / walk)
    many = bench.folder / "million.txt"
    many.write_text("\n".join(locations.records(250_000, 750_000)) + "\n")
    read_locations([many], cache=True)
    numpy = best(bench.rounds, lambda: subprocess.run([sys.executable, "-c", "import numpy"], check=True))
    again = best(bench.rounds, lambda: read_locations([many], cache=True))
    limit = "half of it goes into the digest of the file, by which the copy is found"
    yield Row(
        "a million ranges out of the compiled copy, times `import numpy` (0.1 s if quick)",
        again / numpy,
        3,
        limit=limit,
    )
    audit = ["audit", bench.sample, "--json"]
    reach = ["geo", "reach", bench.sample, "--geo"]
    yield Row("`geo reach` of the sample estate with a million ranges, times its `audit` without",
              bench.paired([*reach, many], audit), 2,
              limit="how much of each country every way in admits, counted range by range")  # fmt: skip
    statistics = bench.folder / "statistics.txt"
    statistics.write_text("\n".join(locations.records(250_000, 110_000)) + "\n")
    bench.run(*reach, statistics)  # makes the compiled copy
    yield Row(
        "the same with 360,000 ranges, as many as the registries publish", bench.paired([*reach, statistics], audit), 2
    )
    yield Row("`audit` of it with 360,000 ranges, times the same without",
              bench.paired([*audit, "--geo", statistics], audit))  # fmt: skip


def long_rule_sets(bench: Bench) -> Iterator[Row]:
    """Ten thousand rules; of the other kind as many as diagrams manage in a minute."""
    for count, name, make in ((TEN_THOUSAND, "", generate), (FEWER, " of a hosting site", hosting)):
        made = make(count)
        path = bench.dump(made, f"long{count}")
        rules, hidden = (bench.run("rules", path, "--json", *words) for words in ((), ("--hidden",)))
        took, _ = timed(lambda made=made: peers.hidden_by_bdd(made, peers.TUNED))  # type: ignore[misc]
        what = f"CUDD for the hidden ones of {count:,} rules{name}, times"
        limit = "the whole process reads the rules and says by which others each is hidden, too"
        yield Row(f"{what} our whole `rules --hidden`", took / hidden, 8, True, limit)
        follows = "answers more: standing, reasons, packet and openness of every rule"
        yield Row(f"{what} our whole `rules`", took / rules, limit=follows)
        yield Row(f"{what} ours for that question alone", hidden_alone(made))
        audit = bench.paired(["audit", path, "--json"], ["rules", path, "--json"])
        limit = "its other checks, and a packet for each thing they find, are beside all that `rules` tells"
        yield Row(f"`audit` of {count:,} rules{name}, times `rules`", audit, 1.3, limit=limit)


def reading(bench: Bench) -> Iterator[Row]:
    """Exports."""
    text, data = as_nft(generate(TEN_THOUSAND))
    dump = as_dump(generate(TEN_THOUSAND))
    split = best(bench.rounds, lambda: [shlex.split(line) for line in dump.splitlines() if line.startswith("[")])
    read = best(bench.rounds, lambda: iptables.read([decode("dump", dump.encode())], "bench"))
    yield Row("reading 10,000 rules of iptables, times `shlex.split` of their lines", read / split, 1)
    from aiguille.readers import nftables

    load = best(bench.rounds, lambda: json.loads(data))
    for name, content, aim in (("as JSON", data, 5.0), ("as text", text, 15.0)):
        took = best(bench.rounds, lambda c=content, n=name: nftables.read([decode(n, c.encode())], "bench"))  # type: ignore[misc]
        yield Row(f"reading 10,000 rules of nftables {name}, times `json.load` of their JSON", took / load, aim)
    told, file = mapped.load("sentences.dialect.yaml", SENTENCES), sentences(TEN_THOUSAND)
    split = best(bench.rounds, lambda: [shlex.split(line.replace("\\", "")) for line in file.lines])
    took = best(bench.rounds, lambda: mapped.read(told, [file], ""))
    yield Row("reading 10,000 sentences sorted by keywords, times `shlex.split` of their lines", took / split, 15)
    site = cloud(10, 0.2)
    export = decode("site", site.encode())
    load, took = least(lambda: json.load(io.StringIO(site)), lambda: mapped.read(dialect("castrevo"), [export], ""))
    yield Row("reading a described make's JSON of 10 MB, times `json.load`", took / load, 6)


def one_finding_and_reports(bench: Bench) -> Iterator[Row]:
    """What people wait for beside an audit."""
    audit = ["audit", bench.sample, "--json"]
    bench.run(*audit)  # keeps the numbers of findings that `explain` looks up
    limit = "starting Python, recognising and reading all exports (siblings are asked about) take three quarters of it"
    explain = ["explain", "F-1", bench.sample]
    yield Row("`explain` of one finding of the sample estate, times `import numpy` (0.1 s if quick)",
              bench.paired(explain, ["-c", "import numpy"], SHORT), 10, limit=limit)  # fmt: skip
    yield Row(
        "the same, times its `audit`",
        bench.paired(explain, audit, SHORT),
        limit="starting and reading are the same for both",
    )
    out = ["--out", bench.folder / "a.html", "--out", bench.folder / "a.xlsx", "--force"]
    both = bench.paired([*audit, *out], audit, SHORT)
    limit = "the workbook's cells, and filling in templates; the audit keeps both processors busy already"
    yield Row("`audit` with page and workbook beside it, times without", both, 1.3, limit=limit)


def many_devices(bench: Bench) -> Iterator[Row]:
    """Estates that grow."""
    few, all_ = bench.devices // 4, bench.devices
    folders = {}
    for count in (few, all_):
        folders[count] = bench.folder / f"devices{count}"
        folders[count].mkdir()
        estate.write(folders[count], count, 200)
    words = ["--json", "--resume"]
    kept = {count: bench.folder / f"kept{count}" for count in folders}
    spent = {
        count: whole_process(["audit", str(folders[count]), *words, str(kept[count])], bench.folder, (0, 1))
        for count in folders
    }
    growth = spent[all_][1] / spent[few][1]
    yield Row(f"memory of {all_} devices of 200 rules audited one by one, times that of {few}", growth, 1.3)
    yield Row(f"the same in MiB, largest process of {all_}", spent[all_][1], 1024)
    yield Row(f"time of {all_} devices, times that of {few} and four", spent[all_][0] / spent[few][0] / 4, 1.2)
    again = bench.run("audit", folders[all_], *words, kept[all_])
    yield Row("an audit taken up where all was done, times the first run", again / spent[all_][0])
    one, two = (cluster.measured(folders[all_], workers) for workers in (1, 2))
    yield Row("devices a second on a cluster of two workers, times one", one.seconds / two.seconds,
              limit="both workers, client and scheduler share two cores")  # fmt: skip
    yield Row("what the scheduler takes for a device, times what a worker does", two.scheduler / two.workers,
              limit=f"keeps {two.workers / two.scheduler:,.0f} workers busy before it saturates")  # fmt: skip
    yield Row("what the client takes for a device, times what a worker does", two.client / two.workers,
              limit=f"keeps {two.workers / two.client:,.0f} workers busy before it saturates")  # fmt: skip


MEASURES: tuple[Measure, ...] = (
    long_rule_sets,
    one_finding_and_reports,
    where_addresses_are,
    reading,
    many_devices,
)


def measured(measures: tuple[Measure, ...], rounds: int, devices: int) -> Iterator[str]:
    """The lines of the table."""
    yield "| what | figure | aim | met | what limits it, or follows |"
    yield "|---|---|---|---|---|"
    with tempfile.TemporaryDirectory() as name:
        bench = Bench(Path(name), rounds, devices)
        for measure in measures:
            for row in measure(bench):
                yield row.line()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", choices=[one.__name__ for one in MEASURES])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--devices", type=int, default=240)
    arguments = parser.parse_args()
    chosen = tuple(one for one in MEASURES if arguments.only in (None, one.__name__))
    lines = []
    for line in measured(chosen, arguments.rounds, arguments.devices):
        print(line, flush=True)
        lines.append(line)
    if arguments.only is None:
        head, _, rest = PAGE.read_text().partition(BEGIN)
        _, _, tail = rest.partition(END)
        PAGE.write_text(head + BEGIN + "\n".join(lines) + "\n" + END + tail)


if __name__ == "__main__":
    main()
