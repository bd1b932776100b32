"""Who can reach the device itself, and what stands between them and it."""
