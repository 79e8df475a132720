"""ISO against push, and a second base."""

from __future__ import annotations

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


def second_base_of(sitting: Sitting, body: Body) -> int | None:
    """The ISO from which a second conversion gain was seen on the body's ladders, if any."""
    flags = Reading.objects.filter(
        rung__ladder__sitting=sitting, rung__ladder__body=body, quantity=Measurand.FLAGS
    ).select_related("rung")
    return next((row.rung.iso for row in flags if row.result.has(Remark.SECOND_BASE)), None)
