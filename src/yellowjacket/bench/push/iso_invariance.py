"""ISO against push, and a second base."""

from __future__ import annotations

from dataclasses import dataclass

from yellowjacket.bench.models import Body, Reading, Sitting
from yellowjacket.bench.push.latitude import IsoAgainstPush, iso_noise_of
from yellowjacket.core.latitude.iso_invariance import highlight_gained, invariant_from, penalties
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Remark


def iso_against_push(sitting: Sitting, body: Body) -> IsoAgainstPush | None:
    """From the ISO ladders of a body in a sitting; None where fewer than two marks have a noise model."""
    marks = iso_noise_of(sitting, body)
    if len(marks) < 2:
        return None
    found = penalties(marks)
    top = marks[-1]
    return IsoAgainstPush(
        [mark.iso for mark in marks], {(one.shot_iso, one.wanted_iso): one for one in found},
        {mark.iso: highlight_gained(mark, top) for mark in marks[:-1]}, invariant_from(marks, found),
        any(one.kind == "measured" for one in found),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class SecondBase:
    """The mark from which a second conversion gain was seen, and the mark under it: the change lies between the two."""

    iso: int
    above: int | None

    @property
    def interval(self) -> str:
        """Where the change lies, in words; empty where no lower mark was shot."""
        return f"above ISO {self.above}, up to ISO {self.iso}" if self.above is not None else ""


def second_base_of(sitting: Sitting, body: Body) -> SecondBase | None:
    """A second base ISO as seen on the body's ladders, if any."""
    flags = Reading.objects.filter(
        rung__ladder__sitting=sitting, rung__ladder__body=body, quantity=Measurand.FLAGS
    ).select_related("rung")
    rows = list(flags)
    found = next((row.rung for row in rows if row.result.has(Remark.SECOND_BASE)), None)
    if found is None:
        return None
    lower = [row.rung.iso for row in rows if row.rung.ladder_id == found.ladder_id and row.rung.iso < found.iso]
    return SecondBase(found.iso, max(lower, default=None))
