"""The name of the loopback interface, which no traffic of others arrives on."""

LOOPBACK = "lo"
