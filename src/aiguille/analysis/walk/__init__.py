"""One packet after the other: what becomes of it, and the walk that leads there."""
