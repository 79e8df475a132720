"""Both sides of a limit along ISO: the last rung inside of it and the first one outside."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellowjacket.bench.models import Rung
from yellowjacket.bench.record.proposals import Proposal
from yellowjacket.bench.record.standing import Standing


@dataclass(frozen=True, slots=True)
class Sides:
    """A limit and the rungs on both of its sides, either None where nothing is known of one."""

    proposal: Proposal
    inside: Rung | None
    outside: Rung | None


def sides_of(standing: Standing, use_name: str, rungs: Sequence[Rung]) -> list[Sides]:
    """The limits of a use that are known, as decided or else as measured; ``rungs`` from low to high ISO."""
    found = []
    for proposal in standing.proposals:
        if proposal.use.name != use_name or not standing.tells(proposal):
            continue
        mark = standing.mark_of(proposal)
        inside = [rung for rung in rungs if mark is not None and rung.iso <= mark]
        beyond = () if standing.is_open_ended(proposal) else rungs
        outside = [rung for rung in beyond if mark is None or rung.iso > mark]
        found.append(Sides(proposal, inside[-1] if inside else None, outside[0] if outside else None))
    return found
