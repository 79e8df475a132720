"""The report of a sitting: what is in it, in the order in which a client reads; set as one HTML file here, as PDF in
``report_pdf``.

First the answer with its limits on the stop axis and as they look, then the evidence, then methods and files.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from django.template.loader import render_to_string
from django.utils.text import capfirst

from yellowjacket.bench.compare.bodies import COMPARED
from yellowjacket.bench.models import Record, Sitting, Use
from yellowjacket.bench.record.evidence import files_in_words, made_by
from yellowjacket.bench.record.record import usable_in_words
from yellowjacket.bench.record.sides import Sides, sides_of
from yellowjacket.core.limits.tolerance import DEFAULT_CRITERIA, LEVELS
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.graphics.chart import axis_of
from yellowjacket.web.limit_rows import chart_of
from yellowjacket.web.record import plots
from yellowjacket.web.record.blocks import Block, Drawings, Heading, Pictures, Rows, Shown, Words
from yellowjacket.web.record.parts import LadderPart
from yellowjacket.web.templatetags.values import dial_mark, iso_range, number

_CROP_PX, _SIDE_PX = (190, 140), (162, 122)
_CROPS_A_ROW, _PLOTS_A_ROW, _SIDES_A_ROW = 4, 2, 6
# How everything was found, for whoever reads the report elsewhere.
METHODS = (
    "Temporal noise comes from the difference of two frames of a rung over a patch; gain from the photon transfer line, read "
    "noise from darks; dynamic range from saturation and the noise model; chroma noise and colour are in CIELAB (CIEDE2000); "
    "detail from the coherence of two frames. A limit is the last ISO mark before the first criterion of the tolerance fails, "
    "with the interpolated crossing behind it. Intervals are 95 %. A dash means not measured."
)
_WEB = Path(__file__).parents[1]


def report_html(sitting: Sitting) -> str:
    """The whole sitting as one file."""
    page = render_to_string("record/report.html", {"title": title(sitting), "blocks": list(contents(sitting))})
    # The page's own style and typeface come into the file, as nothing lies beside it when it is kept.
    style = (Path(__file__).parent / "report.css").read_text(encoding="utf-8")
    face = base64.b64encode((_WEB / "static" / "web" / "fonts" / "archivo.woff2").read_bytes()).decode()
    style = style.replace("ARCHIVO", f"data:font/woff2;base64,{face}")
    return page.replace("</head>", f"<style>\n{style}</style></head>", 1)


def title(sitting: Sitting) -> str:
    """What the document is called."""
    return f"{sitting.name}: report"


def contents(sitting: Sitting) -> Iterator[Block]:
    """The report in the order in which it is read."""
    uses = list(sitting.uses.all())
    parts = [LadderPart.of(one, uses) for one in sitting.ladders.select_related("body", "sitting__profile")]
    yield Heading(sitting.name, 1)
    light = f", {sitting.light}" if sitting.light else ""
    yield Words(f"{sitting.held_on:%-d %B %Y}, {sitting.scene}{light}", size="small")
    if sitting.question:
        yield Words(sitting.question, "Question:")
    for part in parts:
        yield from _answered(part, uses)
    yield Heading("Evidence")
    expected = f" Expected beforehand: {sitting.expectation}" if sitting.expectation else ""
    yield Words(f"Compared at: {sitting.get_held_equal_display()}.{expected}", size="small")
    for part in parts:
        yield from _evidence(part)
    yield Heading("Methods")
    yield Words(f"{METHODS} Made by Yellowjacket {made_by()}.")
    for part in parts:
        yield from _files(part)


def _answered(part: LadderPart, uses: Sequence[Use]) -> Iterator[Block]:
    standing = part.standing
    yield Heading(str(part.ladder))
    yield Words(_answer(part), size="lead")
    if part.signed is not None and part.signed.signed_at is not None:
        yield Words(
            f"Signed by {part.signed.signed_by}, {part.signed.signed_at:%-d %B %Y}, version {part.signed.version}. "
            f"{part.signed.note}".strip(), size="small",
        )  # fmt: skip
    chart = chart_of(part.ladder, standing, [rung.iso for rung in part.rungs])
    if chart is not None:
        yield Drawings([chart])
    for use in uses:
        sides = sides_of(standing, use.name, part.rungs)
        if sides and part.shown:
            yield Heading(f"{use.name}: last setting inside each limit, first setting outside", 3)
            yield Pictures(list(_as_seen(part, use, sides)), _SIDES_A_ROW, pairs=True)
    if standing.others:
        yield Heading("Other limits" if standing.proposals else "Limits", 3)
        rows = [
            (capfirst(one.what), one.use or "any use", row.decided or one.text, one.interval, one.because)
            for row in standing.others
            for one in [row.limit]
        ]
        yield Rows(("Limit", "For", "Found", "95 %", "Limited by"), rows, (4, 2, 2.4, 3, 4))
    if standing.mark_advice:
        yield Words(
            "; ".join(f"ISO {iso}: {reason}" for iso, reason in standing.mark_advice) + ".",
            "ISO settings to avoid or prefer:",
        )
    yield Words(_held(standing.conditions), size="small")


def _answer(part: LadderPart) -> str:
    """The answer as it was signed, else as it was measured."""
    if part.signed is not None and part.signed.answer:
        return part.signed.answer
    usable = [
        (p.use.name, p.measured.mark) for p in part.standing.proposals if p.level == "usable" and part.standing.tells(p)
    ]
    measured = usable_in_words(usable)
    if part.signed is not None:
        return measured or "Signed without an answer in words."
    return (
        f"As measured, not yet signed: {measured[:1].lower()}{measured[1:]}"
        if measured
        else "Not signed yet. Limits as measured:"
    )


def _as_seen(part: LadderPart, use: Use, sides: Sequence[Sides]) -> Iterator[Shown]:
    for one in sides:
        level = one.proposal.level
        for rung, where in ((one.inside, "inside"), (one.outside, "outside")):
            if rung is None:
                yield Shown(
                    b"",
                    f"{level}: nothing higher was judged" if where == "outside" else f"{level}: no setting",
                )
            else:
                yield Shown(part.crop(rung, _SIDE_PX, use), f"{level}, {where}", f"ISO {rung.iso}")


def _evidence(part: LadderPart) -> Iterator[Block]:
    standing = part.standing
    yield Heading(str(part.ladder), 3)
    yield Words(f"Tolerance: {standing.conditions.get('profile', 'not named')}.", size="small")
    for record in part.records:
        if record.signed_at is not None and record != part.signed:
            yield Words(_signed(record), size="small")
    if standing.proposals:
        rows = [
            (
                p.use.name, p.level, decided.words if decided else "open", dial_mark(p.measured), iso_range(p.measured) or "–",
                p.measured.criterion or p.measured.reason or "nothing on this ladder", dial_mark(p.graded),
            )
            for p in standing.proposals
            for decided in [standing.decided.get((p.use.name, p.level))]
        ]  # fmt: skip
        yield Rows(
            ("Use", "Highest ISO", "Decided", "Measured", "Crossing (95 %)", "Fails first by", "Graded"), rows,
            (2.6, 2, 2, 2.2, 3.6, 3.8, 2),
        )  # fmt: skip
    if standing.today:
        yield Words(f"{'; '.join(standing.today)}.", "Limits as signed. Today's numbers would say:", size="small")
    plots_ = list(_plots(part))
    if plots_:
        yield Heading("Along the rungs, per pixel; bars are 95 % intervals, dashed lines the tolerance", 3)
        yield Drawings(plots_, _PLOTS_A_ROW)
    crops = [Shown(part.crop(rung, _CROP_PX), rung.shutter_label, rung.label) for rung in part.rungs]
    if any(one.png for one in crops):
        yield Heading("The spot at 100 %, equal brightness, no sharpening, no noise reduction", 3)
        yield Pictures([one for one in crops if one.png], _CROPS_A_ROW)
    if any(q is not None and q.value is not None for row in part.readings.values() for q in row):
        yield Heading("Readings per pixel, with 95 % intervals", 3)
        heads = ["Rung", *(f"{one.described.words}, {one.described.short_unit}".strip(", ") for one in COMPARED)]
        rows_ = [(rung.label, *(_reading(q) for q in part.readings[rung.pk])) for rung in part.rungs]
        yield Rows(heads, rows_, [2.2, *([3.0] * len(COMPARED))], small=True)


def _files(part: LadderPart) -> Iterator[Block]:
    if not part.frames:
        return
    yield Heading(f"Files: {part.ladder}", 3)
    rows = [
        (
            frame.file_name, f"{frame.shot.rung.label} {frame.shot.kind} {frame.shot.repeat}" if frame.shot else "",
            frame.sha256,
        )
        for frame in part.frames
    ]  # fmt: skip
    yield Rows(("File", "Shot", "SHA-256"), rows, (2.4, 2.2, 6), small=True, fixed=True)


def _plots(part: LadderPart) -> Iterator[plots.Drawing]:
    """Every quantity that two rungs and more have, with the thresholds that the version was held against."""
    kept = part.standing.conditions.get("thresholds")
    bars = kept if isinstance(kept, Mapping) else {}
    keys = {one.quantity: one.key for one in DEFAULT_CRITERIA}
    labels = [rung.label.removeprefix("ISO ") for rung in part.rungs]
    for n, quantity in enumerate(COMPARED):
        words, unit = quantity.described.words, quantity.described.short_unit
        values = [part.readings[rung.pk][n] for rung in part.rungs]
        levels = [(level, float(bar)) for level, bar in zip(LEVELS, bars.get(keys.get(quantity, ""), ()), strict=False)]
        plot = plots.plot_of(f"{words}, {unit}" if unit else words, labels, values, axis_of(quantity.described), levels)
        if plot is not None:
            yield plot


def _held(conditions: Mapping[str, object]) -> str:
    """What the limits hold for, in a line."""

    def said(name: str, without: str) -> str:
        value = conditions.get(name)
        return ", ".join(map(str, value)) if isinstance(value, list) and value else str(value or without)

    celsius = conditions.get("temperature_c")
    whose = f"{said('body', '')} {said('serial', '')}".strip()
    made = files_in_words(conditions)
    files = f"; {made}" if made else ""
    warmth = f"{celsius:g} °C" if isinstance(celsius, float) else "temperature not noted"
    return (
        f"Holds for {whose}, firmware {said('firmware', 'not known')}; {said('lens', 'lens not noted')}, "
        f"{said('aperture', '')}, {said('method', '')}{files}; {warmth}; judged by {said('judged_by', 'nobody')}."
    )


def _signed(record: Record) -> str:
    decided = [f"{one.use.name} {one.level} {one.words}" for one in record.decisions.all()]
    decided += [
        f"{one.what}{' for ' + one.use.lower() if one.use else ''} {one.text}" for one in record.other_decisions.all()
    ]
    when = f"{record.signed_at:%-d %B %Y}" if record.signed_at else ""
    said = " ".join(part for part in (record.answer, record.note, ", ".join(decided)) if part)
    return f"Before: signed by {record.signed_by}, {when}, version {record.version}: {said}."


def _reading(found: Quantity | None) -> str:
    if found is None or found.value is None:
        return "–"
    ends = f" ({number(found.low)} … {number(found.high)})" if found.low is not None and found.high is not None else ""
    return f"{number(found.value)}{ends}"
