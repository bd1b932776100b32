"""Location data: registry statistics and MMDB files, several at once."""

from __future__ import annotations

import json
from ipaddress import ip_address, ip_network
from itertools import pairwise
from pathlib import Path

import jsonschema
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from aiguille.model import Addresses, Block, Locations, Ranges, UsageError, joined, overlaid
from aiguille.readers.literals import read_network
from aiguille.readers.locations import read_locations
from tests.helpers import run, schema

HEAD = "2|registry|20261101|3|20200101|20261101|+0000\n"
BODY = """registry|*|ipv4|*|2|summary
# a comment
registry|FR|ipv4|198.51.100.0|96|20200101|allocated|a
registry|CH|ipv4|198.51.100.96|32|20200101|assigned|b
registry|CH|ipv6|2001:db8::|32|20200101|allocated|c
registry|ZZ|ipv4|203.0.113.0|256||reserved|
registry||ipv4|192.0.2.0|256||available|
registry|FR|asn|64496|1|20200101|allocated|d
"""


def located(blocks: dict[int, tuple[Block, ...]]) -> Locations:
    return Locations({family: Ranges.of(family, one) for family, one in blocks.items()}, ("made up",))


def listed(data: Locations) -> dict[int, list[Block]]:
    return {family: list(one) for family, one in data.blocks.items()}


def locations(ranges: dict[int, list[tuple[str, str]]]) -> Locations:
    """Location data out of networks and codes."""
    blocks = {}
    for family, given_ranges in ranges.items():
        nets = [(ip_network(text), code) for text, code in given_ranges]
        blocks[family] = tuple(sorted((int(n.network_address), int(n.broadcast_address), code) for n, code in nets))
    return located(blocks)


def where(data: Locations, text: str) -> str | None:
    address = ip_address(text)
    return data.country(address.version, int(address))


def mmdb(path: Path, *networks: tuple[str, dict[str, object]]) -> Path:
    from mmdb_writer import MMDBWriter
    from netaddr import IPSet

    writer = MMDBWriter(6, "test-country", ipv4_compatible=True)
    for network, record in networks:
        writer.insert_network(IPSet([network]), record)
    writer.to_db_file(str(path))
    return path


def test_registry_statistics(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text(HEAD + BODY)
    data = read_locations([tmp_path / "a.txt"])
    assert [where(data, a) for a in ("198.51.100.95", "198.51.100.96", "198.51.100.128", "203.0.113.1", "192.0.2.1")] == [
        "FR", "CH", None, None, None,
    ]  # fmt: skip
    assert where(data, "2001:db8:ffff::1") == "CH"
    assert data.countries() == ("CH", "FR")


def test_later_files_win_and_mmdb_files_are_read(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text(HEAD + BODY)
    late = mmdb(
        tmp_path / "b.mmdb",
        ("198.51.100.16/28", {"country": {"iso_code": "IT"}}),
        ("198.51.100.32/28", {"registered_country": {"iso_code": "AT"}}),
        ("2001:db8:1::/48", {"country_code": "AQ"}),
        ("203.0.113.0/24", {"continent": {"code": "EU"}}),
    )
    data = read_locations([tmp_path / "a.txt", late])
    assert [where(data, a) for a in ("198.51.100.15", "198.51.100.17", "198.51.100.33", "198.51.100.48", "203.0.113.9")] == [
        "FR", "IT", "AT", "FR", None,
    ]  # fmt: skip
    assert (where(data, "2001:db8:1::1"), where(data, "2001:db8:2::1")) == ("AQ", "CH")
    first = read_locations([late, tmp_path / "a.txt"])
    assert where(first, "198.51.100.17") == "FR"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("hello\n", (":1:", "version line")),
        ("", (":1:", "holds no location data")),
        (HEAD + "registry|FR|ipv4|198.51.100.0\n", (":2:", "too few")),
        (HEAD + "registry|FR|ipv4|198.51.100|256|20200101|allocated\n", (":2:", "cannot be read")),
        (HEAD + "registry|FR|ipv4|198.51.100.0|0|20200101|allocated\n", (":2:", "out of range")),
        (
            HEAD + "registry|FR|ipv4|198.51.100.00|256|20200101|allocated\n",
            (":2:", "start or the value cannot be read"),
        ),
        (HEAD + "registry|FR|ipv4|198.51.100|256|20200101|allocated\n", (":2:", "start or the value cannot be read")),
        (HEAD + "registry|FR|ipv4|0x0a.0.0.1|256|20200101|allocated\n", (":2:", "start or the value cannot be read")),
        (HEAD + "registry|FR|ipv4|2001:db8::|256|20200101|allocated\n", (":2:", "start or the value cannot be read")),
        (HEAD + "registry|FR|ipv6|2001:db8::|129|20200101|allocated\n", (":2:", "out of range")),
        (HEAD + "registry|FR|ipx|1|1|20200101|allocated\n", (":2:", "no type of record")),
    ],
)
def test_faults_are_one_sentence_with_the_line(tmp_path: Path, text: str, words: tuple[str, ...]) -> None:
    (tmp_path / "a.txt").write_text(text)
    with pytest.raises(UsageError) as caught:
        read_locations([tmp_path / "a.txt"])
    assert all(word in str(caught.value) for word in ("a.txt", *words))
    (tmp_path / "b.mmdb").write_bytes(b"\x00" * 40 + b"\xab\xcd\xefMaxMind.com\x00")
    with pytest.raises(UsageError, match=r"b\.mmdb: the MMDB file cannot be read"):
        read_locations([tmp_path / "b.mmdb"])


blocks = st.lists(st.tuples(st.integers(0, 60), st.integers(0, 9), st.sampled_from(["FR", "CH", "IT"])), max_size=6)


def spread(found: list[tuple[int, int, str]]) -> tuple[Block, ...]:
    """Disjoint ranges, ascending."""
    out: list[Block] = []
    for start, size, code in sorted(found):
        if not out or start > out[-1][1]:
            out.append((start, start + size, code))
    return tuple(out)


@given(blocks, blocks)
def test_overlaying_is_looking_above_first(one: list[tuple[int, int, str]], other: list[tuple[int, int, str]]) -> None:
    below, above = spread(one), spread(other)
    joint, lower, upper = (located({4: b}) for b in (overlaid(below, above), below, above))
    for address in range(80):
        assert joint.country(4, address) == (upper.country(4, address) or lower.country(4, address))


def test_geo_commands(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text(HEAD + BODY)
    done = run("geo", "lookup", "198.51.100.1", "10.0.0.1", "--geo", "a.txt", "--json", cwd=tmp_path)
    found = json.loads(done.stdout)["addresses"]
    assert [(a["address"], a["country"], a["name"], a["block"]) for a in found] == [
        ("198.51.100.1", "FR", "France", "198.51.100.0-198.51.100.95"),
        ("10.0.0.1", None, None, None),
    ]
    for words in (("198.51.100.1",), ("x", "--geo", "a.txt"), ("::1", "--geo", "none")):
        done = run("geo", "lookup", *words, cwd=tmp_path)
        assert (done.returncode, "Traceback" in done.stderr, done.stderr.count("\n")) == (2, False, 1), done.stderr


def test_a_network_is_told_by_the_countries_in_it(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text(HEAD + BODY)
    done = run("geo", "lookup", "198.51.100.0/24", "10.0.0.0/30", "--geo", "a.txt", "--json", cwd=tmp_path)
    told = json.loads(done.stdout)
    jsonschema.validate(told, schema("geo-lookup"))
    found = told["addresses"][0]
    assert sum(one["addresses"] for one in found["countries"]) + found["elsewhere"] == 256
    assert found["countries"][0]["country"] == "FR"
    assert told["addresses"][1]["elsewhere"] == 4
    page = run("geo", "lookup", "198.51.100.0/24", "--geo", "a.txt", cwd=tmp_path).stdout
    assert "of others" in " ".join(page.split()) or len(found["countries"]) == 1


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=30)
@given(
    st.lists(
        st.tuples(st.integers(0, 255), st.integers(24, 32), st.sampled_from(["FR", "CH"])), min_size=1, max_size=8
    ),
    st.integers(0, 255),
    st.integers(24, 32),
)
def test_what_is_looked_up_is_what_the_whole_file_says(
    tmp_path: Path, networks: list[tuple[int, int, str]], start: int, length: int
) -> None:
    entries = {
        f"198.51.100.{at >> (32 - n) << (32 - n)}/{n}": {"country": {"iso_code": code}} for at, n, code in networks
    }
    wide = sorted(entries.items(), key=lambda item: int(item[0].rpartition("/")[2]))
    path = mmdb(tmp_path / "x.mmdb", *wide, ("2001:db8::/32", {"country": {"iso_code": "IT"}}))
    wanted = read_network(f"198.51.100.{start}/{length}")
    assert isinstance(wanted, Addresses)
    whole, around = read_locations([path]), read_locations([path], [wanted])
    assert [around.country(4, a) for a in range(wanted.first, wanted.last + 1)] == [
        whole.country(4, a) for a in range(wanted.first, wanted.last + 1)
    ]


@given(blocks)
def test_joining_changes_no_address(found: list[tuple[int, int, str]]) -> None:
    plain = spread(found)
    merged = joined(plain)
    assert len(merged) <= len(plain)
    assert all(one[2] != other[2] or one[1] + 1 < other[0] for one, other in pairwise(merged))
    before, after = located({4: plain}), located({4: merged})
    assert [before.country(4, a) for a in range(80)] == [after.country(4, a) for a in range(80)]
    assert (before.of(4, ["FR"]) == ()) is ("FR" not in before.countries())


def test_old_location_data_is_told(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text(HEAD + BODY)
    (tmp_path / "gw.v4").write_text("*filter\n:INPUT DROP [0:0]\nCOMMIT\n")
    words = ("read", "gw.v4", "--geo", "a.txt", "--json", "--as-of")
    for day, old in (("2027-10-30", False), ("2027-11-03", True)):
        notes = json.loads(run(*words, day, cwd=tmp_path).stdout)["notes"]
        assert any("location data is" in note for note in notes) is old


def test_large_location_data_is_kept_compiled_and_never_trusted_blindly(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from aiguille.readers import locations

    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(locations, "LEAST", 1)
    folder, one = tmp_path / "cache/aiguille", tmp_path / "a.txt"
    one.write_text(HEAD + BODY)
    two = mmdb(
        tmp_path / "b.mmdb",
        ("203.0.113.0/24", {"country": {"iso_code": "IT"}}),
        ("2001:db8:9::/48", {"country": {"iso_code": "AT"}}),
    )
    plain = read_locations([one, two])
    assert not folder.exists(), "nobody asked for it"
    first = read_locations([one, two], cache=True)
    (copy,) = folder.iterdir()
    monkeypatch.setattr(locations, "_statistics", lambda *_: pytest.fail("the file was read again"))
    again = read_locations([one, two], cache=True)
    assert listed(plain) == listed(first) == listed(again)
    assert plain.sources == first.sources == again.sources
    monkeypatch.undo()
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(locations, "LEAST", 1)
    # Another order is other data; a copy that is damaged, cut or of another time is made anew.
    assert read_locations([two, one], cache=True).sources != first.sources
    assert len(list(folder.iterdir())) == 2
    whole = copy.read_bytes()
    for damaged in (whole[:-1], whole[:40] + b"x" + whole[41:], b"", b"x" * 100):
        copy.write_bytes(damaged)
        assert listed(read_locations([one, two], cache=True)) == listed(plain)
        assert copy.read_bytes() == whole
    one.write_text(HEAD + BODY.replace("|96|2020", "|64|2020"))
    assert where(read_locations([one, two], cache=True), "198.51.100.70") is None
    # Where no folder can be made it goes without.
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "file"))
    assert read_locations([one, two], cache=True)


def test_a_command_keeps_large_location_data_unless_told_not_to(tmp_path: Path) -> None:
    many = "".join(f"registry|FR|ipv4|10.{n // 256}.{n % 256}.0|256|20200101|allocated|{n}\n" for n in range(26000))
    (tmp_path / "a.txt").write_text(HEAD + BODY + many)
    (tmp_path / "rules.v4").write_text(
        "*filter\n:INPUT DROP [0:0]\n-A INPUT -i eth0 -p tcp --dport 443 -j ACCEPT\nCOMMIT\n"
    )
    words = ("geo", "reach", "rules.v4", "--geo", "a.txt", "--side", "eth0=outside", "--json")
    env = {"XDG_CACHE_HOME": str(tmp_path / "cache")}
    without = run(*words, "--no-cache", cwd=tmp_path, env=env)
    assert (without.returncode, (tmp_path / "cache").exists()) == (0, False), without.stderr
    told = [run(*words, cwd=tmp_path, env=env).stdout for _ in range(2)]
    assert told == [without.stdout] * 2
    assert len(list((tmp_path / "cache/aiguille").iterdir())) == 1
