"""Audits of estates larger than memory, or than one machine: devices one by one, results in files."""
