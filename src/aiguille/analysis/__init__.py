"""Computations on model and space: verdicts, exposures, standing of rules."""

from aiguille.analysis.answers import Answer, answer
from aiguille.analysis.bulk import Decision, probe_table
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
    guess_outside,
    not_loopback,
    outside_known,
)
from aiguille.analysis.standing import Openness, Standing, StandingReport, standings

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
    "Prober",
    "Program",
    "Programs",
    "Proof",
    "Standing",
    "StandingReport",
    "Step",
    "Verdict",
    "Visit",
    "Way",
    "answer",
    "each_interface",
    "entrances",
    "existing",
    "exposures",
    "families",
    "guess_outside",
    "maybe_accepted",
    "networks_in",
    "not_loopback",
    "outside_known",
    "probe_table",
    "standings",
    "surely_accepted",
    "surely_refused",
]
