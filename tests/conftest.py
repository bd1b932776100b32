"""Settings of the whole suite."""

from __future__ import annotations

from hypothesis import HealthCheck, settings

# Times vary on shared machines, so no test may fail for being slow; speed is measured in benchmarks/.
settings.register_profile("suite", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=150)
settings.load_profile("suite")
