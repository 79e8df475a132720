"""What a signed record rests on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from django.conf import settings

from yellowjacket import __version__, last_checks
from yellowjacket.bench.darks import measure as darks_
from yellowjacket.bench.measure import run
from yellowjacket.bench.models import Frame, Grade, Ladder, Reading, Use
from yellowjacket.bench.models.queries.frames import one_each
from yellowjacket.bench.models.queries.grades import Grades
from yellowjacket.bench.models.queries.readings import at_use
from yellowjacket.bench.push.iso_invariance import IsoReadings
from yellowjacket.bench.record.kept import LimitPart, ProposalPart
from yellowjacket.bench.record.proposals import proposals
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.output_size import use_noise_factor
from yellowjacket.core.metadata.capture import Compression, Shutter
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Note, Remark, in_words
from yellowjacket.core.raw.frame import LARGE_TILE, LINEAR, MONOCHROME, PICTURE, QUAD


def evidence(ladder: Ladder) -> dict[str, object]:
    """All a signed record rests on as plain values: conditions with profile and thresholds, proposals, the readings they come
    from, ISO settings to avoid or prefer, sizes of the uses, and what found them. Nothing that is changed later changes it."""
    return {
        "conditions": conditions(ladder), "proposals": proposed(ladder), "readings": _readings(ladder),
        "mark_advice": [list(one) for one in mark_advice(ladder)],
        "sizes": {use.name: size_words(use, ladder) for use in ladder.sitting.uses.all()},
        "software": made_by(),
    }  # fmt: skip


def made_by() -> str:
    """The software in words: its version, those of its methods, and when its accuracy was verified on this machine."""
    readings, darks = (version.rpartition("/")[2] for version in (run.METHOD_VERSION, darks_.METHOD_VERSION))
    looked = last_checks.last(settings.HOME, last_checks.ACCURACY)
    verified = "accuracy not verified on this machine"
    if looked is not None:
        missed = sum(not line.get("holds") for line in looked.lines)
        how = "verified" if looked.whole else "verified in short"
        verified = f"accuracy {how} on {looked.at:%-d %B %Y}" + (
            f", {counted(missed, 'line')} missed" if missed else ""
        )
        if looked.version != __version__:
            verified += f" for version {looked.version}"
    return f"{__version__}, readings by method {readings}, darks by method {darks}, {verified}"


def _readings(ladder: Ladder) -> list[dict[str, object]]:
    """What the profile looked at, by rung and use: the quantities by criterion, with their intervals."""
    rungs, uses = list(ladder.rungs.all()), list(ladder.sitting.uses.all())
    findings = Reading.objects.findings_by_use(rungs)
    return [
        {
            "rung": rung.key,
            "use": use.name,
            "findings": {key: q.plain for key, q in at_use(findings, use, rung).items()},
        }
        for rung in rungs
        for use in uses
    ]


def size_words(use: Use, ladder: Ladder) -> str:
    """How large a use is, for a body: its size, or that the body has no more pixels."""
    _, remark = use_noise_factor(ladder.body.pixels, use.whole_frame_pixels)
    return remark or use.size_text


def mark_advice(ladder: Ladder, readings: IsoReadings | None = None) -> list[tuple[int, str]]:
    """Marks of a ladder to avoid or prefer, with the reason. ``readings``: of the body's ISO ladders, where the ladder is one of
    them and they are known already."""
    rungs = list(ladder.rungs.all())
    asked = Reading.objects.speaking([Measurand.FLAGS]).filter(rung__in=rungs, use=None)
    known = asked.by_rung() if readings is None else readings.spoken.per_pixel
    told = ((rung, known.get(rung.pk, {}).get(Measurand.FLAGS)) for rung in rungs)
    return [(rung.iso, in_words(said.notes, ", ")) for rung, said in told if said is not None and (said.value or 0) > 0]


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


def limit_from(kept: LimitPart) -> Limit:
    """The limit that was kept, in the words of its day."""
    key, criterion, why = kept["criterion_key"], kept["criterion"], kept["reason"]
    ended = Note(Remark.CRITERION_FAILS, (key, criterion)) if key else Note(Remark.IN_WORDS, (criterion,))
    return Limit(
        kept["level"], kept["mark"], kept["crossing"], kept["low"], kept["high"], kept["at_least"],
        ended if criterion else None, Note(Remark.IN_WORDS, (why,)) if why else None,
        tuple(Note(Remark.IN_WORDS, (doubt,)) for doubt in kept["doubts"]),
    )  # fmt: skip


def conditions(ladder: Ladder, grades: Grades | None = None, known: Iterable[Frame] | None = None) -> dict[str, object]:
    """What the limits hold for: body, firmware, lens, light, temperature, settings, profile. ``grades``: those in force,
    ``known``: its frames with their shots, where they are known already."""
    sitting = ladder.sitting
    said = ("firmware", "layout", "shutter", "compression")
    found = Frame.objects.filter(shot__rung__ladder=ladder).select_related("shot")
    frames = list(found.only(*said, "shot__rung_id", "shot__kind")) if known is None else _by_id(known)
    profile = sitting.profile.criteria
    return {
        "body": str(ladder.body),
        "serial": ladder.body.serial,
        "firmware": sorted({frame.firmware for frame in frames} - {""}),
        "layout": frames[0].mosaic_layout.name if frames else "",
        "shutter": sorted({frame.shutter for frame in frames} - {""}),
        "single_frames": one_each(frames),
        "compression": sorted({frame.compression for frame in frames} - {""}),
        "held_on": sitting.held_on.isoformat(),
        "scene": sitting.scene,
        "lens": sitting.lens,
        "light": sitting.light,
        "temperature_c": sitting.temperature_c,
        "aperture": f"f/{ladder.f_number:g}",
        "method": ladder.get_method_display(),
        "profile": profile.name,
        "thresholds": {criterion.key: list(criterion.thresholds) for criterion in profile.criteria},
        "judged_by": judges(Grade.objects.current(ladder) if grades is None else grades),
    }


def _by_id(frames: Iterable[Frame]) -> list[Frame]:
    return sorted(frames, key=lambda frame: frame.pk)


def files_in_words(conditions: Mapping[str, Any]) -> str:
    """What the conditions of a record say of its files: only what changes what they can say."""
    layout = conditions.get("layout", "")
    said = [_LAYOUT_WORDS.get(str(layout), "")]
    said += [SINGLE_FRAMES] if conditions.get("single_frames") else []
    said += [f"{kind} shutter" for kind in conditions.get("shutter", ()) if kind != Shutter.MECHANICAL]
    said += ["lossy compression" for kind in conditions.get("compression", ()) if kind == Compression.LOSSY]
    return ", ".join(word for word in said if word)


SINGLE_FRAMES = "single frames: their fixed pattern counts as noise"
_LAYOUT_WORDS = {
    QUAD: "filters in 4×4 tiles", LARGE_TILE: "filters in 6×6 tiles", MONOCHROME: "no colour filters",
    LINEAR: "interpolated samples, measured at output sizes only", PICTURE: "judged on camera pictures",
}  # fmt: skip


def judges(grades: Grades) -> list[str]:
    """Who gave the grades that are in force."""
    return sorted({grade.person for grade in grades.values()})
