"""Settings of the kernel that Shorewall makes when it starts (shorewall.conf(5), shorewall-interfaces(5))."""

from __future__ import annotations

from collections.abc import Iterator

from aiguille.model import Fact, stated
from aiguille.readers.shorewall.lines import Folder
from aiguille.readers.shorewall.zones import Interface, Network

_EVERYWHERE = (("ROUTE_FILTER", "rp_filter"), ("LOG_MARTIANS", "log_martians"))
_BY_INTERFACE = (("routefilter", "rp_filter"), ("sourceroute", "accept_source_route"), ("logmartians", "log_martians"))
_VALUES = {"yes": "1", "on": "1", "no": "0", "off": "0"}


def kernel_settings(folder: Folder, network: Network) -> Iterator[Fact]:
    """The settings by their names of sysctl(8); what is set to Keep stays as it is and is none."""
    if folder.family == 4:
        for option, name in _EVERYWHERE:
            yield from _stated(f"net.ipv4.conf.all.{name}", folder, option)
        yield from _stated("net.ipv4.ip_forward", folder, "IP_FORWARDING")
    else:
        yield from _stated("net.ipv6.conf.all.forwarding", folder, "IP_FORWARDING")
    for one in network.interfaces.values():
        if not one.name.endswith("+"):
            yield from _of_interface(folder.family, one)


def _stated(name: str, folder: Folder, option: str) -> Iterator[Fact]:
    said = folder.setting(option).lower() if option in folder.said else ""
    value = _VALUES.get(said, said)
    if value in ("0", "1", "2"):
        yield Fact(name, stated(value, folder.setting_where(option)))


def _of_interface(family: int, one: Interface) -> Iterator[Fact]:
    for option, name in _BY_INTERFACE:
        said = one.options.get(option)
        if said is not None and (family == 4 or name == "accept_source_route"):
            yield Fact(
                f"net.ipv{family}.conf.{one.name}.{name}", stated(_VALUES.get(said.lower(), said) or "1", one.where)
            )
