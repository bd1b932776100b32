"""Rule sets that have no short exact answer end all the same: with what is sure, and with what cannot be told."""

import json
import random
import subprocess
import sys
from pathlib import Path

import pytest

AIGUILLE = [str(Path(sys.executable).parent / "aiguille")]
CHAINS = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n"


def _negations() -> str:
    pick = random.Random(1)
    address = lambda: ".".join(str(pick.randrange(1, 250)) for _ in range(4))  # noqa: E731
    return "".join(
        f"-A INPUT ! -s {address()} ! -d {address()} ! -i eth{n} -p tcp ! --sport {n} ! --dport {n + 9} -j ACCEPT\n"
        for n in range(120)
    )


def _calls(count: int, condition: str) -> str:
    named = "".join(f":C{n} - [0:0]\n" for n in range(count + 1))
    twice = "".join(f"-A C{n} {condition}-j C{n + 1}\n" * 2 for n in range(count))
    return f"{named}-A INPUT -j C0\n{twice}-A C{count} -p tcp --dport 22 -j ACCEPT\n"


CALLS = _calls(20, "")
MASKS = "-A INPUT -s 10.0.0.1/85.85.85.85 -d 10.0.0.1/170.170.85.85 -j ACCEPT\n" * 3


@pytest.mark.parametrize(
    ("rules", "entangled", "found"),
    [
        (_negations(), True, False),
        (_calls(7, "-m limit --limit 5/sec "), False, True),
        (CALLS, True, False),
        (MASKS, True, False),
    ],
    ids=["negations", "calls under a rate", "calls", "masks with holes"],
)
def test_entangled_rules_end_and_say_so(tmp_path: Path, rules: str, entangled: bool, found: bool) -> None:
    (tmp_path / "gw.v4").write_text(f"{CHAINS}{rules}COMMIT\n")
    done = subprocess.run(
        [*AIGUILLE, "audit", "gw.v4", "--outside", "eth0", "--json", "--quiet"],
        capture_output=True, text=True, cwd=tmp_path, check=False, timeout=120,
    )  # fmt: skip
    told = json.loads(done.stdout)
    said = [o["because"] for o in told["outcomes"] if "too entangled" in o["because"] or "written out" in o["because"]]
    assert bool(said) is entangled, done.stderr
    assert all(o["outcome"] == "cannot tell" for o in told["outcomes"] if o["because"] in said)
    assert any(f["check"] == "access.reachable-from-outside" for f in told["findings"]) is found
    passed = {o["check"] for o in told["outcomes"] if o["outcome"] == "pass"}
    assert "access.reachable-from-outside" not in passed or not entangled
