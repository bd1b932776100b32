"""Computations on model and space: verdicts, exposures, standing of rules."""

from aiguille.analysis.decide import (
    Decider,
    End,
    Ends,
    Proof,
    maybe_accepted,
    surely_accepted,
    surely_refused,
)
from aiguille.analysis.exposure import Exposure, exposures
from aiguille.analysis.program import Kind, Program, Programs, Step, families
from aiguille.analysis.sides import Entrance, each_interface, entrances, guess_outside, not_loopback, outside_known
from aiguille.analysis.standing import Openness, Standing, StandingReport, standings

__all__ = [
    "Decider",
    "End",
    "Ends",
    "Entrance",
    "Exposure",
    "Kind",
    "Openness",
    "Program",
    "Programs",
    "Proof",
    "Standing",
    "StandingReport",
    "Step",
    "each_interface",
    "entrances",
    "exposures",
    "families",
    "guess_outside",
    "maybe_accepted",
    "not_loopback",
    "outside_known",
    "standings",
    "surely_accepted",
    "surely_refused",
]
