"""Reader for ufw: a copy of its files, and the poorer text of `ufw status verbose`."""
