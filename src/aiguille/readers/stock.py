"""What programs put into a dump by themselves: rules that nobody who is audited wrote.

Known by the names the programs give their chains, as they are seen in dumps: ufw(8) and its before.rules and after.rules,
fail2ban's actions, and the container engine's chains. A rule of such a chain that lets something else in than what the
program ships with was put there by hand, and counts.
"""

from __future__ import annotations

import re

from aiguille.model import (
    Action,
    Chain,
    Field,
    InterfaceName,
    Numbers,
    Rule,
    State,
    Translate,
    TranslationKind,
    is_container_bridge,
)

_UFW = re.compile(r"ufw6?-(before|after|skip-to-policy|not-local|logging|reject|track|user-limit|user-logging)")
_CALLED = re.compile(r"(f2b-|fail2ban-|DOCKER(-ISOLATION|-CT|-BRIDGE|-INTERNAL|-FORWARD)|KUBE-|cali-|LIBVIRT_)")

# DHCP (RFC 2131, RFC 8415), multicast DNS (RFC 6762) and discovery of services, which ufw lets in.
_PORTS = {68, 546, 1900, 5353}


def _is_bridging(rule: Rule) -> bool:
    """Whether a rule lets out what comes from containers, or answers to it, as their engine does."""
    fields = {one.field for one in rule.match.conditions}
    into = [o for c in rule.match.conditions if c.field is Field.IN_INTERFACE and not c.negated for o in c.operands]
    out = [o for c in rule.match.conditions if c.field is Field.OUT_INTERFACE and not c.negated for o in c.operands]
    held = [one for one in (*into, *out) if isinstance(one, InterfaceName) and is_container_bridge(one.name)]
    answers = Field.STATE in fields and bool(out)
    return bool(held) and fields <= {Field.IN_INTERFACE, Field.OUT_INTERFACE, Field.STATE} and (bool(into) or answers)


def _is_hiding(rule: Rule) -> bool:
    """Whether a rule hides the addresses of containers from the network, or a container from itself, as their engine has it."""
    if not any(isinstance(one, Translate) and one.kind is TranslationKind.SOURCE for one in rule.effects):
        return False
    conditions = {one.field: one for one in rule.match.conditions}
    out = conditions.get(Field.OUT_INTERFACE)
    ends = [conditions.get(field) for field in (Field.SOURCE, Field.DESTINATION)]
    bridge = out is not None and all(isinstance(o, InterfaceName) and is_container_bridge(o.name) for o in out.operands)
    alike = ends[0] is not None and ends[1] is not None and ends[0].operands == ends[1].operands
    return (bridge and out is not None and out.negated and ends[0] is not None) or alike


_TO_GUESTS = "LIBVIRT_FWI"
"""What goes to virtual machines; only a network that hides nothing lets new connections in there."""


def _is_for_guests(chain: Chain, rule: Rule) -> bool:
    """Whether an accepting rule is one a host of virtual machines has for each network: out of it, within it, its names and leases."""
    if not chain.name.startswith("LIBVIRT_"):
        return False
    return chain.name != _TO_GUESTS or any(one.field is Field.STATE for one in rule.match.conditions)


def is_shipped(chain: Chain, rule: Rule) -> bool:
    """Whether a rule stands in a program's own chain and does what the program makes it do."""
    if _CALLED.match(chain.name):
        return rule.action is not Action.ACCEPT or _is_for_guests(chain, rule)
    if chain.name == "FORWARD" and rule.action is Action.ACCEPT and _is_bridging(rule):
        return True
    if chain.name == "POSTROUTING" and _is_hiding(rule):
        return True
    if chain.base is not None and rule.target is not None:
        if _CALLED.match(rule.target) or rule.target.startswith("DOCKER"):
            return True  # a jail for one port, a bridge of containers: their programs put these jumps there
        return re.match(r"ufw6?-", rule.target) is not None and not rule.match.conditions
    if not _UFW.match(chain.name):
        return False
    if rule.action is not Action.ACCEPT:
        return True
    conditions = {one.field: one for one in rule.match.conditions}
    if Field.ICMP in conditions or Field.IN_INTERFACE in conditions or Field.OUT_INTERFACE in conditions:
        return True
    state = conditions.get(Field.STATE)
    if state is not None:
        return not state.negated and Numbers(State.NEW.number, State.NEW.number) not in state.operands
    ports = conditions.get(Field.DESTINATION_PORT)
    return ports is not None and all(
        isinstance(one, Numbers) and {one.first, one.last} <= _PORTS for one in ports.operands
    )
