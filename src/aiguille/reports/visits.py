"""What became of a packet, where it passed and what decided it, as plain data for JSON."""

from __future__ import annotations

from aiguille.analysis.walk.answers import Answer
from aiguille.analysis.walk.probe import Visit
from aiguille.model import Device, Span
from aiguille.reports.data import Data, place_of


def answer_data(device: Device, answer: Answer) -> Data:
    """One packet's answer; ``possible`` lists every way where there are several."""
    first = answer.verdicts[0]
    out: Data = {
        "verdict": first.verdict.value,
        "certain": answer.certain,
        "decided_by": place_data(device, first.decided_by),
        "walk": [visit_data(device, visit) for visit in first.ways[0].visits],
    }
    ways = [(verdict, way) for verdict in answer.verdicts for way in verdict.ways]
    if len(ways) > 1:
        out["possible"] = [
            {
                "verdict": way.verdict.value,
                "decided_by": place_data(device, way.decided_by),
                "packet": {**verdict.packet.to_dict(), "sentence": verdict.packet.sentence()},
            }
            for verdict, way in ways
        ]
    return out


def place_data(device: Device, visit: Visit) -> Data:
    where = where_of(visit)
    return {
        "device": device.name,
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        **({"column": where.column} if where and where.column else {}),
        "text": "\n".join(device.text(where)) if where else None,
    }


def visit_data(device: Device, visit: Visit) -> Data:
    where = where_of(visit)
    return {
        "rulebase": visit.rulebase.name,
        "chain": visit.chain.name,
        "rule": "policy" if visit.rule is None else visit.rule.number,
        **place_of(where),
        "action": visit.action.value,
        "matched": "yes" if visit.matched else "may",
        "taken": visit.taken,
    }


def where_of(visit: Visit) -> Span | None:
    """The lines of the rule or policy a packet meets."""
    return visit.chain.policy_where if visit.rule is None else visit.rule.where
