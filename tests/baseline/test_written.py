"""What runs and the files it was made of, as one device; and what the next start would bring."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from aiguille.analysis.written import as_written
from aiguille.baseline import CATALOGUE, Audit, run
from aiguille.model import Device, Estate, Rule
from aiguille.readers import iptables
from aiguille.readers.files import decode
from tests.baseline.test_settings_checks import AS_OF

RUNS = """*filter
:INPUT DROP [7:420]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [9:900]
:doors - [0:0]
[50:5000] -A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
[3:180] -A INPUT -j doors
[2:120] -A doors -s 192.0.2.0/24 -p tcp -m tcp --dport 22 -j ACCEPT
[1:60] -A doors -p tcp -m tcp --dport 443 -j ACCEPT
COMMIT
"""
JAIL = """:f2b-sshd - [0:0]
[4:240] -A INPUT -p tcp -m multiport --dports 22 -j f2b-sshd
[0:0] -A f2b-sshd -s 198.51.100.9/32 -j REJECT
[4:240] -A f2b-sshd -j RETURN
"""
FILES = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
:doors - [0:0]
-A INPUT -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT
-A INPUT -j doors
-A doors -p tcp --dport 22 -s 192.0.2.0/24 -m comment --comment "operators, T-114" -j ACCEPT
-A doors -p tcp --dport 443 -m comment --comment "the shop, T-120" -j ACCEPT
COMMIT
"""
SSH, SHOP = "operators, T-114", "the shop, T-120"
CASES = [
    # what runs, what is written, whether they are the same, comments of the two doors, what the next start brings
    ("the same", RUNS, FILES, True, (SSH, SHOP), []),
    ("a jail hung in", RUNS.replace("[50:", JAIL + "[50:"), FILES, False, (SSH, SHOP), []),
    ("changed by hand", RUNS.replace("443", "8443"), FILES, False, (SSH, ""), [":443 is refused now and accepted"]),
    ("added by hand", RUNS.replace("[3:", "[5:9] -A INPUT -p tcp --dport 3389 -j ACCEPT\n[3:"), FILES, False, (SSH, SHOP),
     [":3389 is accepted now and refused"]),
    ("opened", RUNS, FILES.replace("INPUT DROP", "INPUT ACCEPT"), False, (SSH, SHOP), ["is refused now and accepted"]),
    ("an unknown word", RUNS, FILES.replace("443", "443 -m peculiar --so"), False, (SSH, ""), None),
]  # fmt: skip


def joined(runs: str, files: str) -> tuple[Device, Audit]:
    """Both as one device, and what is said of its next start."""
    running, written = (
        iptables.read([decode(name, text.encode())], "box") for name, text in (("runs", runs), ("files", files))
    )
    device = as_written(replace(running, written=written.rulebases, saved=written.rulebases))
    (check,) = (one for one in CATALOGUE if one.id == "system.unsaved")
    return device, run(Estate((device,), AS_OF), [check], raise_crashes=True)


@pytest.mark.parametrize(
    ("runs", "files", "same", "comments", "next_start"), [c[1:] for c in CASES], ids=[c[0] for c in CASES]
)
def test_one_device(runs: str, files: str, same: bool, comments: tuple[str, str], next_start: list[str] | None) -> None:
    device, done = joined(runs, files)
    rules: dict[tuple[str, int], Rule] = {
        (chain.name, rule.number): rule for base in device.rulebases for chain, rule in base.rules()
    }
    doors = [rules["doors", number] for number in (1, 2)]
    assert tuple(rule.comment for rule in doors) == comments
    assert tuple(rule.where.file for rule in doors) == tuple("files" if one else "runs" for one in comments)
    # The counters are those of what runs, whoever says the rule; so is its order.
    assert [rule.hits.packets for rule in doors if rule.hits] == [2, 1]
    assert ("lends its counters" in device.recognised) is same
    assert len(rules) == runs.count("] -A ")
    if next_start is None:
        assert [one.outcome.value for one in done.outcomes] == ["cannot tell"]
    else:
        assert len(done.findings) == len(next_start)
        for words, finding in zip(next_start, done.findings, strict=True):
            assert words in finding.detail.replace(" entering other0", "").replace("'", "")


SENT = "-A PREROUTING -i eth0 -p tcp -m tcp --dport 8443 -j DNAT --to-destination 10.0.0.5:443"
HIDDEN = "-A POSTROUTING -o eth0 -j MASQUERADE"
HIDDEN_BY_ENGINE = "-A POSTROUTING -s 172.17.0.0/16 ! -o docker0 -j MASQUERADE"
KEPT = "-A INPUT -m conntrack --ctstate INVALID -j LOG --log-prefix odd"


def with_nat(text: str, *rules: str) -> str:
    return "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n" + "\n".join((*rules, "COMMIT")) + "\n" + text


@pytest.mark.parametrize(
    ("runs", "files", "severity", "said"),
    [
        (with_nat(RUNS, SENT, HIDDEN), with_nat(FILES, SENT, HIDDEN), "", ""),
        (
            with_nat(RUNS, SENT),
            with_nat(FILES),
            "high",
            "Rule 1 of chain PREROUTING sends packets elsewhere now and not after",
        ),
        (
            with_nat(RUNS),
            with_nat(FILES, SENT),
            "high",
            "Rule 1 of chain PREROUTING sends packets elsewhere only after",
        ),
        (with_nat(RUNS, SENT.replace("8443", "8444")), with_nat(FILES, SENT), "high", "and rule 1 of chain PREROUTING"),
        (with_nat(RUNS, HIDDEN), with_nat(FILES), "medium", "hides where packets come from now and not after"),
        (with_nat(RUNS, HIDDEN_BY_ENGINE), with_nat(FILES), "", ""),
        (RUNS.replace("[3:", f"{KEPT}\n[3:"), FILES, "low", "Rule 2 of chain INPUT records packets now and not after"),
    ],
)
def test_what_is_sent_on_and_recorded_counts_as_well(runs: str, files: str, severity: str, said: str) -> None:
    device, done = joined(runs, files)
    assert ("lends its counters" in device.recognised) is (not severity and "docker0" not in runs)
    assert [one.severity.value for one in done.findings] == ([severity] if severity else [])
    assert all(said in one.detail for one in done.findings)
