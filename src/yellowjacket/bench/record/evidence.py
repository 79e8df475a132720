"""What a signed record rests on."""

from __future__ import annotations

from yellowjacket.bench.models import Frame, Grade, Ladder
from yellowjacket.bench.record.kept import LimitPart, ProposalPart
from yellowjacket.bench.record.proposals import proposals
from yellowjacket.core.limits.iso_limits import Limit


def evidence(ladder: Ladder) -> dict[str, object]:
    """Conditions and proposals as plain values, for the signed record."""
    return {"conditions": conditions(ladder), "proposals": proposed(ladder)}


def proposed(ladder: Ladder) -> list[ProposalPart]:
    """Measured and graded limits as plain values, for the signed record and for exports."""
    return [
        {"use": p.use.name, "level": p.level, "measured": limit_as_kept(p.measured), "graded": limit_as_kept(p.graded)}
        for p in proposals(ladder)
    ]


def limit_as_kept(limit: Limit) -> LimitPart:
    """A limit along ISO as plain values, in the words of this day."""
    return {
        "level": limit.level, "mark": limit.mark, "crossing": limit.crossing, "low": limit.low, "high": limit.high,
        "at_least": limit.at_least, "criterion": limit.criterion, "criterion_key": limit.criterion_key,
        "doubts": list(limit.doubts), "reason": limit.reason,
    }  # fmt: skip


def conditions(ladder: Ladder) -> dict[str, object]:
    """What the limits hold for: body, firmware, lens, light, temperature, settings, profile."""
    sitting = ladder.sitting
    frames = Frame.objects.filter(shot__rung__ladder=ladder).exclude(firmware="")
    # The default order would join the distinct columns and make every row its own.
    firmware = frames.order_by("firmware").values_list("firmware", flat=True).distinct()
    profile = sitting.profile.criteria
    return {
        "body": str(ladder.body),
        "serial": ladder.body.serial,
        "firmware": list(firmware),
        "held_on": sitting.held_on.isoformat(),
        "scene": sitting.scene,
        "lens": sitting.lens,
        "light": sitting.light,
        "temperature_c": sitting.temperature_c,
        "aperture": f"f/{ladder.f_number:g}",
        "method": ladder.get_method_display(),
        "profile": profile.name,
        "thresholds": {criterion.key: list(criterion.thresholds) for criterion in profile.criteria},
        "judged_by": judges(ladder),
    }


def judges(ladder: Ladder) -> list[str]:
    """Who graded the ladder."""
    return sorted({grade.person for grade in Grade.objects.current(ladder).values()})
