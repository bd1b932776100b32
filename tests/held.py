"""What was once certain and wrong, with the test that holds it; docs/proof.md lists it."""

from __future__ import annotations

CERTAINTY = "tests/analysis/test_certainty.py"
MAPPING = "tests/readers/test_mapping.py"
PROGRAMS = "tests/kernel/test_programs.py"
WIDE, WIDE_NFT = "tests/kernel/test_wide.py", "tests/kernel/test_wide_nft.py"
FIREWALL_FILES = "tests/readers/test_firewall_files.py"

HELD: list[tuple[str, str, str]] = [
    # what, file, a case or a function of it
    ("sets of ipset: `netmask`", CERTAINTY, "a netmask widens entries"),
    ("`netmask` of `bitmap:ip`", CERTAINTY, "a netmask of a bitmap"),
    ("`bitmask`, and any option nobody knows", CERTAINTY, "nor is an option nobody knows"),
    ("`wildcard` of `hash:net,iface`", CERTAINTY, "an entry that begins names"),
    ("of nested networks of `hash:net,iface` the narrowest counts", CERTAINTY, "of nested networks the narrowest counts"),
    ("`bitmap:port` holds no SCTP", CERTAINTY, "and no SCTP"),
    ("`physdev:` in an entry", CERTAINTY, "a port of a bridge"),
    ("`mark`, `markmask`, `skbinfo`", CERTAINTY, "marks of entries under a mask"),
    ("sets that rules fill or empty (`-j SET`)", CERTAINTY, "a set that rules empty"),
    ("marks out of a set (`--map-mark`)", CERTAINTY, "a mark out of a set"),
    ("`--return-nomatch` turns a match round", CERTAINTY, "a match turned round for exceptions"),
    ("sets that rules of a listing in JSON fill", CERTAINTY, "a set that rules of a listing in JSON fill"),
    ("marks by map, by way of the connection, `CONNMARK`, `-m connmark`", CERTAINTY, "a mark by way of the connection"),
    ("translations by maps", CERTAINTY, "a translation by maps"),
    ("translations whose words the JSON leaves out", CERTAINTY, "a translation without its words"),
    ("a redirection does not open `ct status dnat` to forwarded packets", CERTAINTY, "a redirection sends nothing on"),
    ("address types: the last address of a network, and after a translation", CERTAINTY, "local, or the last address of a network"),
    ("address types of IPv6: all but multicast are unicasts", CERTAINTY, "every IPv6 address but multicast is a unicast"),
    ("address types of IPv6: a list asks for all at once", CERTAINTY, "no IPv6 address is both"),
    ("`--limit-iface-in`", CERTAINTY, "types of one interface's addresses"),
    ("`ct zone set` and `notrack` behind connection tracking", CERTAINTY, "a zone makes an invalid packet new"),
    ("`oifname` before it is known where packets leave", CERTAINTY, "no interface out before routing"),
    ("protocols by the names that dumps print", CERTAINTY, "ipip is protocol 94"),
    ("every match and target of iptables that this kernel loads", WIDE, "test_what_is_certain_is_what_the_kernel_does"),
    ("every statement of nft that it loads, text and JSON alike", WIDE_NFT, "test_what_is_certain_is_what_the_kernel_does"),
    ("whatever the match options print is exact or a named condition", "tests/kernel/test_dumps.py",
     "test_whatever_the_match_options_print_is_exact_or_a_named_condition"),
    ("Shorewall: `physical=+`, `BLACKLIST=ALL`, DNSAmp, GlusterFS, allowinUPnP", PROGRAMS, "DNSAmp(DROP)"),
    ("Shorewall: one zone on one interface", PROGRAMS, '"one": {'),
    ("Shorewall: dispositions that it refuses", PROGRAMS, "test_what_shorewall_refuses_is_refused"),
    ("firewalld: rules that it leaves out", PROGRAMS, "test_what_firewalld_ignores_is_ignored"),
    ("firewalld: a rule with an attribute that is not known", FIREWALL_FILES,
     "test_what_a_later_firewalld_may_know_of_a_rule_leaves_it_open"),
    ("firewalld: contents with which it loads nothing", FIREWALL_FILES, "a forward-port needs a to-port or a to-addr"),
    ("firewalld: the services it ships", PROGRAMS, "test_services_of_ours_are_those_that_firewalld_ships"),
    ("dialects: `join` without its first place", MAPPING, "a mask joined to no address"),
    ("dialects: `join` drops no words", MAPPING, "more words than are joined"),
    ("dialects: a quoted `*` is a name", MAPPING, "a quoted sign is a name"),
    ("dialects: `to-address` in a rule base that filters", MAPPING, "a new address in a list that filters"),
    ("dialects: `[@3]` and `[!@3]`", MAPPING, "a word that must not be there"),
    ("dialects: any single mapping taken out", "tests/readers/test_dialects_cut_short.py",
     "test_what_a_dialect_loses_is_never_decided_for_certain"),
    ("any single word of an export misspelled", "tests/test_misspelled.py", "test_what_is_misspelled_decides_nothing_for_certain"),
    ("every command and report on damaged exports, bounded", "tests/test_damage.py", "test_no_damage_ends_in_a_fault"),
]  # fmt: skip

DAMAGED = (
    (1_500, 77, "2026-11-29", 0),
    (50_000, 20261130, "2026-11-30", 2),
    (50_000, 20261131, "2026-11-30", 0),
)
"""Runs of `tests.damage` by hand: cases, seed, day, faults."""
