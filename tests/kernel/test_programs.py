"""Firewall programs read from their own files let through exactly what the kernel lets through once they have run."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tests.kernel.conftest import REQUIRED
from tests.kernel.sandbox import Sandbox, compare


def needs(program: str) -> None:
    if shutil.which(program) is None:
        assert not REQUIRED, f"{program} is missing"
        pytest.skip(f"needs the program {program}")


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
        box.run(f"{UFW[name]}\nufw --force enable\niptables-save -c > $OUT/a.v4\nip6tables-save > $OUT/a.v6")
        written, _ = compare(box.bundle("etc/ufw", "etc/default/ufw"), box.bundle("out"))
        if name == "host":
            said = {rule.comment for rulebase in written.rulebases for _, rule in rulebase.rules()}
            assert "the operators" in said


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
        box.run(
            f"{FIREWALLD[name]}\ndbus-daemon --system --fork --print-pid > /run/bus\nfirewalld --nofork --nopid > $OUT/../log 2>&1 &\n"
            "for i in $(seq 100); do firewall-cmd --state > /dev/null 2>&1 && break; sleep 0.2; done\n"
            "nft -j list ruleset > $OUT/rules.json\nfirewall-cmd --list-all-zones > $OUT/../listing.txt\n"
            "kill %1 2> /dev/null || kill $!; kill $(cat /run/bus)"
        )
        written, _ = compare(box.bundle("etc/firewalld"), box.bundle("out"))
        assert any(rulebase.name == "inet firewalld" for rulebase in written.rulebases)
