"""Shorewall and Shorewall6: folders of tables from which the program makes a packet filter."""
