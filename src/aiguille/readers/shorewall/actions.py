"""Actions with a fixed meaning: those built in and the standard ones that Shorewall ships (shorewall-actions(5))."""

from __future__ import annotations

import re

from msgspec import Struct

from aiguille.model import NotUnderstoodError

_CALL = re.compile(r"([A-Za-z_][\w.-]*)([+!])?(?:\((.*?)\)|/([A-Za-z_]\w*[+!]?))?(?:\((.*)\))?(?::(.*))?")

TARGETS = {
    "ACCEPT": ["-j", "ACCEPT"],
    "DROP": ["-j", "DROP"],
    "REJECT": ["-g", "reject"],
    "CONTINUE": ["-j", "RETURN"],
    "WHITELIST": ["-j", "RETURN"],
    "QUEUE": ["-j", "QUEUE"],
    "NFQUEUE": ["-j", "NFQUEUE"],
    "A_ACCEPT": ["-j", "ACCEPT"],
    "A_DROP": ["-j", "DROP"],
    "A_REJECT": ["-g", "reject"],
    "NONE": [],
}
"""Actions that end in one target. What audits beforehand (``A_``) decides the same."""

TRANSLATING = frozenset(["DNAT", "DNAT-", "REDIRECT", "REDIRECT-", "NONAT", "ACCEPT+"])
RECORDING = frozenset(["LOG", "COUNT", "NFLOG", "ULOG"])

_STATE = ["-m", "conntrack", "--ctstate"]
_BROADCAST = (["-m", "addrtype", "--dst-type", "BROADCAST"], ["-m", "addrtype", "--dst-type", "ANYCAST"])
_NOT_SYN = ["-p", "tcp", "!", "--tcp-flags", "FIN,SYN,RST,ACK", "SYN"]

STANDARD: dict[str, tuple[str, tuple[list[str], ...]]] = {
    "Broadcast": ("DROP", _BROADCAST),
    "Multicast": ("DROP", (["-m", "addrtype", "--dst-type", "MULTICAST"],)),
    "dropBcast": ("DROP!", _BROADCAST),
    "dropBcasts": ("DROP!", _BROADCAST),
    "allowBcast": ("ACCEPT!", _BROADCAST),
    "dropMcast": ("DROP!", (["-m", "addrtype", "--dst-type", "MULTICAST"],)),
    "allowMcast": ("ACCEPT!", (["-m", "addrtype", "--dst-type", "MULTICAST"],)),
    "Invalid": ("DROP", ([*_STATE, "INVALID"],)),
    "dropInvalid": ("DROP!", ([*_STATE, "INVALID"],)),
    "allowInvalid": ("ACCEPT!", ([*_STATE, "INVALID"],)),
    "Untracked": ("DROP", ([*_STATE, "UNTRACKED"],)),
    "New": ("ACCEPT", ([*_STATE, "NEW"],)),
    "Established": ("ACCEPT", ([*_STATE, "ESTABLISHED"],)),
    "Related": ("DROP", ([*_STATE, "RELATED"],)),
    "NotSyn": ("DROP", (_NOT_SYN,)),
    "dropNotSyn": ("DROP!", (_NOT_SYN,)),
    "rejNotSyn": ("REJECT(tcp-reset)!", (_NOT_SYN,)),
    "RST": ("DROP", (["-p", "tcp", "--tcp-flags", "RST", "RST"],)),
    "FIN": ("ACCEPT", (["-p", "tcp", "--tcp-flags", "ACK,FIN", "ACK,FIN"],)),
    "DropDNSrep": ("DROP", (["-p", "udp", "--sport", "53"],)),
    "allowinUPnP": ("ACCEPT!", (["-p", "udp", "--dport", "1900"], ["-p", "tcp", "--dport", "49152"])),
    # What it looks for within the packet no header shows, so it may match any query.
    "DNSAmp": ("DROP", (["-p", "udp", "--dport", "53", "-m", "u32", "--u32", "a recursive query"],)),
}
"""Standard actions that are one decision on some packets: what they do unless told otherwise (``!``: always), the packets."""


def shared_files(parameters: tuple[str, ...]) -> tuple[list[str], ...]:
    """What GlusterFS accepts: the number of bricks, and whether InfiniBand is used. Raises NotUnderstoodError."""
    bricks, infiniband = ((one if one != "-" else "") for one in (*parameters, "", "")[:2])
    if not re.fullmatch(r"\d{0,4}", bricks) or not 0 < int(bricks or 2) <= 1024 or infiniband not in ("", "0", "1"):
        raise NotUnderstoodError("GlusterFS takes a number of bricks up to 1024, and 0 or 1")
    ports = ("38465:38467", "24007:24008" if infiniband == "1" else "24007", f"49151:{49150 + int(bricks or 2)}")
    return (["-p", "udp", "-m", "multiport", "--dports", "111,2049"], *(["-p", "tcp", "--dport", one] for one in ports))


SIX: dict[str, tuple[list[str], ...]] = {
    "Broadcast": (),
    "dropBcast": (),
    "dropBcasts": (),
    "Multicast": (["-d", "ff00::/8"],),
    "dropMcast": (["-d", "ff00::/8"],),
    "allowMcast": (["-d", "ff00::/8"],),
}
"""What differs with IPv6, which has no broadcast. Shorewall6 looks for the host's anycast addresses when it starts and refuses
packets to them; no export shows them, and what they refuse the policies these actions stand before refuse as well."""

NEEDED_ICMP = {
    4: [(["-p", "icmp", "-m", "icmp", "--icmp-type", kind]) for kind in ("3/4", "11")],
    6: [
        *(
            ["-p", "ipv6-icmp", "-m", "icmp6", "--icmpv6-type", str(n)]
            for n in (1, 2, 3, 4, 133, 134, 135, 136, 137, 141, 142)
        ),
        *(["-s", "fe80::/10", "-p", "ipv6-icmp", "-m", "icmp6", "--icmpv6-type", str(n)] for n in (130, 131, 132, 143)),
        *(["-p", "ipv6-icmp", "-m", "icmp6", "--icmpv6-type", str(n)] for n in (148, 149)),
        *(["-s", "fe80::/10", "-p", "ipv6-icmp", "-m", "icmp6", "--icmpv6-type", str(n)] for n in (151, 152, 153)),
    ],
}
"""What AllowICMPs accepts: the messages IPv4 needs for path discovery, and those RFC 4890 lists for IPv6."""

FLAG_TESTS = (
    ("ALL", "FIN,URG,PSH"), ("ALL", "NONE"), ("SYN,RST", "SYN,RST"), ("SYN,FIN", "SYN,FIN"),
)  # fmt: skip
"""Combinations of TCP flags that no honest packet has; the option tcpflags tests more of them than the action TCPFlags."""
MORE_FLAG_TESTS = (("FIN,RST", "FIN,RST"), ("ACK,PSH,FIN", "PSH,FIN"))


class Call(Struct, frozen=True):
    """An action as written: ``SSH(ACCEPT):info:tag`` or ``SSH/ACCEPT``."""

    name: str
    parameters: tuple[str, ...] = ()
    level: str = ""
    tag: str = ""

    @property
    def logs(self) -> bool:
        return bool(self.level) and self.level.rstrip("!").lower() != "none"


def read_call(text: str) -> Call:
    """Read an action column; raises NotUnderstoodError."""
    found = _CALL.fullmatch(text)
    if found is None:
        raise NotUnderstoodError(f"'{text}' is not an action such as ACCEPT, SSH(ACCEPT) or DROP:info")
    name, suffix, inside, slashed, more, log = found.groups()
    level, _, tag = (log or "").partition(":")
    if slashed:
        inside = f"{slashed}({more})" if more else slashed
    if re.fullmatch(r"(?:ACCEPT|DNAT|REDIRECT)", name) and suffix == "+":
        name += "+"
    return Call(name, tuple(_split(inside)) if inside else (), level, tag)


def _split(text: str) -> list[str]:
    """Parameters, parted by commas outside parentheses."""
    out, depth = [""], 0
    for sign in text:
        depth += (sign == "(") - (sign == ")")
        if sign == "," and depth == 0:
            out.append("")
        else:
            out[-1] += sign
    return [one.strip() for one in out]


def split_actions(text: str) -> list[str]:
    """The actions of a list such as a default of a policy: ``Broadcast(DROP),Multicast(DROP):info``."""
    return [one for one in _split(text) if one and one.lower() != "none"]


def read_policy(text: str) -> Call:
    """Read an action that can stand as a policy or disposition; raises NotUnderstoodError for others."""
    call = read_call(text)
    if call.name.removeprefix("A_") not in _POLICIES:
        raise NotUnderstoodError(f"'{text}' is not a policy such as ACCEPT, DROP or REJECT")
    return call


_POLICIES = frozenset(["ACCEPT", "DROP", "REJECT", "CONTINUE", "NONE", "QUEUE", "NFQUEUE", "BLACKLIST"])
