"""Packets told by names: ``tcp from guests to lifts:502``, ``https from outside to season passes``.

A name is a zone, a side, an interface, an address object, the device itself or another device of the estate; the service may be
one of the device's objects or of the table of well-known ones. Each sentence becomes those with addresses that it stands for, and
the interfaces follow from zones.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator
from ipaddress import ip_network

from msgspec import Struct
from msgspec.structs import replace

from aiguille.analysis.flows import ends_of
from aiguille.analysis.services import known_services
from aiguille.analysis.sides import interface_names
from aiguille.analysis.study import Study
from aiguille.model import Addresses, Device, Estate, ServiceTerm, Side, UsageError
from aiguille.model.protocols import PORTS, PROTOCOLS, transports
from aiguille.model.spelling import spell_operand, spell_protocol

WORDS = ("from", "to", "entering", "leaving", "state", "flags", "type", "code")
MOST = 24
"""Sentences that one with names may stand for."""
_FEW_PORTS = 4
"""Ports of a range that are still asked about one by one."""
ITSELF = ("device", "itself", "the device")


class PlaceName(Struct, frozen=True):
    """What a name stands for: a network (None: any address) and the interface it lies behind ("": it says none)."""

    network: Addresses | None
    interface: str = ""
    itself: bool = False


def sentences(study: Study, text: str) -> tuple[str, ...]:
    """The sentences with addresses that one with names stands for; the text itself, where it names nothing.

    Raises UsageError for a name that nothing has, with those nearest to it, and for one that stands for too much.
    """
    head, described = _parts(text)
    if not any(_is_name(value) for key, value in described if key in ("from", "to")) and (
        not head or _is_protocol(head)
    ):
        return (text,)
    services = _services(study.device, head)
    sources = [
        (_behind_which(study.device, one), port) for one, port in _places(study, dict(described).get("from", "any"))
    ]
    targets = [
        (_behind_which(study.device, one), port) for one, port in _places(study, dict(described).get("to", "any"))
    ]
    rest = [(key, value) for key, value in described if key not in ("from", "to")]
    out = []
    for protocol, named_port in services:
        for source, sport in sources:
            for target, dport in targets:
                if (source.itself and target.itself) or not _same_family(source, target):
                    continue
                if target.itself and not _reached_at(study.device, target, source.interface):
                    continue
                if source.interface and source.interface == target.interface:
                    continue
                port = dport or named_port
                words = [protocol, *_end("from", source, sport), *_end("to", target, port)]
                keys = {key for key, _ in rest}
                if source.interface and "entering" not in keys:
                    words += ["entering", source.interface]
                elif not source.itself and "entering" not in keys:
                    words += ["entering", "any"]
                if target.interface and "leaving" not in keys:
                    words += ["leaving", target.interface]
                elif not target.itself and "leaving" not in keys:
                    words += ["leaving", "any"]
                out.append(" ".join((*words, *(word for pair in rest for word in pair))))
    if not out:
        raise UsageError(
            f"'{text}' stands for no packet: both ends lie behind one interface, or are of two address families"
        )
    if len(out) > MOST:
        raise UsageError(
            f"'{text}' stands for {len(out)} ways of a packet, more than {MOST}; name one of an object's addresses"
        )
    return tuple(dict.fromkeys(out))


def _parts(text: str) -> tuple[str, list[tuple[str, str]]]:
    """What stands before the first keyword, and each keyword with all that follows it."""
    pieces = re.split(rf"\s*\b({'|'.join(WORDS)})\s+", f" {text.strip()} ", flags=re.IGNORECASE)
    return pieces[0].strip(), [(pieces[n].lower(), pieces[n + 1].strip()) for n in range(1, len(pieces) - 1, 2)]


def _is_name(value: str) -> bool:
    return _address(_split(value)[0]) is None and _split(value)[0].lower() not in ("any", "")


def _split(value: str) -> tuple[str, str]:
    """A name or address, and its port."""
    if value.startswith("["):
        inside, _, after = value[1:].partition("]")
        return inside, after.removeprefix(":")
    if value.count(":") == 1:
        name, _, port = value.partition(":")
        return name.strip(), port.strip()
    return value, ""


def _address(text: str) -> Addresses | None:
    try:
        found = ip_network(text, strict=False)
    except ValueError:
        return None
    return Addresses(found.version, int(found[0]), int(found[-1]))


def _is_protocol(word: str) -> bool:
    return word.lower() in PROTOCOLS or word.lower() in ("any", "ip") or word.isdecimal()


def _services(device: Device, head: str) -> list[tuple[str, str]]:
    """Protocols, each with a port or none."""
    if not head or _is_protocol(head):
        return [(head or "any", "")]
    terms: list[ServiceTerm] = []
    own = {one.name.lower(): one for one in device.services}
    if (found := own.get(head.lower())) is not None:
        terms = [one for one in found.members if isinstance(one, ServiceTerm)]
    else:
        known = {one.name.lower(): one for one in known_services()}
        terms = list(known[head.lower()].terms) if head.lower() in known else []
        if not terms and head.lower() in PORTS:
            return [(spell_protocol(protocol), head.lower()) for protocol in transports(head.lower())]
    out = []
    for term in terms:
        name = spell_protocol(term.protocol.first)
        for port in term.destination_ports:
            if port.last - port.first >= _FEW_PORTS:
                raise UsageError(
                    f"'{head}' stands for {name} {port.first}-{port.last}; name the port that is meant: {name} ... to ...:{port.first}"
                )
            out += [(name, str(number)) for number in range(port.first, port.last + 1)]
        if not term.destination_ports:
            out.append((name, ""))
    if not out:
        names = [*own, *PORTS, *(one.name.lower() for one in known_services())]
        near = difflib.get_close_matches(head.lower(), names, n=3) or ["tcp", "udp", "icmp"]
        raise UsageError(f"'{head}' is neither a protocol nor a service of {device.name}; there is {', '.join(near)}")
    return out


def _places(study: Study, value: str) -> list[tuple[PlaceName, str]]:
    name, port = _split(value)
    if name.lower() in ("any", ""):
        return [(PlaceName(None), port)]
    if (address := _address(name)) is not None:
        return [(PlaceName(address), port)]
    return [(one, port) for one in _named(study, name)]


def _named(study: Study, name: str) -> tuple[PlaceName, ...]:
    device = study.device
    if name.lower() in (*ITSELF, device.name.lower()):
        return _own(device)
    ends = [
        one
        for one in ends_of(study)
        if not one.is_device and name.lower() in (one.name.lower(), str(one.side or "").lower())
    ]
    if ends:
        symbols = study.programs.resolver(4).space.symbols
        return tuple(place for one in ends for number in one.interfaces if number < len(symbols.names)
                     for place in _behind(device, one.name, symbols.name(number)))  # fmt: skip
    for one in interface_names(device):
        if one.lower() == name.lower():
            return tuple(_behind(device, "", one))
    found = next((one for one in device.addresses if one.name.lower() == name.lower()), None)
    if found is not None:
        out = []
        for family in (4, 6):
            values = study.programs.resolver(family).exactly(found.name)
            if values is None:
                raise UsageError(f"the export of {device.name} does not list all addresses of '{name}'")
            out += [PlaceName(Addresses(family, first, last)) for first, last in values.spans]
        return tuple(part for one in out for part in _networks(one))
    other = next((one for one in study.estate.devices if one.name.lower() == name.lower()), None)
    if other is not None:
        return tuple(PlaceName(address) for one in other.interfaces if one.enabled for address in one.addresses)
    raise UsageError(
        f"'{name}' in the packet is no address, zone, interface, object or device; {_nearest(study, name)}"
    )


def _behind(device: Device, zone: str, interface: str) -> Iterator[PlaceName]:
    """What lies behind an interface: the networks stated or connected, any address on the outside and where none is known."""
    held = device.zone(zone)
    inner = next((one for one in device.interfaces if one.name == interface), None)
    networks = (
        *(held.networks if held is not None and len(held.interfaces) == 1 else ()),
        *(inner.networks if inner else ()),
    )
    outside = held is not None and held.side is Side.OUTSIDE
    if outside or not networks:
        yield PlaceName(None, interface)
        return
    yield from (PlaceName(one, interface) for one in dict.fromkeys(networks))


def _behind_which(device: Device, place: PlaceName) -> PlaceName:
    """The place with the interface its addresses lie behind, as far as networks of interfaces and zones show."""
    one = place.network
    if one is None or place.interface or place.itself:
        return place
    linked = [
        (network, interface.name)
        for interface in device.interfaces
        if interface.enabled
        for network in interface.networks
    ]
    stated = [
        (network, zone.interfaces[0]) for zone in device.zones if len(zone.interfaces) == 1 for network in zone.networks
    ]
    around = [(n.last - n.first, name) for n, name in (*linked, *stated)
              if n.family == one.family and n.first <= one.first and one.last <= n.last]  # fmt: skip
    return replace(place, interface=min(around)[1]) if around else place


def _reached_at(device: Device, target: PlaceName, interface: str) -> bool:
    """Whether an address of the device is the one that those behind an interface use; each is where none is on it."""
    near = next((one.addresses for one in device.interfaces if one.name == interface), ())
    return not near or target.network in near


def _own(device: Device) -> tuple[PlaceName, ...]:
    found = [PlaceName(address, "", True) for one in device.interfaces if one.enabled for address in one.addresses]
    return tuple(found) or (PlaceName(None, "", True),)


def _networks(place: PlaceName) -> Iterator[PlaceName]:
    """A range as the networks a sentence can name."""
    held = place.network
    while held is not None:
        size = held.first & -held.first or 1 << 127
        while held.first + size - 1 > held.last:
            size >>= 1
        yield PlaceName(Addresses(held.family, held.first, held.first + size - 1))
        held = Addresses(held.family, held.first + size, held.last) if held.first + size <= held.last else None


def _same_family(one: PlaceName, other: PlaceName) -> bool:
    return one.network is None or other.network is None or one.network.family == other.network.family


def _end(word: str, place: PlaceName, port: str) -> list[str]:
    text = "any" if place.network is None else spell_operand(place.network)
    if port:
        text = f"[{text}]:{port}" if ":" in text else f"{text}:{port}"
    return [word, text]


def _nearest(study: Study, name: str) -> str:
    known = [
        *(one.name for one in ends_of(study)),
        *(one.name for one in study.device.addresses),
        *(one.name for one in study.estate.devices),
    ]
    lower = {one.lower(): one for one in known}
    near = difflib.get_close_matches(name.lower(), list(lower), n=3) or list(lower)[:6]
    return f"there is {', '.join(lower[one] for one in near)}"


def in_estate(estate: Estate, name: str | None, text: str) -> tuple[Device | None, tuple[str, ...]]:
    """The sentences that one with names stands for, and the device whose names they are.

    name: the device that is asked; without one that of the only device, or the only one that knows all the names. None is the
    device of a sentence without names, or between devices: such a packet is followed over all of them.

    Raises UsageError where no device knows the names, or several do.
    """
    from aiguille.analysis.lookup import one_device
    from aiguille.analysis.program import Programs

    def described(device: Device) -> tuple[str, ...]:
        return sentences(Study(device, estate, Programs(device)), text)

    if name is not None or len(estate.devices) == 1:
        device = one_device(estate, name)
        found = described(device)
        return (None if found == (text,) and name is None else device), found
    _, parts = _parts(text)
    ends = {key: _split(value) for key, value in parts if key in ("from", "to") and _is_name(value)}
    known = {one.name.lower(): one for one in estate.devices}
    placed = any(key in ("entering", "leaving") for key, _ in parts)
    if not placed and all(_device_and_zone(known, end) is not None for end, _ in ends.values()):
        return None, (_between(known, text, parts),)
    found_by: list[tuple[Device, tuple[str, ...]]] = []
    first: UsageError | None = None
    for device in estate.devices:
        try:
            found_by.append((device, described(device)))
        except UsageError as error:
            first = first or error
    if len(found_by) > 1:
        names = ", ".join(device.name for device, _ in found_by)
        raise UsageError(f"the names in '{text}' fit several devices; choose one with --device: {names}")
    if not found_by:
        raise first or UsageError("no device could be read")
    return found_by[0]


def _between(known: dict[str, Device], text: str, parts: list[tuple[str, str]]) -> str:
    """A sentence with the first address of each device it names, or a host's in a zone of it, of one family where there is a choice."""
    head = _parts(text)[0]
    protocol, service_port = _services(next(iter(known.values())), head)[0]
    out = [protocol]
    family: int | None = None
    for key, value in parts:
        end, port = _split(value)
        port = port or (service_port if key == "to" else "")
        found = _device_and_zone(known, end) if key in ("from", "to") else None
        if found is None:
            address = _address(end) if key in ("from", "to") else None
            out += _end(key, PlaceName(address), port) if address is not None else [key, value]
            continue
        device, zone = found
        places = _own(device) if not zone else tuple(_hosts_in(device, zone))
        held = [place.network for place in places if place.network is not None]
        fitting = [one for one in held if family in (None, one.family)]
        if not fitting:
            raise UsageError(
                f"the export of {device.name} gives no address of {zone or 'it'} that fits; write one instead of its name"
            )
        family = fitting[0].family
        out += _end(key, PlaceName(fitting[0]), port)
    return " ".join(out).strip()


def _device_and_zone(known: dict[str, Device], name: str) -> tuple[Device, str] | None:
    """What ``gateway`` or ``gateway/zone`` names: a device, and its zone or interface, empty for the device itself."""
    gateway, _, zone = name.partition("/")
    device = known.get(gateway.lower())
    if device is None:
        return None
    names = {one.name for one in device.zones} | {one.name for one in device.interfaces} | {"", *ITSELF}
    if zone not in names:
        return None
    return device, "" if zone in ITSELF else zone


def _hosts_in(device: Device, zone: str) -> Iterator[PlaceName]:
    """A host in each network of a zone or interface."""
    named = [n for one in device.zones if one.name == zone for n in one.networks]
    names = {n for one in device.zones if one.name == zone for n in one.interfaces} | {zone}
    named += [n for one in device.interfaces if one.name in names for n in one.networks]
    for network in dict.fromkeys(named):
        host = min(network.first + _HOST, network.last)
        yield PlaceName(Addresses(network.family, host, host))


_HOST = 20
"""The host of a network that stands for all of them."""
