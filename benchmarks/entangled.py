"""Rule sets that blow an analysis up: `python -m benchmarks.entangled` writes what each command takes for them and whether it is exact.

Nobody writes such rules; who is audited could. Each command must end within `SECONDS` and `MEMORY`, with the answer or with the
sentence that there is none.
"""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

SECONDS, MEMORY = 30, 1 << 30
HEAD = "*filter\n:INPUT DROP [0:0]\n"
PACKET = "tcp from 198.51.100.7:40000 to 192.0.2.1:22 entering eth0"
COMMANDS = (("rules",), ("audit", "--details"), ("probe", "--packet", PACKET))


def _dump(lines: Iterator[str], chains: int = 0) -> dict[str, str]:
    named = "".join(f":C{n} - [0:0]\n" for n in range(chains))
    return {"gw.v4": HEAD + named + "".join(f"-A {line}\n" for line in lines) + "COMMIT\n"}


def _address(chance: random.Random) -> str:
    return f"10.{chance.randrange(256)}.{chance.randrange(256)}.{chance.randrange(256)}"


def _calls(count: int, condition: str) -> dict[str, str]:
    lines = ["INPUT -j C0", *(f"C{n} {condition}-j C{n + 1}" for n in range(count - 1) for _ in range(2))]
    return _dump(iter([*lines, f"C{count - 1} -p tcp -m tcp --dport 22 -j ACCEPT"]), count)


def _masks(chance: random.Random) -> dict[str, str]:
    return _dump(
        f"INPUT -s {chance.choice((1, 4, 5, 16))}.{chance.choice((4, 5, 16))}.0.85/85.85.85.85 -p tcp -m tcp --dport {port} -j ACCEPT"
        for port in (22, 23, 80, 443, 25)
    )


def _negations(chance: random.Random) -> dict[str, str]:
    return _dump(
        f"INPUT ! -s {_address(chance)} ! -d {_address(chance)} ! -i eth{chance.randrange(5)} "
        f"! -p {chance.choice(('tcp', 'udp', 'icmp'))} "
        f"-m conntrack ! --ctstate {chance.choice(('NEW', 'INVALID'))} -j {chance.choice(('ACCEPT', 'DROP'))}"
        for _ in range(300)
    )


def _ports(chance: random.Random) -> dict[str, str]:
    return _dump(
        f"INPUT -s {_address(chance)}/24 -p tcp -m multiport ! --dports {','.join(str(chance.randrange(1, 65535)) for _ in range(15))} "
        f"-j {chance.choice(('ACCEPT', 'DROP'))}"
        for _ in range(2000)
    )


def _marks(chance: random.Random) -> dict[str, str]:
    return _dump(
        f"INPUT -p tcp -m mark ! --mark {chance.randrange(1, 9)}/{chance.randrange(9, 255)} "
        f"-m tcp ! --tcp-flags SYN,ACK,FIN,RST,PSH,URG {chance.choice(('SYN', 'ACK', 'FIN', 'SYN,ACK'))} "
        f"-j {chance.choice(('ACCEPT', 'DROP'))}"
        for _ in range(300)
    )


def _exceptions(chance: random.Random) -> dict[str, str]:
    entries = "".join(f"add s 10.{n // 250}.{n % 250}.{chance.randrange(256)} nomatch\n" for n in range(20000))
    create = "create s hash:net family inet hashsize 65536 maxelem 65536\nadd s 10.0.0.0/8\n"
    return {**_dump(iter(["INPUT -m set --match-set s src -j ACCEPT"])), "gw.ipset": create + entries}


def _concatenations(chance: random.Random) -> dict[str, str]:
    entries = ", ".join(
        f"10.{n // 250}.{n % 250}.{chance.randrange(250)} . 10.9.{n % 250}.{chance.randrange(250)} . tcp . {chance.randrange(1, 65000)}"
        for n in range(2000)
    )
    kinds = "ipv4_addr . ipv4_addr . inet_proto . inet_service"
    rule = "ip saddr . ip daddr . meta l4proto . th dport != @s accept"
    chain = f"chain i {{\n  type filter hook input priority 0; policy drop;\n  {rule}\n }}"
    return {"gw.nft": f"table ip t {{\n set s {{\n  type {kinds}\n  elements = {{ {entries} }}\n }}\n {chain}\n}}\n"}


SETS: dict[str, Callable[[random.Random], dict[str, str]]] = {
    "5 rules with masks 85.85.85.85": _masks,
    "10 chains, each jumping twice to the next under a rate": lambda _: _calls(10, "-m limit --limit 3/min "),
    "20 chains, each jumping twice to the next": lambda _: _calls(20, ""),
    "300 rules of five negations": _negations,
    "2,000 rules of 15 ports, negated": _ports,
    "300 rules of negated marks and flags": _marks,
    "a set of 20,000 exceptions": _exceptions,
    "2,000 entries of four fields, negated": _concatenations,
}


def main() -> int:
    print("| rules | command | seconds | MiB | answer |\n|---|---|---|---|---|")
    worst = 0
    for what, made in SETS.items():
        with tempfile.TemporaryDirectory() as folder:
            for name, text in made(random.Random(1)).items():
                (Path(folder) / name).write_text(text)
            for command in COMMANDS:
                took, peak, said = _measured([command[0], folder, *command[1:], "--quiet"])
                answer = "in part" if "entangled" in said or "written out" in said else "exact"
                worst += took > SECONDS or peak > MEMORY or "Traceback" in said or "MemoryError" in said
                print(f"| {what} | {command[0]} | {took:.1f} | {peak >> 20} | {answer} |", flush=True)
    print(f"\n{worst} of {len(SETS) * len(COMMANDS)} took more than {SECONDS} s or {MEMORY >> 30} GiB")
    return int(bool(worst))


def _measured(words: list[str]) -> tuple[float, int, str]:
    """Seconds and bytes that a command takes, and what it says."""
    with tempfile.TemporaryFile() as said:
        started = time.monotonic()
        process = subprocess.Popen([sys.executable, "-m", "aiguille", *words], stdout=said, stderr=said)
        _, _, used = os.wait4(process.pid, 0)
        took = time.monotonic() - started
        said.seek(0)
        return took, used.ru_maxrss << 10, said.read().decode()


if __name__ == "__main__":
    sys.exit(main())
