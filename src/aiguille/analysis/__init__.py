"""Computations on model and space: verdicts, exposures, standing of rules. Each is imported when it is asked for."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from aiguille.analysis.answers import Answer, answer
    from aiguille.analysis.bulk import Decision, Probed, TableProber
    from aiguille.analysis.decide import (
        Decider,
        End,
        Ends,
        Proof,
        maybe_accepted,
        surely_accepted,
        surely_refused,
    )
    from aiguille.analysis.exposure import Exposure, exposures, networks_in
    from aiguille.analysis.probe import Prober, Verdict, Visit, Way
    from aiguille.analysis.program import Kind, Program, Programs, Step, families
    from aiguille.analysis.sides import (
        Entrance,
        each_interface,
        entrances,
        existing,
        guess_sides,
        not_loopback,
        outside_known,
    )
    from aiguille.analysis.standing import Openness, Standing, StandingReport, standings

_PLACES = {
    "answers": ("Answer", "answer"),
    "bulk": ("Decision", "Probed", "TableProber"),
    "decide": ("Decider", "End", "Ends", "Proof", "maybe_accepted", "surely_accepted", "surely_refused"),
    "exposure": ("Exposure", "exposures", "networks_in"),
    "probe": ("Prober", "Verdict", "Visit", "Way"),
    "program": ("Kind", "Program", "Programs", "Step", "families"),
    "sides": ("Entrance", "each_interface", "entrances", "existing", "guess_sides", "not_loopback", "outside_known"),
    "standing": ("Openness", "Standing", "StandingReport", "standings"),
}
_MODULES = {name: module for module, names in _PLACES.items() for name in names}


def __getattr__(name: str) -> Any:
    module = _MODULES.get(name)
    if module is None:
        raise AttributeError(f"module 'aiguille.analysis' has no attribute '{name}'")
    found = getattr(import_module(f"aiguille.analysis.{module}"), name)
    globals()[name] = found
    return found


__all__ = [
    "Answer",
    "Decider",
    "Decision",
    "End",
    "Ends",
    "Entrance",
    "Exposure",
    "Kind",
    "Openness",
    "Probed",
    "Prober",
    "Program",
    "Programs",
    "Proof",
    "Standing",
    "StandingReport",
    "Step",
    "TableProber",
    "Verdict",
    "Visit",
    "Way",
    "answer",
    "each_interface",
    "entrances",
    "existing",
    "exposures",
    "families",
    "guess_sides",
    "maybe_accepted",
    "networks_in",
    "not_loopback",
    "outside_known",
    "standings",
    "surely_accepted",
    "surely_refused",
]
