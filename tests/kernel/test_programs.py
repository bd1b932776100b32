"""Firewall programs read from their own files let through exactly what the kernel lets through once they have run."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from aiguille.analysis.compare import differences
from aiguille.demo import files
from aiguille.model import UnreadableError
from aiguille.readers import host
from aiguille.readers.files import LedgerBuilder, decode
from aiguille.readers.firewalld.config import read_service
from aiguille.readers.firewalld.element import parse
from aiguille.readers.firewalld.services import shipped_services
from aiguille.readers.shorewall.macros import MACROS
from tests.kernel.conftest import REQUIRED
from tests.kernel.sandbox import Sandbox, compare, compare_listing


def needs(program: str) -> None:
    if shutil.which(program) is None:
        assert not REQUIRED, f"{program} is missing"
        pytest.skip(f"needs the program {program}")


START_UFW = (
    "ufw --force enable\niptables-save -c > $OUT/a.v4\nip6tables-save > $OUT/a.v6\n"
    "sysctl -qw net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1\nufw status verbose > $OUT/../status.txt\n"
    "ufw show added > $OUT/../added.txt"
)
START_FIREWALLD = (
    "dbus-daemon --system --fork --print-pid > /run/bus\nfirewalld --nofork --nopid > $OUT/../log 2>&1 &\n"
    "for i in $(seq 100); do firewall-cmd --state > /dev/null 2>&1 && break; sleep 0.2; done\n"
    "nft -j list ruleset > $OUT/rules.json\nfirewall-cmd --list-all-zones > $OUT/../listing.txt\n"
    "kill %1 2> /dev/null || kill $!; kill $(cat /run/bus)"
)
START_SHOREWALL = (
    "mkdir -p /run/shorewall; mount -t tmpfs none /var/lib/{program}\n"
    "{program} start > $OUT/../log 2>&1 || (cat $OUT/../log; exit 1)\n"
    "iptables-save -c > $OUT/a.v4\nip6tables-save -c > $OUT/a.v6"
)
UFW = {
    "fresh": "",
    "host": """
        ufw allow from 192.0.2.0/24 to any port 22 proto tcp comment 'the operators'
        ufw limit 2222/tcp
        ufw allow 80,443/tcp
        ufw deny in on eth0 from 198.51.100.7
        ufw reject out 25/tcp
        ufw allow in on eth1 to 2001:db8::1 port 5432 proto tcp
        ufw allow log 8080/tcp
        ufw logging medium
    """,
    "router": """
        set="$(sed 's/DEFAULT_FORWARD_POLICY=.*/DEFAULT_FORWARD_POLICY="REJECT"/; s/DEFAULT_INPUT_POLICY=.*/DEFAULT_INPUT_POLICY="REJECT"/' /etc/default/ufw)"; echo "$set" > /etc/default/ufw
        ufw route allow in on eth1 out on eth0 from 10.0.0.0/8
        ufw route deny in on eth0 out on eth1 to 10.0.0.5 port 443 proto tcp
        ufw allow WWW
        ufw prepend deny from 203.0.113.0/24
        ufw logging full
    """,
    "open": """
        set="$(sed 's/DEFAULT_INPUT_POLICY=.*/DEFAULT_INPUT_POLICY="ACCEPT"/; s/IPV6=.*/IPV6=no/' /etc/default/ufw)"; echo "$set" > /etc/default/ufw
        ufw deny 23
        ufw logging off
    """,
}


@pytest.mark.parametrize("name", UFW)
def test_ufw(name: str, tmp_path: Path) -> None:
    needs("ufw")
    with Sandbox(tmp_path) as box:
        box.copy("etc/ufw")
        box.copy("etc/default/ufw")
        box.run(f"{UFW[name]}\n{START_UFW}")
        written, running = compare(box.bundle("etc/ufw", "etc/default/ufw"), box.bundle("out"))
        compare_listing(box.bundle("status.txt"), running, only=4 if name == "open" else None)
        if name != "open":
            given_as_commands(box)
            compare_listing(box.bundle("commands.txt"), running)
        if name == "host":
            said = {rule.comment for rulebase in written.rulebases for _, rule in rulebase.rules()}
            assert "the operators" in said


UFW_COMMANDS = """
    ufw default deny incoming
    ufw default allow outgoing
    ufw default deny routed
    ufw allow 22/tcp
    ufw deny 22/tcp
    ufw allow 80/tcp comment 'the shop'
    ufw delete allow 80/tcp
    ufw allow 25
    ufw limit 25/tcp
    ufw limit 25
    ufw allow 443/tcp
    ufw allow 443/tcp comment 'said twice'
    ufw deny from 192.0.2.0/24
    ufw insert 1 allow from 192.0.2.7
    ufw prepend deny from 203.0.113.9
    ufw allow log 8080/tcp
    ufw allow 8080/tcp
    ufw delete deny 3389
    ufw reject out 25/tcp
"""


def test_commands_of_ufw_are_followed_as_ufw_does(tmp_path: Path) -> None:
    needs("ufw")
    with Sandbox(tmp_path) as box:
        box.copy("etc/ufw")
        box.copy("etc/default/ufw")
        box.run(f"{UFW_COMMANDS.replace('ufw delete deny 3389', 'ufw delete deny 3389 || true')}\n{START_UFW}")
        (tmp_path / "given.txt").write_text(UFW_COMMANDS)
        running = host.read(box.bundle("out"), "dump")
        compare_listing(box.bundle("given.txt"), running)


def given_as_commands(box: Sandbox) -> None:
    """Put before what `ufw show added` prints the commands that set the policies."""
    words = {"ACCEPT": "allow", "DROP": "deny", "REJECT": "reject"}
    said = dict(re.findall(r'(?m)^DEFAULT_(\w+)_POLICY="(\w+)"', (box.folder / "etc/default/ufw").read_text()))
    ways = {"INPUT": "incoming", "OUTPUT": "outgoing", "FORWARD": "routed"}
    lines = [f"ufw default {words[said[chain]]} {way}\n" for chain, way in ways.items()]
    (box.folder / "commands.txt").write_text("".join(lines) + (box.folder / "added.txt").read_text())


FIREWALLD = {
    "fresh": "",
    "zones": """
        firewall-offline-cmd --zone=internal --add-interface=eth1
        firewall-offline-cmd --zone=dmz --add-source=10.0.5.0/24
        firewall-offline-cmd --zone=work --add-source=10.0.5.128/25
        firewall-offline-cmd --zone=drop --add-interface=eth7
        firewall-offline-cmd --zone=trusted --add-interface=eth8
        firewall-offline-cmd --zone=public --add-service=samba
        firewall-offline-cmd --zone=public --add-port=8000-8010/tcp
        firewall-offline-cmd --zone=public --add-protocol=gre
        firewall-offline-cmd --zone=public --add-source-port=5000/udp
        firewall-offline-cmd --zone=public --add-masquerade
        firewall-offline-cmd --zone=public --add-icmp-block=echo-request
        firewall-offline-cmd --zone=public --add-forward-port=port=80:proto=tcp:toport=8080:toaddr=10.0.0.5
        firewall-offline-cmd --zone=internal --remove-forward
    """,
    "rich": """
        firewall-offline-cmd --set-log-denied=unicast
        firewall-offline-cmd --new-ipset=blocked --type=hash:net
        firewall-offline-cmd --ipset=blocked --add-entry=203.0.113.0/24
        firewall-offline-cmd --new-ipset=pairs --type=hash:ip,port
        firewall-offline-cmd --ipset=pairs --add-entry=192.0.2.9,tcp:8443
        firewall-offline-cmd --zone=drop --add-source=ipset:blocked
        firewall-offline-cmd --zone=public --add-rich-rule='rule priority=-5 family=ipv4 source address=192.0.2.0/24 port port=8080 protocol=tcp log prefix=x level=info accept'
        firewall-offline-cmd --zone=public --add-rich-rule='rule family=ipv4 source NOT address=10.0.0.0/8 service name=http reject type=tcp-reset'
        firewall-offline-cmd --zone=public --add-rich-rule='rule family=ipv6 destination address=2001:db8::/32 protocol value=esp accept'
        firewall-offline-cmd --zone=public --add-rich-rule='rule priority=10 source ipset=pairs accept'
        firewall-offline-cmd --zone=public --add-rich-rule='rule icmp-block name=redirect'
        firewall-offline-cmd --zone=public --add-rich-rule='rule service name=ssh accept limit value=3/m'
        firewall-offline-cmd --zone=public --add-icmp-block-inversion
        firewall-offline-cmd --zone=public --add-icmp-block=echo-request
    """,
    "direct": """
        firewall-offline-cmd --zone=internal --add-interface=eth1
        firewall-offline-cmd --direct --add-chain ipv4 filter doors
        firewall-offline-cmd --direct --add-rule ipv4 filter doors 1 -p tcp --dport 99 -j ACCEPT
        firewall-offline-cmd --direct --add-rule ipv4 filter doors 0 -s 198.51.100.0/24 -j DROP
        firewall-offline-cmd --direct --add-rule ipv4 filter INPUT 5 -i eth0 -j doors
        firewall-offline-cmd --direct --add-rule ipv4 filter INPUT 1 -p tcp --dport 7 -j DROP
        firewall-offline-cmd --direct --add-rule ipv6 filter FORWARD 0 -s 2001:db8:7::/48 -j REJECT
        firewall-offline-cmd --direct --add-rule ipv4 nat POSTROUTING 0 -o eth0 -j MASQUERADE
        firewall-offline-cmd --direct --add-passthrough ipv4 -A INPUT -s 203.0.113.9 -j DROP
    """,
    "policies": """
        firewall-offline-cmd --zone=internal --add-interface=eth1
        firewall-offline-cmd --zone=internal --add-interface=eth2
        firewall-offline-cmd --zone=external --add-interface=eth0
        firewall-offline-cmd --zone=dmz --add-source=10.0.9.0/24
        firewall-offline-cmd --new-policy=out
        firewall-offline-cmd --policy=out --add-ingress-zone=internal
        firewall-offline-cmd --policy=out --add-egress-zone=external
        firewall-offline-cmd --policy=out --set-target=ACCEPT
        firewall-offline-cmd --new-policy=shop
        firewall-offline-cmd --policy=shop --add-ingress-zone=external
        firewall-offline-cmd --policy=shop --add-egress-zone=dmz
        firewall-offline-cmd --policy=shop --add-service=https
        firewall-offline-cmd --policy=shop --set-priority=5
        firewall-offline-cmd --policy=shop --add-rich-rule='rule family=ipv4 source address=198.51.100.0/24 drop'
        firewall-offline-cmd --new-policy=quiet
        firewall-offline-cmd --policy=quiet --add-ingress-zone=HOST
        firewall-offline-cmd --policy=quiet --add-egress-zone=ANY
        firewall-offline-cmd --policy=quiet --set-priority=-10
        firewall-offline-cmd --policy=quiet --add-rich-rule='rule port port=25 protocol=tcp reject'
        firewall-offline-cmd --new-policy=unused
        firewall-offline-cmd --policy=unused --add-ingress-zone=home
        firewall-offline-cmd --policy=unused --add-egress-zone=external
        firewall-offline-cmd --policy=unused --set-target=DROP
    """,
}


@pytest.mark.parametrize("name", FIREWALLD)
def test_firewalld(name: str, tmp_path: Path) -> None:
    needs("firewalld")
    with Sandbox(tmp_path) as box:
        box.copy("etc/firewalld")
        box.run(f"{FIREWALLD[name]}\n{START_FIREWALLD}")
        written, running = compare(box.bundle("etc/firewalld"), box.bundle("out"))
        assert any(rulebase.name == "inet firewalld" for rulebase in written.rulebases)
        if name in ("fresh", "zones"):
            # With nothing but zones, their listing tells as much.
            assert not differences(host.read(box.bundle("listing.txt"), "listing"), running)


def test_services_of_ours_are_those_that_firewalld_ships() -> None:
    needs("firewalld")
    checked = 0
    for path in sorted(Path("/usr/lib/firewalld/services").glob("*.xml")):
        if path.stem in shipped_services():
            file = decode(str(path), path.read_bytes())
            ledger = LedgerBuilder((file,))
            shipped = read_service(parse(file, ledger), ledger)
            mine = shipped_services()[path.stem]
            for field in ("ports", "protocols", "source_ports", "destination", "includes"):
                assert set(getattr(mine, field)) == set(getattr(shipped, field)), f"{path.stem}: {field}"
            checked += 1
    assert checked >= 200


LINKS = (
    "for i in 0 1 2 3; do ip link add eth$i type veth peer name p$i; ip link set eth$i up; done\n"
    "ip addr add 192.0.2.1/24 dev eth0; ip addr add 10.0.0.1/24 dev eth1; ip addr add 10.0.5.1/24 dev eth2\n"
)
SHOREWALL: dict[str, dict[str, str]] = {
    "three": {
        "zones": "fw firewall\nnet ipv4\nloc ipv4\nlan:loc ipv4\ndmz ipv4\n",
        "interfaces": "?FORMAT 2\nnet eth0 tcpflags,nosmurfs,routefilter,logmartians,sourceroute=0,dhcp\n"
        "- eth1 tcpflags,nosmurfs,routefilter\ndmz eth2 routeback\n",
        "hosts": "loc eth1:10.0.0.0/16,10.1.0.0/16\nlan eth1:10.0.0.0/24\n",
        "policy": "$FW net ACCEPT\nloc net ACCEPT info\nloc $FW REJECT\ndmz all DROP info 10/sec:40\nnet all DROP info\nall all REJECT info\n",
        "rules": """
            ?SECTION RELATED
            ACCEPT loc net tcp 21
            ?SECTION NEW
            Invalid(DROP) net all tcp
            SSH(ACCEPT) loc $FW
            HTTPS/ACCEPT:info net dmz:10.0.5.10
            DNAT net dmz:10.0.5.11:8080 tcp 80
            DNAT net dmz:10.0.5.12 tcp 25 - 192.0.2.1
            REDIRECT loc 3128 tcp 80 - !10.0.9.9
            Ping(ACCEPT) all $FW
            ACCEPT net:192.0.2.9,192.0.2.10 $FW tcp 22,2222 1024:65535
            DROP:info net:!192.0.2.9 dmz tcp 22
            ACCEPT lan dmz:10.0.5.0/24!10.0.5.7 udp 53
            ACCEPT loc:10.0.0.4-10.0.0.9 dmz tcp 3306
            LOG:info net $FW tcp 23
            ACCEPT net $FW tcp 443 - - 3/min:5
            ACCEPT all+ dmz icmp 8
            REJECT loc net tcp 25
            ACCEPT any $FW udp 161
            SMB(DROP) all all
            IPsec(ACCEPT) net $FW
            Trcrt(REJECT):info net $FW
        """,
        "snat": "MASQUERADE 10.0.0.0/8 eth0\nSNAT(192.0.2.1) 10.0.5.0/24 eth0 tcp 25\n",
    },
    "states": {
        "shorewall.conf": "INVALID_DISPOSITION=DROP\nUNTRACKED_DISPOSITION=ACCEPT\nRELATED_DISPOSITION=CONTINUE\nROUTE_FILTER=No\n"
        'DROP_DEFAULT="Broadcast(DROP),dropNotSyn,dropInvalid:info"\n',
        "params": 'NET_IF=eth0\nHOSTS="192.0.2.9,192.0.2.10"\n',
        "zones": "fw firewall\nnet ipv4\nloc ipv4\nlan:loc ipv4\n",
        "interfaces": "net $NET_IF detect\nloc eth1 detect\n- eth2 detect\nloc eth3 - routeback\n",
        "hosts": "loc eth2:10.0.0.0/8!10.0.99.0/24\nlan eth2:10.0.5.0/24,10.0.6.0/24\n",
        "policy": "lan all CONTINUE\n$FW all ACCEPT\nall+ all+ DROP\n",
        "blrules": "WHITELIST net:192.0.2.77 all\nDROP net:198.51.100.0/24 all\nREJECT:info all net:198.51.100.9 tcp 80\n",
        "more": "ACCEPT net loc tcp 55\n",
        "macro.Lift": "?if __IPV6\nPARAM - - tcp 1\n?else\nPARAM - - tcp 7001:7003\n?endif\nPARAM DEST SOURCE udp 7001\nDNS\n",
        "actions": "Gate\n",
        "action.Gate": "DEFAULTS DROP\nACCEPT 192.0.2.0/28 - tcp 60\n@1 - - tcp 60:70\n",
        "rules": """
            ?SECTION ALL
            DROP net all tcp 1
            ?SECTION ESTABLISHED
            DROP net loc tcp 2
            ?SECTION RELATED
            DROP net loc tcp 3
            ?SECTION INVALID
            ACCEPT net loc tcp 4
            ?SECTION UNTRACKED
            DROP net loc tcp 5
            ?SECTION NEW
            DNAT all loc:10.0.0.9 tcp 80
            ACCEPT+ loc:10.0.0.7 net tcp 81
            NONAT loc net tcp 82
            DNAT:info net:$HOSTS loc:10.0.0.9:22 tcp 2022
            DNAT- net 10.0.0.8 tcp 90
            REDIRECT- net 91 tcp 90
            ?COMMENT hello world
            ACCEPT all- $FW tcp 7
            ACCEPT net,loc $FW tcp,udp 8
            ACCEPT net loc:10.0.0.4,10.0.0.5 icmp 8,0
            ACCEPT:info:tagx net loc:!10.0.0.4,10.0.0.5 tcp !9,10
            CONTINUE net loc tcp 99
            REJECT(icmp-host-unreachable) net loc tcp 98
            ?COMMENT
            ACCEPT net:eth0:192.0.2.4 loc:eth3 tcp:syn 11
            ACCEPT net:~00-11-22-33-44-55 loc tcp 12
            ACCEPT net loc tcp 14 - - s:foo:3/min:5
            ACCEPT $FW net tcp 15 - - - root
            ACCEPT net loc tcp 16 - - - - 0x1 d:3 timestart=09:00&timestop=17:00
            NotSyn(DROP) net loc tcp
            AllowICMPs(ACCEPT) all all
            DropSmurfs net loc
            TCPFlags net loc
            rejNotSyn net loc tcp
            allowBcast net $FW
            RST(DROP) net loc
            Lift(ACCEPT) loc net
            Gate(REJECT) net $FW
            Gate lan net
            INCLUDE more
            ACCEPT { source=net, dest=loc, proto=tcp, dport=56 }
            ACCEPT net loc ; proto=tcp, dport=57
            ACCEPT net \\
                   loc tcp 58,\\
                   59
        """,
    },
    "open": {
        "shorewall.conf": "FASTACCEPT=Yes\nROUTE_FILTER=on\nMULTICAST=Yes\nDISABLE_IPV6=Yes\nOPTIMIZE=0\n",
        "zones": "fw firewall\nnet ipv4\nloc ipv4\n",
        "interfaces": "?FORMAT 2\nnet eth0 dhcp,rpfilter\nloc eth1 dhcp,sfilter=(10.9.0.0/16)\nloc eth2 tcpflags=0,destonly\nloc eth3 nets=(10.7.0.0/24,10.8.0.0/24)\n",
        "policy": "loc loc REJECT\nnet net NONE\nnet,loc $FW DROP:AllowICMPs(ACCEPT) info\nall all ACCEPT\n",
        "rules": "DROP net $FW tcp 22\nDROP loc loc tcp 23\nACCEPT net,loc+ net,loc+ udp 24\nWeb(ACCEPT) { source=all!loc dest=loc }\n",
    },
    "shipped": {
        "zones": "fw firewall\nnet ipv4\nloc ipv4\n",
        "interfaces": "?FORMAT 2\nnet eth0 -\nloc any physical=+\n",
        "shorewall.conf": "BLACKLIST=ALL\n",
        "blrules": "DROP net:198.51.100.0/24 all\n",
        "policy": "loc net ACCEPT\nnet all DROP info\nall all REJECT info\n",
        "rules": "DNSAmp(DROP) net $FW\nallowinUPnP loc $FW\nGlusterFS(2,1) loc $FW\nGlusterFS(3) net $FW\n"
        + "".join(f"{name}(ACCEPT) net $FW\n" for name in MACROS),
    },
    "one": {
        "zones": "fw firewall\nnet ipv4\n",
        "interfaces": "?FORMAT 2\nnet eth0 -\n",
        "policy": "$FW net ACCEPT\nnet all DROP info\nall all REJECT\n",
        "rules": "SSH(ACCEPT) net $FW\n",
    },
    "six": {
        "zones": "fw firewall\nnet ipv6\nloc ipv6\n",
        "interfaces": "?FORMAT 2\nnet eth0 dhcp,nosmurfs,tcpflags\nloc eth1 nets=2001:db8:1::/48\n",
        "policy": "$FW net ACCEPT\nloc net ACCEPT info\nnet all DROP info\nall all REJECT info\n",
        "rules": """
            Ping(ACCEPT) all all
            SSH(ACCEPT) net:[2001:db8:9::1],[2001:db8:9::/64] $FW
            Web(ACCEPT) net:2001:db8:a::/48!2001:db8:a:1::/64 loc:2001:db8:1::80
            DNAT net loc:[2001:db8:1::9]:8443 tcp 443
            AllowICMPs(ACCEPT) net $FW
            ACCEPT loc $FW udp 53
        """,
    },
}


@pytest.mark.parametrize("name", SHOREWALL)
def test_shorewall(name: str, tmp_path: Path) -> None:
    program = "shorewall6" if name == "six" else "shorewall"
    needs(program)
    with Sandbox(tmp_path) as box:
        folder = box.copy(f"etc/{program}")
        box.copy("usr/share/shorewall")
        for file, text in SHOREWALL[name].items():
            lines = "".join(f"{line.strip()}\n" for line in text.splitlines())
            if file == "shorewall.conf":
                lines = (folder / file).read_text() + lines
            (folder / file).write_text(lines)
        box.run(LINKS + START_SHOREWALL.format(program=program))
        families = (6,) if name == "six" else (4, 6) if name == "open" else (4,)
        compare(box.bundle(f"etc/{program}"), box.bundle("out"), families)
        if name == "three":
            # The definitions that Shorewall ships say what ours say of the macros used here.
            compare(box.bundle(f"etc/{program}", "usr/share/shorewall"), box.bundle("out"), families)


SCRIPTS = {
    "plain": """
        #!/bin/sh
        # rules of a small gateway
        IPT=$(which iptables)
        IP6="/usr/sbin/ip6tables"
        OUT=eth0; IN="eth1"
        OFFICE='10.0.0.0/24'   # the office
        DESKS="$OFFICE,10.0.1.0/24"
        PORTS="80 443"
        echo 1 > /proc/sys/net/ipv4/ip_forward
        $IPT -F
        $IPT -t nat -F && $IPT -X
        $IPT -P INPUT DROP; $IPT -P FORWARD DROP
        ${IPT} --policy OUTPUT ACCEPT
        $IPT -A INPUT -m state --state ESTABLISHED,RELATED -j ACCEPT
        $IPT -A INPUT -i lo -j ACCEPT
        for port in $PORTS 8080; do
          for from in 192.0.2.0/24 198.51.100.7; do
            $IPT -A INPUT -i $OUT -p tcp -s $from --dport $port -j ACCEPT
          done
        done
        $IPT -N desks 2>/dev/null || true
        $IPT -A FORWARD -i "$IN" -s $DESKS -j desks
        $IPT -A desks -p tcp --dport 25 -j REJECT --reject-with tcp-reset
        $IPT -A desks -o $OUT -m comment --comment "the office; out" -j ACCEPT
        $IPT -I INPUT 2 -s 203.0.113.9 -j DROP
        $IPT -A INPUT -p tcp --dport 23 -j ACCEPT
        $IPT -D INPUT -p tcp --dport 23 -j ACCEPT
        $IPT -t nat -A POSTROUTING -o $OUT -j MASQUERADE
        $IPT -t nat -A PREROUTING -i $OUT -p tcp --dport 2222 \\
             -j DNAT --to-destination 10.0.0.5:22
        $IPT -A FORWARD -d 10.0.0.5 -p tcp --dport 22 -j ACCEPT
        $IPT -R INPUT 2 -s 203.0.113.10 -j DROP
        $IP6 -P INPUT DROP
        $IP6 -A INPUT -p ipv6-icmp -j ACCEPT
        exit 0
        iptables -P INPUT ACCEPT
    """,
}


@pytest.mark.parametrize("name", SCRIPTS)
def test_scripts_and_listings(name: str, tmp_path: Path) -> None:
    with Sandbox(tmp_path) as box:
        lines = "".join(f"{line.removeprefix('        ')}\n" for line in SCRIPTS[name].strip("\n").splitlines())
        (tmp_path / "firewall.sh").write_text(lines)
        box.run(
            f"{LINKS}sh {tmp_path}/firewall.sh\niptables-save > $OUT/a.v4\nip6tables-save > $OUT/a.v6\n"
            "mkdir $OUT/../listed; iptables -vS > $OUT/../listed/a; iptables -t nat -S >> $OUT/../listed/a; ip6tables -S > $OUT/../listed/b.v6"
        )
        compare(box.bundle("firewall.sh"), box.bundle("out"))
        listed = host.read(box.bundle("listed"), "listed")
        assert not listed.ledger.unread
        assert not differences(listed, host.read(box.bundle("out"), "dump"))


NFT_SCRIPTS = {
    "commands.sh": r"""
        #!/bin/sh
        NFT=$(command -v nft)
        WAN=eth0
        nft flush ruleset
        nft add table inet gate
        nft add chain inet gate old
        nft 'add chain inet gate in { type filter hook input priority 0; policy drop; }'
        nft add chain inet gate passing \{ type filter hook forward priority filter \; policy drop \; \}
        nft add set inet gate desks \{ type ipv4_addr \; flags interval \; elements = \{ 10.0.0.0/24 \} \}
        nft "add element inet gate desks { 10.0.1.0/25, 10.0.9.9 }"
        nft add rule inet gate in iifname lo accept
        nft add rule inet gate in ct state established,related accept
        for port in 80 443; do
          nft add rule inet gate in iifname $WAN tcp dport $port accept
          nft add rule inet gate passing ip saddr @desks oifname "$WAN" tcp dport $port counter accept
        done
        nft add rule inet gate in tcp dport 23 accept
        $NFT insert rule inet gate in ip saddr 203.0.113.9 drop
        nft flush chain inet gate old && nft delete chain inet gate old
        nft -f - <<'END'
        add rule inet gate in ip saddr 192.0.2.7 tcp dport 22 accept
        table inet gate {
          chain out {
            type filter hook output priority 0; policy accept;
            tcp dport 25 drop
          }
        }
        END
        nft list ruleset >/dev/null
        exit 0
    """,
    "commands.nft": """
        add table ip t
        add chain ip t gone { type filter hook input priority 5; policy drop; }
        delete table ip t
        flush ruleset
        table filter {
          chain input {
            type filter hook input priority 0; policy accept;
            udp dport { 53, 123 } accept
          }
        }
        add rule ip filter input tcp dport 1-1023 drop
    """,
}


@pytest.mark.parametrize("name", NFT_SCRIPTS)
def test_scripts_of_nft(name: str, tmp_path: Path) -> None:
    needs("nft")
    with Sandbox(tmp_path) as box:
        lines = "".join(f"{line.removeprefix('        ')}\n" for line in NFT_SCRIPTS[name].strip("\n").splitlines())
        (tmp_path / name).write_text(lines)
        how = "sh" if name.endswith(".sh") else "nft -f"
        box.run(f"{LINKS}{how} {tmp_path}/{name}\nnft list ruleset > $OUT/ruleset.nft")
        written = host.read(box.bundle(name), "files")
        running = host.read(box.bundle("out"), "dump")
        for device in (written, running):
            assert not device.ledger.unread, device.ledger.unread
            assert not device.ledger.problems, device.ledger.problems
        assert not differences(written, running)
        assert sum(1 for base in written.rulebases for _ in base.rules()) == sum(
            1 for base in running.rulebases for _ in base.rules()
        )


SAMPLES = {
    "season-pass-web": ("ufw", ("etc/ufw", "etc/default/ufw"), START_UFW),
    "ticket-hall": ("firewalld", ("etc/firewalld",), START_FIREWALLD),
    "rescue-relay": ("shorewall", ("etc/shorewall",), LINKS + START_SHOREWALL.format(program="shorewall")),
}


@pytest.mark.parametrize("name", SAMPLES)
def test_the_sample_hosts_are_what_their_programs_would_run(name: str, tmp_path: Path) -> None:
    program, places, start = SAMPLES[name]
    needs(program)
    with Sandbox(tmp_path) as box:
        for place in places:
            box.copy(place)
        for path, data in files().items():
            place = path.removeprefix(f"exports/{name}/")
            if place.startswith(places):
                target = tmp_path / place
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(data)
        if program == "shorewall":
            # What the sample leaves to defaults is what is shipped.
            conf = (
                Path("/etc/shorewall/shorewall.conf").read_text()
                + (tmp_path / "etc/shorewall/shorewall.conf").read_text()
            )
            (tmp_path / "etc/shorewall/shorewall.conf").write_text(conf)
        box.run(start)
        compare(box.bundle(*places), box.bundle("out"), (4, 6))


IGNORED = (
    '<rule><source address="10.0.0.1"/><accept/></rule>',
    '<rule><destination address="10.0.0.1"/><accept/></rule>',
    '<rule priority="5"><source address="10.0.0.1"/><drop/></rule>',
    '<rule priority="99999"><accept/></rule>',
    "<rule><accept/></rule>",
    '<rule family="ipv5"><accept/></rule>',
    '<rule family="ipv4"><service name="ssh"/></rule>',
    '<rule family="ipv4"><port port="22" protocol="tcp"/><service name="ssh"/><accept/></rule>',
    '<rule family="ipv4"><source address="10.0.0.1" mac="00:11:22:33:44:55"/><accept/></rule>',
    '<rule family="ipv4"><source address="10.0.0.1"/><masquerade/><accept/></rule>',
    '<rule><forward-port port="80" protocol="tcp" to-port="8080" to-addr="10.0.0.1"/></rule>',
    '<rule family="ipv4"><source address="10.0.0.1"/><accept><limit value="3/x"/></accept></rule>',
    '<rule><service name="http"/><reject type="tcp-reset"/></rule>',
    '<rule family="ipv4"><service name="http"/><reject type="host-prohibited"/></rule>',
    '<rule family="ipv6"><service name="http"/><reject type="icmp-port-unreachable"/></rule>',
    '<rule family="ipv4"><source address="10.0.0.1"/><nflog group="x"/><accept/></rule>',
    '<rule family="ipv4"><source address="10.0.0.1"/><log level="warn"/><accept/></rule>',
)
"""Rules of a zone that firewalld leaves out, and loads the rest."""


def test_what_firewalld_ignores_is_ignored(tmp_path: Path) -> None:
    needs("firewalld")
    with Sandbox(tmp_path) as box:
        zones = box.copy("etc/firewalld") / "zones"
        zones.mkdir(exist_ok=True)
        rules = "\n".join(IGNORED)
        (zones / "public.xml").write_text(f'<zone><service name="http"/>\n{rules}\n</zone>\n')
        box.run(LINKS + START_FIREWALLD)
        written, running = host.read(box.bundle("etc/firewalld"), "files"), host.read(box.bundle("out"), "dump")
        assert not differences(written, running)
        assert [entry.where.first for entry in written.ledger.problems] == list(range(2, len(IGNORED) + 2))


def test_what_firewalld_refuses_is_refused(tmp_path: Path) -> None:
    needs("firewalld")
    with Sandbox(tmp_path) as box:
        zones = box.copy("etc/firewalld") / "zones"
        zones.mkdir(exist_ok=True)
        for entry in ('<interface name="eth0"/>', '<source address="10.0.0.0/24"/>'):
            for name, service in (("home", "ssh"), ("work", "http")):
                (zones / f"{name}.xml").write_text(f'<zone><service name="{service}"/>{entry}</zone>\n')
            with pytest.raises(UnreadableError, match="firewalld refuses such a configuration"):
                host.read(box.bundle("etc/firewalld"), "files")
        # The program itself is asked of the second alone: it takes half a minute to give up.
        box.run(LINKS + START_FIREWALLD)
        running = host.read(box.bundle("out"), "dump")
        names = {chain.name for base in running.rulebases for chain in base.chains}
        assert "filter_IN_public" in names
        assert not names & {"filter_IN_home", "filter_IN_work"}


@pytest.mark.parametrize(
    ("program", "setting", "why"),
    [
        ("shorewall6", "", "no address of IPv6; Shorewall refuses"),
        ("shorewall", "ACCEPT net: fw tcp 23", "SOURCE 'net:' ends with a colon"),
        ("shorewall", "DNAT fw net: tcp 23", "DEST 'net:' ends with a colon"),
        *(
            ("shorewall", f"{name}_DISPOSITION={value}", f"is no value of {name}_DISPOSITION")
            for name, value in (
                ("INVALID", "A_REJECT"), ("INVALID", "reject"), ("RELATED", "QUEUE"), ("SMURF", "REJECT"), ("RPFILTER", "REJECT"),
            )
        ),
    ],
)  # fmt: skip
def test_what_shorewall_refuses_is_refused(program: str, setting: str, why: str, tmp_path: Path) -> None:
    needs(program)
    family = "6" if program.endswith("6") else "4"
    files = {"zones": f"fw firewall\nnet ipv{family}\n", "interfaces": "?FORMAT 2\nnet eth0 rpfilter\n" if family == "4" else "net eth0\n",
             "policy": "all all DROP\n", "rules": "ACCEPT net:192.0.2.1 fw tcp 22\n"}  # fmt: skip
    with Sandbox(tmp_path) as box:
        folder = box.copy(f"etc/{program}")
        box.copy("usr/share/shorewall")
        for name, text in files.items():
            (folder / name).write_text(text)
        if setting:
            host.read(box.bundle(f"etc/{program}"), "files")  # without it all is well
            with (folder / (f"{program}.conf" if "=" in setting else "rules")).open("a") as conf:
                conf.write(f"\n{setting}\n")
        with pytest.raises(AssertionError, match="ERROR"):
            box.run(LINKS + START_SHOREWALL.format(program=program))
        with pytest.raises(UnreadableError, match=why):
            host.read(box.bundle(f"etc/{program}"), "files")
