"""Which country addresses belong to: registry statistics files and MMDB files, several at once, later ones winning.

The former are what the five regional registries publish daily as "delegated" and "delegated extended" statistics (their common
exchange format, version 2); the latter are read by maxminddb.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from ipaddress import IPv4Address, IPv6Address, IPv6Network
from itertools import pairwise
from pathlib import Path
from socket import AF_INET, AF_INET6, inet_pton

from aiguille.model import Addresses, Block, Locations, Ranges, UsageError, joined, overlaid
from aiguille.readers.kept import LEAST, kept
from aiguille.readers.whole import whole

_MMDB_END = b"\xab\xcd\xefMaxMind.com"
_ALIASES = tuple(
    (int(one.network_address), int(one.broadcast_address))
    for one in map(IPv6Network, ("::ffff:0:0/96", "2002::/16", "2001::/32"))
)
"""IPv4 again, mapped, 6to4 and Teredo, in the tree of an MMDB file."""


def read_locations(
    paths: Iterable[Path], within: Sequence[Addresses] | None = None, *, cache: bool = False
) -> Locations:
    """Read location files; raises UsageError with file, line and what is wrong.

    within: where nothing but what is around these addresses is asked for, which MMDB files are built to look up
    cache: whether large files are kept in compiled form in the user's cache folder, see `kept`
    """
    files = [(path, whole(path, "location data")) for path in paths]

    def make() -> tuple[dict[int, Ranges], list[str]]:
        blocks: dict[int, tuple[Block, ...]] = {4: (), 6: ()}
        said = []
        for path, data in files:
            if _is_mmdb(data):
                found, described = _mmdb(path) if within is None else _mmdb_around(path, within)
            else:
                found, described = _statistics(path, data)
            for family, one in found.items():
                # Nothing to overlay takes no walk through either.
                blocks[family] = overlaid(blocks[family], _disjoint(one)) if blocks[family] else _disjoint(one)
            said.append(described)
        return {family: Ranges.of(family, one) for family, one in blocks.items() if one}, said

    # To look a few addresses up in an MMDB file takes less than the copy.
    looked_up = within is not None and any(_is_mmdb(data) for _, data in files)
    worth = cache and not looked_up and sum(len(data) for _, data in files) >= LEAST
    # Not SHA-256, which takes twice as long over what may be a hundred megabytes.
    digests = tuple(hashlib.blake2b(data, digest_size=32).hexdigest() for _, data in files)
    ranges, described = kept(digests, make) if worth else make()
    sources = tuple(f"{path}: {said}" for (path, _), said in zip(files, described, strict=True))
    return Locations(ranges, sources, digests)


def _is_mmdb(data: bytes) -> bool:
    return _MMDB_END in data[-128 * 1024 :]


def _disjoint(blocks: list[Block]) -> tuple[Block, ...]:
    """Ascending ranges; of overlapping ones the narrower wins, which registries' records and nested networks ask for."""
    blocks.sort()
    if all(one[1] < other[0] for one, other in pairwise(blocks)):
        return joined(blocks)
    out: tuple[Block, ...] = ()
    for size in sorted({last - first for first, last, _ in blocks}, reverse=True):
        out = overlaid(out, joined(b for b in blocks if b[1] - b[0] == size))
    return out


def _statistics(path: Path, data: bytes) -> tuple[dict[int, list[Block]], str]:
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise UsageError(f"{path}: is neither a registry statistics file nor an MMDB file") from error
    out: dict[int, list[Block]] = {4: [], 6: []}
    registry = serial = ""
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.startswith("#"):
            continue
        parts = line.split("|")
        if not registry:
            if len(parts) < 6 or not parts[0].replace(".", "").isdigit():
                raise UsageError(
                    f"{path}:{number}: '{line[:60]}' is not the version line of a registry statistics file, such as "
                    "2|registry|20261101|12|20000101|20261101|+0000; is this location data?"
                )
            registry, serial = parts[1], parts[2]
            continue
        if len(parts) >= 6 and parts[5].strip() == "summary":
            continue
        found = _record(path, number, line, parts)
        if found is not None:
            out[found[0]].append(found[1])
    if not registry:
        raise UsageError(f"{path}:1: holds no location data")
    return out, f"statistics of {registry}, {serial}"


def _record(path: Path, number: int, line: str, parts: list[str]) -> tuple[int, Block] | None:
    """Family and range of a record; None for one of numbers, or of addresses no country has."""

    def fault(why: str) -> UsageError:
        return UsageError(
            f"{path}:{number}: {why} in '{line[:80]}'; expected registry|country|type|start|value|date|status"
        )

    if len(parts) < 7:
        raise fault(f"{len(parts)} fields are too few")
    code, kind, start, value, status = parts[1].upper(), parts[2], parts[3], parts[4], parts[6].strip()
    if kind == "asn" or status not in ("allocated", "assigned") or code in ("", "ZZ", "*"):
        return None
    if kind not in ("ipv4", "ipv6"):
        raise fault(f"'{kind}' is no type of record")
    try:
        size = int(value)
        # A file has some hundred thousand records: the C library reads them ten times as fast as `ipaddress`.
        first = int.from_bytes(inet_pton(AF_INET if kind == "ipv4" else AF_INET6, start), "big")
    except (ValueError, OSError) as error:
        raise fault("the start or the value cannot be read") from error
    if kind == "ipv4":
        family, last, fits = 4, first + size - 1, size > 0 and first + size <= 1 << 32
    else:
        fits = 0 < size <= 128
        family, last = 6, first + (1 << (128 - size)) - 1 if fits else 0
    if not fits:
        raise fault(f"the value {value} is out of range")
    return family, (first, last, code)


def _mmdb(path: Path) -> tuple[dict[int, list[Block]], str]:
    import maxminddb

    out: dict[int, list[Block]] = {4: [], 6: []}
    try:
        with maxminddb.open_database(str(path), maxminddb.MODE_MEMORY) as reader:
            described = f"{reader.metadata().database_type}, {reader.metadata().build_epoch}"
            for network, record in reader:
                code = _country(record)
                if code is None:
                    continue
                first = int(network.network_address)
                last = first + (1 << network.max_prefixlen - network.prefixlen) - 1
                if network.version == 6 and any(low <= first and last <= high for low, high in _ALIASES):
                    continue
                # The lowest addresses of such a tree are those of IPv4 (RFC 4291, 2.5.5.1).
                out[4 if last < 1 << 32 else 6].append((first, last, code))
    except (maxminddb.InvalidDatabaseError, ValueError, OSError) as error:
        raise UsageError(f"{path}: the MMDB file cannot be read ({error})") from error
    return out, described


def _mmdb_around(path: Path, within: Sequence[Addresses]) -> tuple[dict[int, list[Block]], str]:
    """The networks of the file that hold some of the addresses, found from network to network without reading the others."""
    import maxminddb

    out: dict[int, list[Block]] = {4: [], 6: []}
    try:
        with maxminddb.open_database(str(path), maxminddb.MODE_MMAP) as reader:
            about = reader.metadata()
            for one in within:
                if one.family == 6 and about.ip_version == 4:
                    continue
                at = one.first
                while at <= one.last:
                    record, length = reader.get_with_prefix_len((IPv4Address if one.family == 4 else IPv6Address)(at))
                    size = 1 << ((32 if one.family == 4 else 128) - length)
                    first = at // size * size
                    if (code := _country(record)) is not None:
                        out[one.family].append((first, first + size - 1, code))
                    at = first + size
    except (maxminddb.InvalidDatabaseError, ValueError, OSError) as error:
        raise UsageError(f"{path}: the MMDB file cannot be read ({error})") from error
    return {family: sorted({*found}) for family, found in out.items()}, f"{about.database_type}, {about.build_epoch}"


def _country(record: object) -> str | None:
    """The code in a record of the usual layouts: country.iso_code, registered_country.iso_code, or country_code."""
    if not isinstance(record, dict):
        return None
    for key in ("country", "registered_country", "represented_country"):
        inner = record.get(key)
        if isinstance(inner, dict) and isinstance(code := inner.get("iso_code"), str):
            return code.upper()
        if isinstance(inner, str) and len(inner) == 2:
            return inner.upper()
    code = record.get("country_code")
    return code.upper() if isinstance(code, str) and len(code) == 2 else None
