"""The field card of a body: its signed limits on one side of A6, as SVG, PDF and plain text."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from django.utils.text import capfirst

from yellowjacket.bench.models import Record, Use
from yellowjacket.bench.record.sides import sides_of
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.web.graphics.drawing import Drawing, Picture, Shape, Text, svg
from yellowjacket.web.record.parts import LadderPart

# A6 standing, mm; what printers leave white, and the lines.
PAGE_MM = (105.0, 148.0)
_MARGIN_MM, _LINE_MM, _FIRST_MM = 7.0, 4.6, 11.0
_COLUMNS_MM = (7.0, 45.0, 62.0, 80.0)
_MOST_CHARACTERS, _FOOT_CHARACTERS = 54, 72
# The limits as they look: pairs a row, width of a picture, room between pairs, and pixels of a picture.
_SEEN_A_ROW, _SEEN_MM, _SEEN_GAP_MM, _SEEN_PX = 3, 14.5, 2.0, (108, 82)
_TITLE_SIZE_MM, _SUB_SIZE_MM, _SIZE_MM, _FOOT_SIZE_MM, _FOOT_LINE_MM = 5.0, 3.0, 3.2, 2.3, 3.2


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the card: its cells, and whether it stands out."""

    cells: tuple[str, ...]
    strong: bool = False


@dataclass(frozen=True, slots=True)
class SeenUse:
    """The usable limit of a use as it looks: words and PNG of the last setting inside and of the first outside."""

    name: str
    sides: Sequence[tuple[str, bytes]]


@dataclass(frozen=True, slots=True)
class Card:
    """What stands on a card."""

    title: str
    sub: str
    rows: Sequence[Row]
    foot: str
    seen: Sequence[SeenUse] = ()


def card_of(record: Record) -> Card:
    """The card of a signed record: decided limits by use, what else was found, ISO settings to avoid or prefer: all as
    it was signed."""
    ladder, uses = record.ladder, list(record.ladder.sitting.uses.all())
    part = LadderPart.of(ladder, uses)
    standing = part.standing
    conditions = standing.conditions
    firmware = conditions.get("firmware") or []
    version = f", firmware {', '.join(map(str, firmware))}" if isinstance(firmware, list) and firmware else ""
    decided: dict[str, dict[str, str]] = {}
    for (use, level), mark in standing.decided.items():
        decided.setdefault(use, {})[level] = mark.words.removeprefix("ISO ")
    rows = [Row(("Highest ISO", *(level for level in LEVELS)), True)] if decided else []
    rows += [Row((use, *(marks.get(level, "–") for level in LEVELS))) for use, marks in decided.items()]
    if standing.others:
        rows.append(Row(("Besides ISO" if decided else "Limits",), True))
        for one in standing.others:
            what = f"{capfirst(one.limit.what)}{', ' + one.limit.use.lower() if one.limit.use else ''}"
            rows.append(Row((what, "", one.decided or one.limit.text)))
    if standing.mark_advice:
        rows.append(Row(("ISO settings to avoid or prefer",), True))
        rows += [Row((f"ISO {iso}: {reason}"[:_MOST_CHARACTERS],)) for iso, reason in standing.mark_advice]
    signed = f"{record.signed_at:%-d %B %Y}" if record.signed_at else ""
    return Card(
        str(ladder.body), f"{ladder.body.serial}{version}", rows,
        f"{ladder.sitting}, by the profile {conditions.get('profile', '')}; signed by {record.signed_by}, {signed}",
        list(_seen(part, uses)),
    )  # fmt: skip


def _seen(part: LadderPart, uses: Sequence[Use]) -> Iterator[SeenUse]:
    for use in uses:
        for one in sides_of(part.standing, use.name, part.rungs):
            if one.proposal.level == "usable" and one.inside is not None and one.outside is not None:
                rungs = (one.inside, one.outside)
                yield SeenUse(use.name, [(str(rung.iso), part.crop(rung, _SEEN_PX, use)) for rung in rungs])


def as_text(card: Card) -> str:
    """The card as plain text."""
    lines = [card.title, card.sub, ""]
    for row in card.rows:
        if row.strong:
            lines.append("")
        first, *rest = row.cells
        lines.append((f"{first:<34}" + "".join(f"{cell:>11}" for cell in rest if cell)).rstrip())
    return "\n".join([*lines, "", card.foot, ""])


def as_svg(card: Card) -> str:
    """The card as SVG in millimetres."""
    return svg(_drawn(card))


def as_pdf(card: Card) -> bytes:
    """The card as PDF, A6."""
    from yellowjacket.web.graphics.pdf import pdf

    return pdf([_drawn(card)])


def _drawn(card: Card) -> Drawing:
    """Rows that do not fit on the card are left out; the last lines are broken where they would leave it."""
    shapes: list[Shape] = [
        Text(_MARGIN_MM, _FIRST_MM, card.title, _TITLE_SIZE_MM, strong=True),
        Text(_MARGIN_MM, _FIRST_MM + _LINE_MM, card.sub, _SUB_SIZE_MM),
    ]
    y = _FIRST_MM + 2 * _LINE_MM
    for row in card.rows:
        y += _LINE_MM * (1.5 if row.strong else 1.0)
        if y < PAGE_MM[1] - _MARGIN_MM - _LINE_MM:
            shapes += [
                Text(x, y, cell, _SIZE_MM, strong=row.strong)
                for x, cell in zip(_COLUMNS_MM, row.cells, strict=False)
                if cell
            ]
    shapes += _drawn_seen(card.seen, y + _LINE_MM)
    lines = textwrap.wrap(card.foot, _FOOT_CHARACTERS)
    shapes += [
        Text(_MARGIN_MM, PAGE_MM[1] - _MARGIN_MM - _FOOT_LINE_MM * (len(lines) - 1 - n), line, _FOOT_SIZE_MM)
        for n, line in enumerate(lines)
    ]
    return Drawing(f"Field card {card.title}", *PAGE_MM, shapes, "mm")


def _drawn_seen(seen: Sequence[SeenUse], top: float) -> list[Shape]:
    """Pairs of pictures from ``top`` on, as many as stand side by side; none where the rows have left no room."""
    shown = [one for one in seen if all(png for _, png in one.sides)][:_SEEN_A_ROW]
    high = _SEEN_MM * _SEEN_PX[1] / _SEEN_PX[0]
    if not shown or top + 2 * _LINE_MM + high + 3 > PAGE_MM[1] - _MARGIN_MM - 2 * _LINE_MM:
        return []
    shapes: list[Shape] = [
        Text(_MARGIN_MM, top + _LINE_MM, "Last usable setting, first one that is not", _SIZE_MM, strong=True)
    ]
    for n, one in enumerate(shown):
        left, y = _MARGIN_MM + n * (2 * _SEEN_MM + _SEEN_GAP_MM), top + 2 * _LINE_MM
        shapes.append(Text(left, y, one.name, _SUB_SIZE_MM))
        for side, (iso, png) in enumerate(one.sides):
            x = left + side * _SEEN_MM
            shapes += [
                Picture(x, y + 1.2, _SEEN_MM - 0.5, high, png),
                Text(x, y + high + 4.2, iso, _FOOT_SIZE_MM, strong=side == 0),
            ]
    return shapes
