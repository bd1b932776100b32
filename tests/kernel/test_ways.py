"""The interface a packet leaves by is the kernel's choice."""

from __future__ import annotations

import random
import re
import subprocess
from ipaddress import ip_address

from aiguille.analysis.resolve import symbols_of
from aiguille.analysis.ways import ways
from aiguille.readers import host
from aiguille.readers.files import decode
from tests.kernel.conftest import Namespace

SEED = 20261128
PACKETS = 2000


def test_the_way_out_is_the_one_the_kernel_takes(namespace: Namespace) -> None:
    """Overlapping prefixes of routes, connected networks and a default route; routes that refuse."""
    draw = random.Random(SEED)
    for number, address in ((0, "192.0.2.2/28"), (1, "10.1.0.1/16"), (2, "10.1.64.1/24")):
        namespace.run("ip", "link", "add", f"eth{number}", "type", "veth", "peer", "name", f"far{number}")
        namespace.run("ip", "link", "set", f"far{number}", "up")
        namespace.run("ip", "addr", "add", address, "dev", f"eth{number}")
        namespace.run("ip", "link", "set", f"eth{number}", "up")
    namespace.run("ip", "route", "add", "default", "via", "192.0.2.1", "dev", "eth0")
    for _ in range(30):
        length = draw.randint(9, 30)
        network = draw.getrandbits(24) | 10 << 24
        prefix = ip_address(network >> (32 - length) << (32 - length))
        device = f"eth{draw.randint(0, 2)}"
        what = ["blackhole", f"{prefix}/{length}"] if draw.random() < 0.2 else [f"{prefix}/{length}", "dev", device]
        namespace.run("ip", "route", "replace", *what)
    dump = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -i lo -j ACCEPT\nCOMMIT\n"
    bundle = [
        decode("rules.v4", dump.encode()),
        decode("ip-addr.json", namespace.run("ip", "-j", "addr").encode()),
        decode("ip-route.json", namespace.run("ip", "-j", "route").encode()),
    ]
    device = host.read(bundle, "gw")
    symbols = symbols_of(device)
    known = ways(device, 4, symbols)
    addresses = []
    while len(addresses) < PACKETS:
        near = draw.random() < 0.8
        value = (10 << 24 | draw.getrandbits(24)) if near else draw.randrange(0x0B000000, 0xDF000000)
        if not ip_address(value).is_loopback:
            addresses.append(value)
    asked = "".join(f"route get {ip_address(value)}\n" for value in addresses)
    words = ["ip", "netns", "exec", namespace.name, "ip", "-force", "-batch", "-"]
    done = subprocess.run(words, input=asked, capture_output=True, text=True, check=False)
    answers = [line for line in done.stdout.splitlines() if line[:1].strip() and len(line.split()) > 1]
    told = {line.split()[0 if line[0].isdigit() else 1]: line for line in answers}
    agreed = refused = 0
    for value in addresses:
        line = told.get(str(ip_address(value)), "")
        if line.startswith(("local", "broadcast")):
            continue
        found = re.search(r" dev (\S+)", line)
        (way,) = [one for one in known if value in one.destinations]
        ours = {symbols.name(number) for number in way.leaves}
        assert ours == ({found[1]} if found else set()), f"{ip_address(value)} from seed {SEED}: {line}"
        agreed += 1
        refused += found is None
    assert agreed > PACKETS * 0.95
    assert refused
