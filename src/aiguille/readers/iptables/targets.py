"""What the targets of iptables do (iptables(8), iptables-extensions(8), version 1.8)."""

from __future__ import annotations

from msgspec import Struct, field

from aiguille.model import (
    Action,
    Addresses,
    Effect,
    FillSet,
    HandOver,
    Log,
    LoseMark,
    MaskedAddress,
    NoTracking,
    NotUnderstoodError,
    SetMark,
    Translate,
    TranslationKind,
)
from aiguille.readers.literals import read_address_range, read_network, read_number, read_ports

PASSING = frozenset(
    [
        "AUDIT",
        "CHECKSUM",
        "CLASSIFY",
        "CONNMARK",
        "CONNSECMARK",
        "CT",
        "DNPT",
        "DSCP",
        "ECN",
        "HL",
        "HMARK",
        "IDLETIMER",
        "LED",
        "LOG",
        "MARK",
        "NFLOG",
        "NOTRACK",
        "RATEEST",
        "SECMARK",
        "SET",
        "SNPT",
        "TCPMSS",
        "TCPOPTSTRIP",
        "TEE",
        "TOS",
        "TRACE",
        "TTL",
        "ULOG",
    ]
)
"""Targets after which evaluation goes on with the next rule."""

_OPTIONS = {
    "CONNMARK": "set-xmark save-mark restore-mark and-mark or-mark xor-mark set-mark mask nfmask ctmask left-shift-mark "
    "right-shift-mark",
    "CT": "notrack helper ctevents expevents zone zone-orig zone-reply timeout",
    "DNAT": "to-destination random persistent",
    "MARK": "set-xmark set-mark and-mark or-mark xor-mark",
    "MASQUERADE": "to-ports random random-fully",
    "NETMAP": "to",
    "NFQUEUE": "queue-num queue-balance queue-bypass queue-cpu-fanout",
    "REDIRECT": "to-ports random",
    "REJECT": "reject-with",
    "SET": "add-set del-set map-set timeout exist map-mark map-prio map-queue",
    "SNAT": "to-source random random-fully persistent",
}
"""The options of targets which decide what those do."""

OUTSIDE_VERDICT = frozenset(["CLUSTERIP", "NFQUEUE", "QUEUE", "SYNPROXY", "TPROXY"])
"""Targets whose verdict something outside the rule set gives."""


class Target(Struct):
    """A target as read: its action and effects."""

    action: Action
    effects: list[Effect] = field(default_factory=list)
    reply: str = ""


def read_target(name: str, options: dict[str, list[str]], family: int) -> Target | None:
    """What a built-in target does; None if it is none of them. Raises NotUnderstoodError for options that are malformed."""
    if name in _OPTIONS:
        options = {_option(name, given): words for given, words in options.items()}
    match name:
        case "ACCEPT":
            return Target(Action.ACCEPT)
        case "DROP":
            return Target(Action.DROP)
        case "RETURN":
            return Target(Action.RETURN)
        case "REJECT":
            default = "icmp-port-unreachable" if family == 4 else "icmp6-port-unreachable"
            return Target(Action.REJECT, reply=_one(options, "--reject-with") or default)
        case "LOG" | "NFLOG" | "ULOG":
            prefix = next((v[0] for k, v in options.items() if k.endswith("-prefix") and v), "")
            return Target(Action.CONTINUE, [Log(prefix)])
        case "DNAT":
            return Target(Action.ACCEPT, [_translate(TranslationKind.DESTINATION, _one(options, "--to-destination"))])
        case "SNAT":
            return Target(Action.ACCEPT, [_translate(TranslationKind.SOURCE, _one(options, "--to-source"))])
        case "MASQUERADE":
            return Target(Action.ACCEPT, [Translate(TranslationKind.SOURCE)])
        case "REDIRECT":
            ports = _one(options, "--to-ports")
            change = Translate(TranslationKind.TO_DEVICE, ports=read_ports(ports, "-") if ports else None)
            return Target(Action.ACCEPT, [change])
        case "NETMAP":
            return Target(Action.ACCEPT, [_netmap(_one(options, "--to"))])
        case "MARK":
            return Target(Action.CONTINUE, [_mark(options)])
        case "CONNMARK" if "--restore-mark" in options:
            return Target(Action.CONTINUE, [LoseMark()])
        case "NOTRACK":
            return Target(Action.CONTINUE, [NoTracking()])
        case "CT":
            return Target(Action.CONTINUE, [NoTracking()] if "--notrack" in options else [])
        case "SET":
            filled = [FillSet(options[one][0]) for one in ("--add-set", "--del-set") if options.get(one)]
            return Target(Action.CONTINUE, [*filled, *([LoseMark()] if "--map-mark" in options else [])])
        case _ if name in PASSING:
            return Target(Action.CONTINUE)
        case "NFQUEUE" | "QUEUE":
            return Target(Action.UNKNOWN, [HandOver("--queue-bypass" in options)])
        case _ if name in OUTSIDE_VERDICT:
            return Target(Action.UNKNOWN)
        case _:
            return None


def _option(target: str, given: str) -> str:
    """An option by its whole name: the beginning of one is enough where it begins no other (getopt_long(3))."""
    known = _OPTIONS[target].split()
    meant = [one for one in known if one == given[2:]] or [one for one in known if one.startswith(given[2:])]
    if len(meant) != 1:
        raise NotUnderstoodError(f"'{given}' is not known to the target '{target}'")
    return f"--{meant[0]}"


def _one(options: dict[str, list[str]], name: str) -> str:
    return options[name][0] if options.get(name) else ""


def _translate(kind: TranslationKind, text: str) -> Translate:
    """Read ``10.0.0.5``, ``10.0.0.5-10.0.0.9:8443``, ``[2001:db8::5]:80-90`` or ``:8080``."""
    if not text:
        raise NotUnderstoodError("the translation does not say to what")
    if text.startswith("["):
        address, _, port = text[1:].partition("]")
        port = port.removeprefix(":")
    elif text.count(":") > 1:
        address, port = text, ""
    else:
        address, _, port = text.partition(":")
    if "/" in port:  # a shifted range: the mapping of single ports is not kept
        raise NotUnderstoodError(f"'{text}' shifts a range of ports")
    return Translate(
        kind,
        read_address_range(address) if address else None,
        read_ports(port, "-") if port else None,
    )


def _netmap(text: str) -> Translate:
    network = read_network(text)
    if isinstance(network, MaskedAddress):
        raise NotUnderstoodError(f"'{text}' is not a network with a prefix")
    bits = (network.last - network.first).bit_length()
    return Translate(TranslationKind.DESTINATION, Addresses(network.family, network.first, network.last), None, bits)


def _mark(options: dict[str, list[str]]) -> SetMark:
    """All forms of the MARK target as the one operation they print as."""
    everything = 0xFFFFFFFF
    for name, words in options.items():
        value, _, mask = words[0].partition("/") if words else ("", "", "")
        number, limit = read_number(value), read_number(mask) if mask else everything
        match name:
            case "--set-xmark":
                return SetMark(number, limit)
            case "--set-mark":
                return SetMark(number, limit | number)
            case "--and-mark":
                return SetMark(0, everything ^ number)
            case "--or-mark":
                return SetMark(number, number)
            case "--xor-mark":
                return SetMark(number, 0)
    raise NotUnderstoodError("the mark does not say which")
