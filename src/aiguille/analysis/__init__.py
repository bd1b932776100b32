"""Computations on model and space: verdicts, exposures, standing of rules, and what is known of one device."""
