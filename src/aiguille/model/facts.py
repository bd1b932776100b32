"""What is known of a device as a whole: a row for each setting, where it stands, and how it is spoken of."""

from __future__ import annotations

from collections.abc import Iterator
from math import isinf
from typing import Any

from msgspec import Struct

from aiguille.model.device import Device
from aiguille.model.settings import Setting

FORWARDING = {4: "net.ipv4.ip_forward", 6: "net.ipv6.conf.all.forwarding"}
"""By address family, the setting of the kernel that says whether packets are passed on (ip-sysctl.rst)."""


def system_settings(device: Device) -> dict[str, str]:
    """What is known of the system below the firewall, by the name its own documentation gives it."""
    return {fact.name: fact.setting.value for fact in device.system if fact.setting.known}


class DeviceFact(Struct, frozen=True):
    """A setting of a device.

    path: dotted, from `Device`
    asked: what is not stated where it is unknown, after "the export does not state"; empty where no check needs it
    shown: its name in a listing; empty where it is listed elsewhere
    unit: after a number; endless: in place of infinity
    compared: its name where siblings are compared; empty where they are not
    of_appliances: whether only makes with a page and a maker of their own have it
    """

    path: str
    asked: str = ""
    shown: str = ""
    unit: str = ""
    endless: str = ""
    compared: str = ""
    of_appliances: bool = False

    @property
    def name(self) -> str:
        return self.path.rpartition(".")[2]

    def of(self, device: Device) -> Setting[Any]:
        """The setting of a device."""
        found: Any = device
        for part in self.path.split("."):
            found = getattr(found, part)
        if not isinstance(found, Setting):
            raise TypeError(f"{self.path} is no setting")
        return found

    def spell(self, value: Any) -> str:
        """A value of it in words."""
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, tuple):
            return ", ".join(value) or "nobody"
        if isinstance(value, str):
            return value
        return self.endless if isinf(value) else f"{value:g}{self.unit}"


FACTS = (
    DeviceFact("firmware", "which release runs", compared="release"),
    DeviceFact("administration.lockout_attempts", "when failed logins lock out", "lockout after failed logins", "", "never",
               "failed logins until lockout"),
    DeviceFact("administration.lockout_seconds", "how long a lockout lasts", "lockout lasts", " seconds", "for ever",
               "seconds of lockout"),
    DeviceFact("administration.idle_minutes", "when idle sessions close", "idle sessions close after", " minutes", "never",
               "idle minutes"),
    DeviceFact("administration.password_length", "the least length of a password", "passwords are at least", " characters",
               "of any length", "password length"),
    DeviceFact("administration.password_classes", "", "passwords mix at least", " classes of characters", "any"),
    DeviceFact("logging.device_days", "how long records stay on the device", "log kept on the device", " days",
               "no limit of time", "days of records"),
    DeviceFact("logging.collector_days", "how long records stay on the collector", "log kept by the collector", " days",
               "no limit of time"),
    DeviceFact("administration.redirects", "where the cleartext page leads", "cleartext web page leads to the encrypted one",
               of_appliances=True),
    DeviceFact("administration.strong_ciphers", "", "outdated ciphers are refused"),
    DeviceFact("administration.recovery_account", "whether the maker's recovery account can log in",
               "the maker's recovery account can log in", compared="recovery account", of_appliances=True),
    DeviceFact("administration.link_layer", "whether the device can be managed by hardware address",
               "can be managed by hardware address", compared="management by hardware address", of_appliances=True),
    DeviceFact("administration.discovery", "whether the device announces itself", "announces itself on the link",
               of_appliances=True),
    DeviceFact("loads_rules", "whether the rules are loaded at start-up", "rules are loaded at start-up"),
    DeviceFact("flood_protection", "", "half-open connections are limited", compared="half-open guard"),
    DeviceFact("updates_itself", "", "installs updates by itself", compared="updates itself"),
    DeviceFact("portal.enabled", "", "portal is open"),
    DeviceFact("update_waiting", "", "update waits"),
    DeviceFact("backed_up", "when its configuration was last backed up", "configuration backed up", of_appliances=True),
    DeviceFact("logging.collectors", "where records are sent", "log sent to", compared="collectors"),
    DeviceFact("time_sources", "which time servers the device uses", "time asked from", compared="time servers"),
)  # fmt: skip
"""In the order they are listed."""


def known_facts(device: Device) -> Iterator[tuple[DeviceFact, Setting[Any]]]:
    """The facts that an export shows."""
    for fact in FACTS:
        setting = fact.of(device)
        if setting.known:
            yield fact, setting


FACT_AT = {fact.path: fact for fact in FACTS}
"""By path."""
