"""A jury on paper: coded sheets whose key stays here, and the marks entered afterwards."""

from __future__ import annotations

import random
import secrets
from collections.abc import Mapping

from django.db import transaction

from yellowjacket.bench.look.blind_stimuli import rungs_with_light, spot_of
from yellowjacket.bench.look.grades import View, grade_rung
from yellowjacket.bench.models import Grade, JurySheet, Rung, Sitting, Use
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.judging import contact_sheet

# Side of a crop on paper, mm.
SIDE_MM = 58.0


def make_sheet(sitting: Sitting, use: Use) -> JurySheet:
    """A sheet with every rung of the sitting's ISO ladders that has a frame, in random order under random codes."""
    rungs = rungs_with_light(sitting)
    if len(rungs) < 2:
        raise Refusal("A sheet needs at least two rungs with frames: shoot or import an ISO ladder first.")
    chance = random.Random(secrets.randbits(64))  # noqa: S311 - an order, no secret
    chance.shuffle(rungs)
    try:
        names = contact_sheet.codes(len(rungs), chance)
    except ValueError as error:
        raise Refusal(f"{error}: {len(rungs)} rungs are too many.".capitalize()) from error
    slips = []
    for code, rung in zip(names, rungs, strict=True):
        x, y = spot_of(rung)
        slips.append({"code": code, "rung": rung.pk, "x": x, "y": y})
    return JurySheet.objects.create(sitting=sitting, use=use, slips=slips)


@transaction.atomic
def enter_marks(sheet: JurySheet, person: str, marks: Mapping[str, str]) -> int:
    """Keep the marks of one person, {code: "1" … "5" or "A" … "E"}, empty ones left out; how many there were.

    All or none: a mark that is no grade is refused by its code.
    """
    if not person.strip():
        raise Refusal("Whose marks are they? Type a name.")
    rungs = {rung.pk: rung for rung in Rung.objects.filter(pk__in=[slip["rung"] for slip in sheet.slips])}
    given = 0
    for slip in sheet.slips:
        text = marks.get(slip["code"], "").strip().upper()
        if not text:
            continue
        grade = "ABCDE".find(text) + 1 if len(text) == 1 and text in "ABCDE" else int(text) if text in "12345" else 0
        if not grade:
            raise Refusal(f"{slip['code']}: {text} is not a grade: write A to E, or 1 to 5.")
        grade_rung(
            rungs[slip["rung"]], sheet.use, person.strip()[:80], grade, View(size_percent=0, seen=Grade.Seen.PAPER)
        )
        given += 1
    if not given:
        raise Refusal("No mark was entered.")
    return given
