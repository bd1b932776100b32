"""Programs that keep chains of their own and write them anew: a rule changed there by hand is back at the next start.

Known by the names they give their chains: the container engine's, fail2ban's actions, ufw(8), hosts of virtual machines.
"""

from __future__ import annotations

import re

from aiguille.baseline.catalogue import RuleRef
from aiguille.model import Device

_BANS = re.compile(r"(f2b|fail2ban)-")
"""fail2ban's chains; it keeps a log of its own of whom it bans and lets back in."""

_BESIDE = "chain DOCKER-USER, which it leaves alone."
_KEEPERS = (
    (
        re.compile(r"DOCKER(?!-USER$)(-|$)"),
        "The container engine keeps this chain and writes it anew: publish the port on one address of the host, or refuse it in "
        + _BESIDE,
    ),
    (_BANS, "fail2ban keeps this chain and writes it anew: change the jail it belongs to."),
    (re.compile(r"ufw6?-"), "ufw keeps this chain and writes it anew: change the rule with ufw."),
    (
        re.compile(r"MINIUPNPD"),
        "A daemon fills this chain as machines inside ask it to: switch that off, or let it serve named machines alone.",
    ),
    (
        re.compile(r"(KUBE-|cali-|LIBVIRT_)"),
        "A program keeps this chain and writes it anew: change what it makes the rule from.",
    ),
)


def where_to_change(rules: tuple[RuleRef, ...], check: str = "") -> str:
    """Where a rule must be changed so that the change stays, or what a check asks for comes about; empty if in the rule itself."""
    chain = rules[0].chain if rules else ""
    where = rules[0].where if rules else None
    if check == "rules.shadowed" and where is not None and where.file.endswith("/firewalld/direct.xml"):
        return (
            "It is a direct rule of firewalld: what it accepts still goes through the zones where FirewallBackend is nftables; "
            "write it as a rich rule of a zone, or into a policy, instead."
        )
    return next((said for called, said in _KEEPERS if called.match(chain)), "")


def switched_off(device: Device, rules: tuple[RuleRef, ...]) -> str:
    """What mends a finding on a default that holds only because the firewall is switched off; empty where it is not."""
    if not device.waiting or not rules or rules[0].rule != "policy":
        return ""
    return (
        "The rules are written and wait: look at what switching them on changes, and that those who log in stay in "
        "(`aiguille compare EXPORT --as-if enable --administrator ADDRESS`), then switch the firewall on (`ufw enable`)."
    )


def is_kept(chain: str) -> bool:
    """Whether a program writes the rules of a chain from what it is told elsewhere, so that they hold no words of anybody."""
    return any(called.match(chain) for called, _ in _KEEPERS) and not chain.startswith("ufw")


def needs_no_record(chain: str) -> bool:
    """Whether the program that keeps a chain writes down by itself what it refuses there, or keeps virtual machines' networks apart."""
    return _BANS.match(chain) is not None or chain.startswith("LIBVIRT_")
