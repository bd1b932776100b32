"""Reader for firewalld: a copy of its configuration, and the poorer text of `firewall-cmd --list-all-zones`."""
