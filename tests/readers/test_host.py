"""The files of a Linux host beside its rules: who may log in and how, what the kernel is told, where logs go."""

from __future__ import annotations

import json
from math import inf

import pytest

from aiguille.model import Known, Side, UnreadableError
from tests.helpers import DUMP, linux

SSHD = [
    # files, ports reached, idle minutes, facts
    ({"": "Port 22\n"}, [22], inf, {"PermitRootLogin": "prohibit-password", "PasswordAuthentication": "yes"}),
    ({"": "# nothing set\n"}, [22], inf, {"MaxAuthTries": "6"}),
    ({"": "Port 22\nPort 2222\n"}, [22, 2222], inf, {}),
    ({"": "ListenAddress 192.0.2.1:2200\nListenAddress [2001:db8::1]:2201\n"}, [2200, 2201], inf, {}),
    ({"": "ListenAddress 127.0.0.1\nListenAddress ::1\n"}, [], inf, {}),
    ({"": "ListenAddress 127.0.0.1\nListenAddress 2001:db8::1\n"}, [22], inf, {}),
    ({"": "ClientAliveInterval 5m\nClientAliveCountMax 2\n"}, [22], 10.0, {}),
    ({"": "ClientAliveInterval=300\n"}, [22], 15.0, {}),
    ({"": "ClientAliveInterval 300\nClientAliveCountMax 0\n"}, [22], inf, {}),
    ({"": "PermitRootLogin no\nPermitRootLogin yes\n"}, [22], inf, {"PermitRootLogin": "no"}),  # the first counts
    (
        {"": "Include sshd_config.d/*.conf\nPermitRootLogin yes\n", ".d/10.conf": "PermitRootLogin no\n"},
        [22], inf, {"PermitRootLogin": "no"},
    ),
    (
        {"": "PermitRootLogin yes\nInclude /etc/ssh/sshd_config.d/*.conf\n", ".d/10.conf": "PermitRootLogin no\n"},
        [22], inf, {"PermitRootLogin": "yes"},
    ),
    (
        {"": "Match Address 10.0.0.0/8\n  PasswordAuthentication yes\nMatch all\nPasswordAuthentication no\n"},
        [22], inf, {"PasswordAuthentication": "no", "PasswordAuthentication (Match Address 10.0.0.0/8)": "yes"},
    ),
    ({"": "Port 22\nListenAddress 0.0.0.0:2222\n"}, [2222], inf, {}),  # that address does not answer on 22
    ({"": "Port 2022\nListenAddress 127.0.0.1:22\nListenAddress 192.0.2.1\n"}, [2022], inf, {}),
    ({"": "Port 2022\nPort 2023\nListenAddress [::]:22\nListenAddress 192.0.2.1\n"}, [22, 2022, 2023], inf, {}),
    ({"": "ChallengeResponseAuthentication no\n"}, [22], inf, {"KbdInteractiveAuthentication": "no"}),  # its former name
    (  # a Match in an included file ends with that file
        {"": "Include sshd_config.d/a.conf\nMaxAuthTries 3\n", ".d/a.conf": "Match User x\nMaxAuthTries 9\n"},
        [22], inf, {"MaxAuthTries": "3", "MaxAuthTries (Match User x)": "9"},
    ),
]  # fmt: skip


@pytest.mark.parametrize(("files", "ports", "idle", "facts"), SSHD)
def test_sshd(files: dict[str, str], ports: list[int], idle: float, facts: dict[str, str]) -> None:
    device = linux({f"etc/ssh/sshd_config{name}": text for name, text in files.items()})
    found = [p.first for s in device.administration.services if s.enabled for t in s.terms for p in t.destination_ports]
    assert found == ports
    assert device.administration.idle_minutes.value == idle
    told = {fact.name.removeprefix("sshd "): fact.setting.value for fact in device.system}
    assert facts.items() <= told.items()
    assert not device.ledger.unread


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("Include ../../../../etc/shadow\n", "leads out of its folder"),
        ("Include /etc/ssh/gone.conf\n", "is not in the bundle"),
        ("Include sshd_config\n", "too deeply"),
        ("Port 99999\n", "not a port"),
    ],
)
def test_sshd_that_asks_for_more_than_there_is(text: str, problem: str) -> None:
    ledger = linux({"etc/ssh/sshd_config": text}).ledger
    assert any(problem in entry.why for entry in (*ledger.problems, *ledger.unread))


JAILS = [
    ({"jail.local": "[sshd]\nenabled = true\nmaxretry = 3\nbantime = 1h\n"}, 3, 3600, Known.STATED),
    ({"jail.local": "[DEFAULT]\nbantime = 15m\nmaxretry = 4\n[sshd]\nenabled = true\n"}, 4, 900, Known.STATED),
    ({"jail.conf": "[sshd]\nenabled = true\n"}, 5, 600, Known.DEFAULT),
    ({"jail.conf": "[sshd]\nmaxretry = 2\n"}, inf, 0, Known.DEFAULT),  # a jail is off until somebody switches it on
    ({"jail.conf": "[sshd]\nenabled = true\n", "jail.local": "[sshd]\nenabled = false\n"}, inf, 0, Known.DEFAULT),
    (
        {"jail.d/a.conf": "[sshd]\nenabled=true\nmaxretry=9\n", "jail.d/z.local": "[sshd]\nmaxretry=2\nbantime=-1\n"},
        2, inf, Known.STATED,
    ),
    ({"jail.local": "[DEFAULT]\nignoreip = ::1\n  0.0.0.0/0\n[sshd]\nenabled = true\n"}, inf, 0, Known.STATED),  # spares all
    ({"jail.local": "[sshd]\nenabled = true\nignoreip = 10.0.0.0/8, admin.example\nmaxretry = 3\n"}, 3, 600, Known.STATED),
    ({"jail.local": "[sshd]\nenabled = true\nmaxretry = 3  # few\nbantime = 1d 12h\n"}, 3, 129600, Known.STATED),
]  # fmt: skip


@pytest.mark.parametrize(("files", "attempts", "seconds", "standing"), JAILS)
def test_fail2ban(files: dict[str, str], attempts: float, seconds: float, standing: Known) -> None:
    admin = linux({f"etc/fail2ban/{name}": text for name, text in files.items()}).administration
    assert (admin.lockout_attempts.value, admin.lockout_seconds.value) == (attempts, seconds)
    assert admin.lockout_attempts.standing is standing


LOGS = [
    ({}, None, None),
    ({"systemd/journald.conf": "[Journal]\nMaxRetentionSec=2week\n"}, 14.0, None),
    ({"systemd/journald.conf": "[Journal]\n#MaxRetentionSec=2week\n"}, None, None),  # its size is the limit, no age
    (
        {"systemd/journald.conf": "[Journal]\n", "systemd/journald.conf.d/x.conf": "[Journal]\nMaxRetentionSec=30day\n"},
        30.0, None,
    ),
    (
        {"logrotate.conf": "weekly\nrotate 4\ninclude /etc/logrotate.d\n",
         "logrotate.d/s": "/var/log/syslog\n{\n  daily\n  rotate 9\n}\n"},
        9.0, None,
    ),
    ({"logrotate.conf": "weekly\nrotate 4\n", "logrotate.d/s": "/var/log/syslog {\n compress\n rotate 5\n}\n"}, 35.0, None),
    ({"logrotate.d/web": "/var/log/nginx/*.log {\n daily\n rotate 2\n}\n"}, None, None),
    ({"rsyslog.conf": "*.* /var/log/all\n"}, None, ()),
    ({"rsyslog.conf": "*.* /var/log/all\n", "logrotate.d/a": "/var/log/a* {\nrotate 9\ndaily\n}\n"}, 9.0, ()),
    ({"rsyslog.conf": "*.* /var/log/all\n", "logrotate.d/a": "/var/log/all {\nrotate 9\ndaily\nmaxage 5\n}\n"}, 5.0, ()),
    ({"rsyslog.conf": "*.* /var/log/all\n", "logrotate.d/a": "/var/log/all {\nrotate 9\nsize 10M\n}\n"}, None, ()),
    ({"rsyslog.conf": "*.* /var/log/all\n", "logrotate.d/a": "/var/log/syslog {\nrotate 9\ndaily\n}\n"}, None, ()),
    (  # the file of the firewall's own records is turned sooner than that of the system
        {"rsyslog.conf": ':msg, contains, "IN=" /var/log/fw\n& stop\n*.* /var/log/syslog\n',
         "logrotate.d/a": "/var/log/syslog {\nrotate 9\nweekly\n}\n/var/log/fw\n{\nrotate 3\ndaily\n}\n"}, 3.0, (),
    ),
    (  # the journal is a store of its own: the longer one counts
        {"rsyslog.conf": "*.* /var/log/all\n", "logrotate.d/a": "/var/log/all {\nrotate 9\ndaily\n}\n",
         "systemd/journald.conf": "[Journal]\nMaxRetentionSec=30day\n"}, 30.0, (),
    ),
    ({"rsyslog.conf": "auth.* @192.0.2.9\n"}, None, ()),  # what the rules record stays here
    ({"rsyslog.conf": ':msg, contains, "DPT=22 " stop\n*.* @192.0.2.9\n'}, None, None),  # some packets' records only
    ({"rsyslog.conf": ':msg, contains, "DPT=" stop\n*.* @192.0.2.9\n'}, None, ()),
    ({"rsyslog.conf": ':msg, regex, "x" stop\n*.* @192.0.2.9\n'}, None, None),
    ({"rsyslog.conf": '*.* action(\n  type="omfwd"\n  target="192.0.2.9" # the collector\n)\n'}, None, ("192.0.2.9",)),
    ({"rsyslog.conf": "$IncludeConfig /etc/rsyslog.d/*.conf\n", "rsyslog.d/a.conf": "*.* @@(o)log.example:6514\n"}, None,
     ("log.example",)),
    ({"rsyslog.conf": "*.* @@192.0.2.9:6514\n"}, None, ("192.0.2.9",)),
    ({"rsyslog.conf": "", "rsyslog.d/a.conf": "*.info @[2001:db8::9]:514\n"}, None, ("2001:db8::9",)),
    ({"rsyslog.d/a.conf": '*.* action(type="omfwd" target="log.example" port="6514" protocol="tcp")\n'}, None, ("log.example",)),
]  # fmt: skip


@pytest.mark.parametrize(("files", "days", "collectors"), LOGS)
def test_logs(files: dict[str, str], days: float | None, collectors: tuple[str, ...] | None) -> None:
    logging = linux({f"etc/{name}": text for name, text in files.items() if text}).logging
    assert (logging.device_days.value if logging.device_days.known else None) == days
    assert (logging.collectors.value if logging.collectors.known else None) == collectors


@pytest.mark.parametrize(
    "text",
    [
        'if $msg contains "x" then {\n' * 3000,
        'if $msg contains "x" then ' * 3000 + "/var/log/a\n",
        "if " + "(" * 3000 + "$msg" + ")" * 3000 + " then /var/log/a\n",
        "$IncludeConfig /etc/rsyslog.d/*\n" * 60,
        "".join(f'ruleset(name="r{i}") {{\n' + f"call r{i + 1}\n" * 12 + "}\n" for i in range(20)) + "call r0\n",
        "action(" * 9000,
    ],
)
def test_an_rsyslog_that_leads_nowhere_ends(text: str) -> None:
    logging = linux({"etc/rsyslog.conf": text, "etc/rsyslog.d/a.conf": text, "etc/rsyslog.d/b.conf": text}).logging
    assert not logging.device_days.known


CLOCKS = [
    # date, uptime (with the name of its file), since when anything can have been counted
    ("Sun Nov 29 08:00:05 UTC 2026", {"uptime.txt": " 08:00:05 up 120 days,  3:02,  2 users,  load average: 0.00, 0.01, 0.05"},
     "2026-08-01T04:58:05"),
    ("2026-11-29T08:00:05+01:00", {"uptime.txt": "08:00:05 up 5 min, load average: 0.00"}, "2026-11-29T07:55:05"),
    ("Sun, 29 Nov 2026 08:00:05 +0000", {"up.txt": "up 5 weeks, 6 days, 3 hours, 2 minutes"}, "2026-10-19T04:58:05"),
    ("Sun Nov 29 08:00:05 AM UTC 2026", {"uptime.txt": "up 1 day"}, "2026-11-28T08:00:05"),
    ("dim. 29 nov. 2026 08:00:05 UTC", {"uptime.txt": "up 1 day"}, None),  # what cannot be read is not taken for a date
    ("Sun 29 Nov 2026 08:00:05 PM CET", {"uptime.txt": "up 1 day, 1:00"}, "2026-11-28T19:00:05"),
    ("2026-11-29 08:00:05", {"uptime-since.txt": "2026-10-01 06:00:00"}, "2026-10-01T06:00:00"),
    ("2026-11-29 08:00:05", {"backup.txt": "2026-10-01 06:00:00"}, None),
    ("2026-11-29 08:00:05", {"proc/uptime": "86400.55 12.00"}, "2026-11-28T08:00:05"),
    ("2026-11-29 08:00:05", {"uptime.txt": "up 99999999999999 days"}, None),
    ("2026-11-29 08:00:05", {}, None),
    ("", {"uptime.txt": "up 3 days"}, None),
]  # fmt: skip


@pytest.mark.parametrize(("date", "up", "since"), CLOCKS)
def test_counters_are_no_older_than_the_last_start(date: str, up: dict[str, str], since: str | None) -> None:
    device = linux({**({"date.txt": f"{date}\n"} if date else {}), **{name: f"{text}\n" for name, text in up.items()}})
    assert (device.counters_since.value if device.counters_since.known else None) == since
    assert device.counters_since.standing is (Known.UNKNOWN if since is None else Known.DEFAULT)


USUAL = (
    '[{"priority":0,"src":"all","table":"local"},{"priority":32766,"src":"all","table":"main"},'
    '{"priority":32767,"src":"all","table":"default"}]'
)
ROUTES = '[{"dst":"default","gateway":"192.0.2.1","dev":"eth0"},{"dst":"10.0.0.0/8","dev":"eth1"}]'


@pytest.mark.parametrize(
    ("rules", "routes", "ways"),
    [
        (USUAL, ROUTES, 2),
        (USUAL.replace("}]", '},{"priority":100,"src":"10.9.0.0","srclen":16,"table":"77"}]'), ROUTES, 0),
        (USUAL.replace("[{", '[{"priority":9,"src":"all","fwmark":"0x1","table":"77"},{'), ROUTES, 0),
        (USUAL, ROUTES.replace('"eth1"}', '"eth1","table":"77"}'), 1),
        (USUAL, ROUTES.replace("[{", '[{"type":"local","dst":"192.0.2.9","dev":"eth0"},{'), 2),
    ],
)
def test_ways_are_those_of_the_main_table_unless_rules_say_otherwise(rules: str, routes: str, ways: int) -> None:
    device = linux({"ip-rule.json": rules, "ip-route.json": routes})
    assert len(device.routes) == ways
    assert bool(device.ledger.problems) is (ways == 0)


def test_of_routes_to_one_network_that_with_the_least_metric_counts() -> None:
    routes = '[{"dst":"default","dev":"lte0","metric":700},{"dst":"default","dev":"eth0","metric":[]},{"dst":"10.0.0.0/8","dev":"e1"}]'
    device = linux({"ip-route.json": routes})
    assert [one.interface for one in device.routes] == ["eth0", "e1", "lte0"]
    assert [(zone.interfaces, zone.side) for zone in device.zones] == [(("eth0",), Side.OUTSIDE)]


def test_kernel_settings_come_in_the_order_in_which_they_take_effect() -> None:
    def rp_filter(**files: str) -> str:
        places = {name.replace("__", "/").replace("_dot_", "."): text for name, text in files.items()}
        facts = {fact.name: fact.setting.value for fact in linux(places).system}
        return facts["net.ipv4.conf.all.rp_filter"]

    said = "net.ipv4.conf.all.rp_filter = %s\n"
    assert rp_filter(etc__sysctl_dot_conf=said % 2, etc__sysctl_dot_d__99_dot_conf=said % 1) == "2"
    assert rp_filter(etc__sysctl_dot_d__10_dot_conf=said % 2, etc__sysctl_dot_d__20_dot_conf=said % 1) == "1"
    assert rp_filter(usr__lib__sysctl_dot_d__50_dot_conf=said % 2, etc__sysctl_dot_d__50_dot_conf=said % 1) == "1"
    assert rp_filter(etc__sysctl_dot_conf=said % 2, sysctl_dot_txt="kernel.x = 1\n" + said % 0) == "0"
    assert rp_filter(etc__ufw__sysctl_dot_conf="net/ipv4/conf/all/rp_filter=1\n") == "1"


def test_accounts_with_a_login_shell() -> None:
    passwd = (
        "root:x:0:0::/root:/bin/bash\nd:x:1:1::/:/usr/sbin/nologin\nsync:x:4:4::/bin:/bin/sync\nann:x:9:9::/h:\nodd\n"
    )
    device = linux({"etc/passwd": passwd, "etc/os-release": 'NAME=x\nPRETTY_NAME="Some Linux 9"\n'})
    assert [(one.name, one.role) for one in device.administration.accounts] == [("root", "root"), ("ann", "")]
    assert [entry.where.first for entry in device.ledger.unread] == [5]
    assert device.firmware.value == "Some Linux 9"


def interface(name: str, *networks: str, up: bool = True) -> dict[str, object]:
    parts = [network.split("/") for network in networks]
    info = [{"local": address, "prefixlen": int(length)} for address, length in parts]
    return {"ifname": name, "flags": ["BROADCAST", *(["UP"] if up else [])], "addr_info": info}


def test_what_the_host_says_of_its_network() -> None:
    addresses = json.dumps([interface("eth0", "192.0.2.9/28", "2001:db8::9/64"), interface("eth1", up=False)])
    links = json.dumps([{"ifname": "eth2", "flags": ["UP"]}], indent=1)
    routes = json.dumps([{"dst": "default", "dev": "eth0"}, {"dst": "192.0.2.0/28", "dev": "eth0"}])
    sockets = (
        "tcp   LISTEN 0 128    0.0.0.0:22      0.0.0.0:*\n"
        "tcp   LISTEN 0 128  127.0.0.1:23      0.0.0.0:*\n"
        "udp   UNCONN 0 0            *:161           *:*\n"
        "tcp   LISTEN 0 128       [::]:5432       [::]:*\n"
        "udp   UNCONN 0 0    [fe80::1]%eth0:69      [::]:*\n"
    )
    device = linux({"a.json": addresses, "l.json": links, "r.json": routes, "ss.txt": sockets})
    assert [(i.name, i.enabled, len(i.addresses)) for i in device.interfaces] == [
        ("eth0", True, 2), ("eth1", False, 0), ("eth2", True, 0),
    ]  # fmt: skip
    (outside,) = device.zones
    assert (outside.interfaces, outside.side) == (("eth0",), Side.OUTSIDE)
    assert "default route" in outside.guessed
    assert [s.name for s in device.administration.services] == ["ssh", "snmp", "database (postgresql)", "tftp"]
    assert not device.ledger.unread


def test_rules_come_from_what_runs_and_the_rest_is_told() -> None:
    six = DUMP.replace("-i lo", "-p ipv6-icmp")
    device = linux({"b.v6": six, "etc/iptables/rules.v4": DUMP + "", "etc/nftables.conf": "table inet x {\n}\n"})
    assert device.make == "Linux host (the dump of iptables)"
    assert sorted(f for base in device.rulebases for f in base.families) == [4, 6]
    assert not device.ledger.problems
    assert any("not the ones that count" in entry.why for entry in device.ledger.set_aside)
    stored = DUMP.replace("COMMIT", "-A INPUT -p tcp --dport 22 -j ACCEPT\nCOMMIT")
    device = linux({"etc/iptables/rules.v4": stored})
    assert device.saved is not None
    assert [len(chain.rules) for chain in device.saved[0].chains if chain.name == "INPUT"] == [2]
    assert not device.ledger.problems
    assert "cannot be read" in linux({"etc/iptables/rules.v4": "*filter\n:INPUT"}).ledger.problems[0].why
    assert linux({"etc/iptables/rules.v4": stored}, dump="").make == "Linux host (the rules stored for the next start)"
    with pytest.raises(UnreadableError, match=r"nothing in this bundle .* holds firewall rules"):
        linux({"etc/ssh/sshd_config": "Port 22\n"}, dump="")


def test_backups_and_files_nobody_needs_are_set_aside() -> None:
    device = linux({"etc/ssh/sshd_config": "Port 22\n", "etc/ssh/sshd_config.old": "Port 23\n", "notes.txt": "hello\n"})
    why = {entry.where.file: entry.why for entry in device.ledger.set_aside}
    assert "backup" in why["etc/ssh/sshd_config.old"]
    assert "no check needs" in why["notes.txt"]
    assert not device.ledger.unread
