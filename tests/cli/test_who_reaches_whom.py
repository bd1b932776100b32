"""`flows`, `compare`, `--as-if` and paths over several devices, through the installed program."""

from __future__ import annotations

import json
from importlib import resources
from pathlib import Path

import jsonschema
import pytest

import aiguille
from aiguille.demo import write_estate
from tests.helpers import run

BEFORE = """*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i lo -j ACCEPT
-A INPUT -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT
-A INPUT -s 10.0.0.0/24 -p tcp --dport 22 -j ACCEPT
-A INPUT -p tcp --dport 443 -j ACCEPT
-A FORWARD -m set --match-set partners src -j ACCEPT
-A FORWARD -i eth1 -o eth0 -j ACCEPT
COMMIT
"""
AFTER = (
    BEFORE.replace("10.0.0.0/24", "10.0.0.0/16")
    .replace("--dport 443 -j ACCEPT", "--dport 443 -j DROP")
    .replace("-o eth0 -j", "-o eth0 -p tcp -j")
)


def data(name: str, *words: object, code: int = 0) -> dict[str, object]:
    done = run(*words, "--json", "--quiet")
    assert done.returncode == code, done.stderr
    found = json.loads(done.stdout)
    schema = json.loads((resources.files("aiguille.reports") / "schemas" / f"{name}.schema.json").read_text())
    jsonschema.validate(found, schema)
    return found


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "before.v4").write_text(BEFORE)
    (tmp_path / "after.v4").write_text(AFTER)
    return tmp_path


def test_compare_names_what_opens_and_closes_with_lines_of_both_sides(folder: Path) -> None:
    found = data("compare", "compare", folder / "before.v4", folder / "after.v4", code=3)  # a set is not told
    (pair,) = found["pairs"]
    (opens,) = pair["opens"]
    assert opens["words"] == "tcp 22 from 10.0.1.0-10.0.255.255 to any"
    assert (opens["before"], opens["after"], opens["certain"]) == ("refused", "accepted", True)
    assert [opens[side][0]["line"] for side in ("decided_before", "decided_after")] == [2, 7]
    closes = {row["words"]: row["certain"] for row in pair["closes"]}
    # Whether a partner's packet was let in anyway nobody can tell without the set.
    assert closes == {
        "tcp 443 from any to any": True,
        "any protocol but tcp from any to any entering eth1 leaving eth0": False,
    }
    edits = [(e["edit"], e["before"]["line"], e["after"]["line"]) for e in pair["rules"]]
    assert edits == [("changed", 7, 7), ("changed", 8, 8), ("changed", 10, 10)]
    assert found["findings"]["unchanged"] > 0
    moved = BEFORE.replace("-A INPUT -p tcp --dport 443 -j ACCEPT\n", "").replace(
        "-A INPUT -i lo", "-A INPUT -p tcp --dport 443 -j ACCEPT\n-A INPUT -i lo"
    )
    (folder / "moved.v4").write_text(moved)
    (pair,) = data("compare", "compare", folder / "before.v4", folder / "moved.v4", code=3)["pairs"]
    assert not pair["opens"] + pair["closes"]
    assert [e["edit"] for e in pair["rules"]] == ["moved"]


CHANGES = [
    ("remove rule 3 of INPUT", [], ["tcp 22 from 10.0.0.0/24 to any"]),
    ("-D INPUT 3", [], ["tcp 22 from 10.0.0.0/24 to any"]),
    ("iptables -D INPUT -p tcp --dport 443 -j ACCEPT", [], ["tcp 443 from any to any"]),
    ("switch off rule 4 of INPUT", [], ["tcp 443 from any to any"]),
    ("move rule 4 of INPUT above rule 1", [], []),
    ("put above rule 3 of INPUT: drop tcp from 10.0.0.0/25 to any:22 recorded", [], ["tcp 22 from 10.0.0.0/25 to any"]),
    ("put below rule 2 of INPUT: accept udp to any:53,123", ["udp 53,123 from any to any"], []),
    ("-I INPUT 2 -s 198.51.100.0/24 -p tcp --dport 443 -j DROP", [], ["tcp 443 from 198.51.100.0/24 to any"]),
    ("-R INPUT 4 -p tcp --dport 8443 -j ACCEPT", ["tcp 8443 from any to any"], ["tcp 443 from any to any"]),
    ("-P OUTPUT DROP", [], ["any service from any to any"]),
    ("set default of OUTPUT to drop", [], ["any service from any to any"]),
]


@pytest.mark.parametrize(("change", "opens", "closes"), CHANGES)
def test_a_change_does_what_it_says(folder: Path, change: str, opens: list[str], closes: list[str]) -> None:
    (folder / "before.v4").write_text(BEFORE.replace("-A FORWARD -m set --match-set partners src -j ACCEPT\n", ""))
    found = data("compare", "compare", folder / "before.v4", "--as-if", change, code=1 if opens else 0)
    (pair,) = found["pairs"]
    assert [row["words"] for row in pair["opens"]] == opens
    assert [row["words"] for row in pair["closes"]] == closes


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ("remove rule 9 of INPUT", "there is no rule 9 in INPUT of before; it has 4"),
        ("remove rule 1 of INPT", "there is INPUT"),
        ("do away with rule 1", "write for example: remove rule 3 of INPUT"),
        ("-I INPT -p tcp -j DROP", "there is INPUT"),
        ("-I INPUT -p tcp --dprt 22 -j DROP", "the change is not understood"),
        ("put first in INPUT: accept tcp from nowhere", "'nowhere' is neither an address nor an object"),
        ("put first in INPUT: accept from any to any:22", "say tcp or udp before it"),
        ("add 10.0.0.1 to group keepers", "there is no group 'keepers'"),
        ("on elsewhere: remove rule 1 of INPUT", "there is no device 'elsewhere'; there is before"),
    ],
)
def test_a_change_that_names_nothing_is_an_error(folder: Path, change: str, said: str) -> None:
    done = run("rules", folder / "before.v4", "--as-if", change)
    assert done.returncode == 2
    assert said in done.stderr
    assert "Traceback" not in done.stderr


def test_changes_come_from_a_file_one_after_the_other(folder: Path) -> None:
    (folder / "plan.txt").write_text("# the plan\nremove rule 3 of INPUT\n\nremove rule 3 of INPUT\n")
    found = data("compare", "compare", folder / "before.v4", "--as-if", folder / "plan.txt", code=3)
    assert [e["before"]["line"] for e in found["pairs"][0]["rules"]] == [7, 8]


def test_who_gets_locked_out_is_told(folder: Path) -> None:
    change = ("--as-if", "remove rule 3 of INPUT")
    done = run("compare", folder / "before.v4", *change, "--administrator", "10.0.0.5", "--quiet")
    assert "LOCKED OUT" in done.stdout
    assert "10.0.0.5 reaches ssh before and no longer after; a session that runs goes on" in " ".join(
        done.stdout.split()
    )
    found = data("compare", "compare", folder / "before.v4", *change, "--administrator", "10.1.0.5", code=3)
    assert found["pairs"][0]["administrators"] == []  # who did not get in before is not locked out


def test_flows_of_the_sample(tmp_path: Path) -> None:
    write_estate(tmp_path / "estate")
    found = data("flows", "flows", tmp_path / "estate")
    gateway = next(one for one in found["devices"] if one["device"] == "valley-gw")
    cells = {(c["from"], c["to"], c["family"]): (c["reach"], c["services"]) for c in gateway["cells"]}
    assert cells["guests", "lifts", 4] == ("nothing", "")
    assert cells["guests", "lifts", 6] == ("everything", "")
    assert cells["outside", "shop", 4] == ("some", "tcp 8443")
    assert cells["outside", "ticket-halls", 4] == ("some", "tcp from port 443")
    rows = data("flows", "flows", tmp_path / "estate", "--device", "valley-gw", "--from", "guests", "--to", "device")
    (gateway,) = rows["devices"]
    assert {(r["words"], r["decided_by"][0]["line"]) for r in gateway["rows"]} >= {
        ("tcp 20-25 from 10.44.40.0/24 to any entering eth1.40", 39)
    }
    joined = {(one["from"], one["to"]): one for one in found["end_to_end"]["pairs"]}
    assert joined["valley-gw/office", "season-pass-web/device"]["services"] == "icmp type 3,8; tcp 80,443,2222,5432"
    assert joined["valley-gw/guests", "season-pass-web/device"]["refused_by"] == ["valley-gw"]
    assert (
        joined["ticket-hall/hall", "valley-gw/lifts"]["perhaps"] == "everything"
    )  # whose router valley-gw is taken for
    ways = data("flows", "flows", tmp_path / "estate", "--from", "ticket-hall/hall", "--to", "valley-gw/lifts")
    (way,) = ways["end_to_end"]["rows"]
    assert [(hop["device"], hop["decided_by"][0]["line"]) for hop in way["path"]] == [
        ("ticket-hall", 2),
        ("valley-gw", 37),
    ]
    assert "10.44.10.1" in way["assumed"][0]
    none = run("flows", tmp_path / "estate", "--device", "valley-gw", "--from", "gusts")
    assert none.returncode == 2
    assert "there is guests" in none.stderr
    drawn = run("flows", tmp_path / "estate", "--device", "valley-gw", "--quiet", "--out", tmp_path / "flows.svg")
    assert drawn.returncode == 0, drawn.stderr
    assert "tcp 8443" in (tmp_path / "flows.svg").read_text()


def router(folder: Path, name: str, addresses: dict[str, str], routes: list[dict[str, str]], rules: str) -> None:
    place = folder / name
    place.mkdir()
    (place / "rules.v4").write_text(
        f"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n{rules}COMMIT\n"
    )
    told = [
        {"ifname": one, "flags": ["UP"], "addr_info": [
            {"family": "inet", "local": text.split("/")[0], "prefixlen": int(text.split("/")[1])}]}
        for one, text in addresses.items()
    ]  # fmt: skip
    (place / "ip-addr.json").write_text(json.dumps(told))
    (place / "ip-route.json").write_text(json.dumps(routes))


PACKETS = """id,src,dst,protocol,dport
web,10.1.0.9,10.3.0.9,tcp,80
ssh,10.1.0.9,10.3.0.9,tcp,22
lost,10.1.0.9,10.77.0.1,tcp,80
home,10.1.0.9,10.1.0.8,tcp,80
gate,10.1.0.9,10.2.0.2,udp,53
"""


def test_a_packet_is_followed_over_two_routers_and_back(tmp_path: Path) -> None:
    states = "-A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT\n"
    ways = [{"dst": "10.3.0.0/24", "gateway": "10.2.0.2", "dev": "eth1"}, {"dst": "10.77.0.0/16", "type": "blackhole"}]
    router(
        tmp_path, "near", {"eth0": "10.1.0.1/24", "eth1": "10.2.0.1/24"}, ways, f"{states}-A FORWARD -p tcp -j ACCEPT\n"
    )
    back = [{"dst": "10.1.0.0/24", "gateway": "10.2.0.1", "dev": "eth0"}]
    far = "-A FORWARD -p tcp --dport 80 -j ACCEPT\n"  # no states: the answer is refused here
    router(tmp_path, "far", {"eth0": "10.2.0.2/24", "eth1": "10.3.0.1/24"}, back, far)
    (tmp_path / "packets.csv").write_text(PACKETS)
    found = data("paths", "probe", tmp_path / "near", tmp_path / "far", "--packets", tmp_path / "packets.csv")
    told = {one["id"]: one for one in found["packets"]}
    web = told["web"]
    assert (web["verdict"], web["certain"]) == ("accept", True)
    assert [(hop["device"], hop["in"], hop["out"], hop["verdict"]) for hop in web["path"]] == [
        ("near", "eth0", "eth1", "accept"), ("far", "eth0", "eth1", "accept"),
    ]  # fmt: skip
    assert (web["reply"]["verdict"], web["reply"]["decided_by"]["device"]) == ("drop", "far")
    assert (told["ssh"]["verdict"], told["ssh"]["decided_by"]["device"], told["ssh"]["reply"]) == ("drop", "far", None)
    assert (told["lost"]["verdict"], told["lost"]["decided_by"]["chain"]) == ("drop", "route")
    assert (told["home"]["verdict"], told["home"]["path"]) == ("accept", [])
    assert [hop["device"] for hop in told["gate"]["path"]] == ["near"]
    done = run("probe", tmp_path / "near", tmp_path / "far", "--packet", "tcp from 10.1.0.9 to 10.3.0.9:80", "--quiet")
    assert done.returncode == 0, done.stderr
    assert "arrives" in done.stdout
    assert "does not arrive" in done.stdout.partition("its answer")[2]
    (tmp_path / "packets.csv").write_text(
        "id,src,dst,protocol,dport\nx,10.1.0.9,10.3.0.300,tcp,80\ny,10.1.0.9,10.3.0.1,tcp,\n"
    )
    done = run("probe", tmp_path / "near", tmp_path / "far", "--packets", tmp_path / "packets.csv")
    assert done.returncode == 2
    assert "packets.csv:2: packet 'x'" in done.stderr
    assert "packets.csv:3: packet 'y'" in done.stderr


def test_claims_of_the_sample_and_what_is_wrong_with_others(tmp_path: Path) -> None:
    estate = tmp_path / "estate"
    write_estate(estate)
    found = data("claims", "claims", estate, code=1)
    told = {one["claim"]: one["holds"] for one in found["claims"]}
    assert found["summary"] == {"proved": 5, "refuted": 3, "cannot tell": 0}
    assert told["never guests to lifts over IPv4"] == "proved"
    assert told["never guests to lifts"] == "refuted"
    wrong = next(one for one in found["claims"] if one["claim"] == "never guests to lifts")["devices"][0]
    assert (wrong["decided_by"][0]["line"], wrong["packet"]["in"]) == (4, "eth1.40")
    started = run("claims", estate, "--start", "--quiet")
    (tmp_path / "start.yaml").write_text(started.stdout)
    drafted = data("claims", "claims", estate, "--claims", tmp_path / "start.yaml")
    assert set(drafted["summary"].items()) >= {("refuted", 0), ("cannot tell", 0)}
    mended = ("--as-if", "on valley-gw: set default of FORWARD to drop")
    again = data("claims", "claims", estate, *mended, code=1)
    assert {one["claim"]: one["holds"] for one in again["claims"]}["never guests to lifts"] == "proved"
    out = tmp_path / "claims.xml"
    assert run("claims", estate, "--quiet", "--out", out).returncode == 1
    assert 'failures="3"' in out.read_text()
    for text, said in (
        ("never gusts to lifts", "claims.yaml:2: no device has both ends of 'never gusts to lifts'; there is guests"),
        ("nobody from guests to lifts", "claims.yaml:2: 'nobody from guests to lifts' is no claim"),
        ("never guests to lifts on tpc/502", "'tpc' is neither a protocol nor a service; did you mean xtp or tcp?"),
        (
            "never guests to lifts\n  - claim: always guests to lifts",
            "claims.yaml:3: 'always guests to lifts' contradicts",
        ),
    ):
        (tmp_path / "claims.yaml").write_text(f"claims:\n  - claim: {text}\n")
        done = run("claims", estate, "--claims", tmp_path / "claims.yaml", "--quiet")
        assert done.returncode == 2
        assert said in done.stderr
        assert "Traceback" not in done.stderr


def test_a_sheet_of_who_may_reach_whom_is_read_as_claims(tmp_path: Path) -> None:
    (tmp_path / "gw.v4").write_text(
        "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -i eth0 -p tcp --dport 22 -j ACCEPT\n"
        "-A FORWARD -i eth1 -o eth0 -j ACCEPT\nCOMMIT\n"
    )
    sheet = tmp_path / "matrix.csv"

    def told(text: str, code: int) -> dict[str, str]:
        sheet.write_text(text)
        found = data("claims", "claims", tmp_path / "gw.v4", "--claims", sheet, code=code)
        return {one["claim"]: one["holds"] for one in found["claims"]}

    assert told("from;eth0;eth1;device\neth0;;none;SSH\neth1;any;;-\n", 0) == {
        "never eth0 to eth1": "proved",
        "never eth0 to device but on tcp/22, udp/22": "proved",
        "never eth1 to device": "proved",
    }
    assert told('from,device\neth0,"https, udp/53"\n', 1) == {
        "never eth0 to device but on tcp/443, udp/443, udp/53": "refuted"
    }
    for text, said in (
        ("from,device\neth0,perhaps some\n", "matrix.csv:2: 'perhaps some' in B2 names no services"),
        ("from,device\neth0,ping\n", "matrix.csv:2: 'ping' in B2 names one type of ICMP"),
        ("from,device\neth0,any\n", "matrix.csv:1: no cell says what may pass"),
        ("from,device\neth9,none\n", "matrix.csv:2: no device has both ends of 'never eth9 to device'"),
    ):
        sheet.write_text(text)
        done = run("claims", tmp_path / "gw.v4", "--claims", sheet, "--quiet")
        assert (done.returncode, said in done.stderr) == (2, True), done.stderr


def test_the_library_says_the_same(folder: Path) -> None:
    before, after = aiguille.read(folder / "before.v4"), aiguille.read(folder / "after.v4")
    (pair,) = aiguille.compare(before, after, findings=False).pairs
    assert [row.traffic.words() for row in pair.opened] == ["tcp 22 from 10.0.1.0-10.0.255.255 to any"]
    changed = aiguille.as_if(before, ["set default of FORWARD to accept"])
    reach = {(c.source, c.destination): c.reach.value for c in aiguille.flows(changed).cells}
    assert reach["eth0", "eth1"] == "everything"
    assert aiguille.flows(before).cells != aiguille.flows(changed).cells


SHEET = """Rule,From zone,To zone,Source,Destination,Service,Action
1,lan,internet,any,any,tcp/443,allow
2,lan,internet,10.0.0.8/29,any,tcp/22,allow
3,internet,dmz,any,192.0.2.10,tcp/443,allow
4,any,any,any,any,any,deny
"""


@pytest.mark.parametrize(
    ("words", "rows"),
    [
        (("--from", "internet"), ["tcp 443 from any to 192.0.2.10"]),
        (("--from", "lan", "--service", "tcp/22"), ["tcp 22 from 10.0.0.8/29 to any"]),
        (
            ("--address", "10.0.0.9", "--from", "lan", "--service", "tcp/20-25"),
            [
                "tcp 22 from 10.0.0.9 to any",
                "tcp 22 from 10.0.0.8, 10.0.0.10-10.0.0.15 to 10.0.0.9",
            ],
        ),
        (("--address", "192.0.2.10", "--to", "dmz"), ["tcp 443 from any to 192.0.2.10"]),
        (("--from", "internet", "--to", "lan"), []),
        (("--service", "udp"), []),
    ],
)
def test_rows_of_a_sheet(tmp_path: Path, words: tuple[str, ...], rows: list[str]) -> None:
    (tmp_path / "rules.csv").write_text(SHEET)
    (device,) = data("flows", "flows", tmp_path / "rules.csv", *words)["devices"]
    said = [str(row["words"]).partition(" entering ")[0].partition(" leaving ")[0] for row in device["rows"]]
    assert said == rows, device["rows"]
    assert all(row["certain"] and row["decided_by"] for row in device["rows"])


def test_one_device_alone_is_enough_for_a_path(tmp_path: Path) -> None:
    router(tmp_path, "gw", {"eth0": "192.0.2.1/28", "eth1": "10.1.0.1/24"}, [{"dst": "default", "dev": "eth0"}],
           "-A FORWARD -i eth1 -p tcp --dport 443 -j ACCEPT\n")  # fmt: skip
    (tmp_path / "packets.csv").write_text(
        "id,src,dst,protocol,dport\nout,10.1.0.9,198.51.100.7,tcp,443\nin,198.51.100.7,10.1.0.9,tcp,443\nme,10.1.0.9,192.0.2.1,tcp,22\n"
    )
    found = data("paths", "probe", tmp_path / "gw", "--packets", tmp_path / "packets.csv")
    told = {one["id"]: (one["verdict"], [(hop["in"], hop["out"]) for hop in one["path"]]) for one in found["packets"]}
    assert told == {
        "out": ("accept", [("eth1", "eth0")]),
        "in": ("drop", [("eth0", "eth1")]),
        "me": ("drop", [("eth1", "")]),
    }


def test_frames_of_flows_changes_and_claims(tmp_path: Path) -> None:
    from aiguille.reports.frames import changes_frame, claims_frame, flows_frame

    (tmp_path / "one.v4").write_text(BEFORE)
    (tmp_path / "claims.yaml").write_text("claims:\n  - claim: never anybody to device on tcp/443\n")
    before = aiguille.read([tmp_path / "one.v4"])
    matrix = aiguille.flows(before)
    assert len(flows_frame(matrix)) == len(matrix.cells)
    assert flows_frame(aiguille.end_to_end(before)).empty
    after = aiguille.as_if(before, "remove rule 4 of INPUT")
    closed = changes_frame(aiguille.compare(before, after, findings=False))
    assert [(row.opens, row.traffic) for row in closed.itertuples()] == [(False, "tcp 443 from any to any")]
    (claim,) = claims_frame(aiguille.claims(before, tmp_path / "claims.yaml")).itertuples()
    assert (claim.holds, "443" in claim.packet) == ("refuted", True)


def test_sites_and_interfaces_of_the_sample(tmp_path: Path) -> None:
    write_estate(tmp_path / "estate")
    sites = data("compare", "compare", tmp_path / "estate", "--sites", code=1)
    drifted = {pair["device"]: pair["against"] for pair in sites["pairs"] if pair["opens"]}
    assert drifted == {"hut-marmot": "hut-larch"}
    gateway = (tmp_path / "estate", "--device", "valley-gw", "--interfaces")
    (pair,) = data("compare", "compare", *gateway, "eth1.40", "eth1.20", code=1)["pairs"]
    assert {"tcp 20-25 from any to any entering eth1.20"} <= {row["words"] for row in pair["closes"]}
    assert "has no interface 'eth9'" in run("compare", *gateway, "eth1.40", "eth9").stderr
    assert "two questions" in run("compare", tmp_path / "estate", "--sites", "--interfaces", "a", "b").stderr
    assert run("compare", tmp_path / "estate", tmp_path / "estate", "--master", "hut-larch").returncode == 2


def test_the_next_quarter_of_the_sample(tmp_path: Path) -> None:
    write_estate(tmp_path / "autumn")
    assert run("demo", "--later", tmp_path / "winter", "--quiet").returncode == 0
    found = data("compare", "compare", tmp_path / "autumn", tmp_path / "winter", code=1)
    opened = {
        pair["device"]: [row["words"] for row in pair["opens"] if row["likely"]]
        for pair in found["pairs"]
        if pair["opens"]
    }
    assert opened.keys() == {"valley-gw", "hut-pine"}
    assert opened["valley-gw"] == ["tcp 9443 from 10.44.50.0/29 to any entering eth1.50"]
    forged = next(row for row in found["pairs"][0]["opens"] if not row["likely"])
    assert forged["words"] == "tcp 80 from any but 10.44.10.0/24 to any entering eth1.10 leaving eth1.30"
    assert {one["severity"] for one in found["findings"]["mended"]} >= {"critical", "high"}
    assert [one["check"] for one in found["findings"]["due"]] == ["usage.unused-account"]


def test_who_gets_locked_out_on_the_way(folder: Path) -> None:
    changes = ["remove rule 3 of INPUT", "put first in INPUT: accept tcp from 10.0.0.0/24 to any:22"]
    asked = [word for change in changes for word in ("--as-if", change)]
    words = ("compare", folder / "before.v4", "--no-findings", "--administrator", "10.0.0.9/ssh", *asked)
    (pair,) = data("compare", *words, code=3)["pairs"]
    (one,) = pair["administrators"]
    assert [step["new_session"] for step in one["after_each"]] == ["no", "yes"]
    assert (one["before"], one["after"], one["lost"]) == ("yes", "yes", False)
    assert "LOCKED OUT ON THE WAY" in run(*words).stdout
    assert "neither a protocol nor a service" in run(*words[:4], "10.0.0.9/shs", *asked).stderr


def test_an_end_of_a_gateway_that_is_not_there_is_an_error_not_an_empty_answer(folder: Path) -> None:
    one = run("flows", folder / "before.v4", "--from", "ghost/office", "--quiet")
    assert (one.returncode, one.stdout) == (2, "")
    assert "before has no zone, side or interface 'ghost/office'" in one.stderr
    assert data("flows", "flows", folder / "before.v4", "--from", "before/eth1", code=3)["devices"]
    both = run(
        "flows", folder / "before.v4", folder / "after.v4", "--from", "before/eth1", "--to", "ghost/office", "--quiet"
    )
    assert (both.returncode, both.stdout) == (2, "")
