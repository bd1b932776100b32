"""An audit or an estate, for people and for programs."""
