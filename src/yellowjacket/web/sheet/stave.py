"""The stave: rungs as columns, everything known about a rung as lines of one sheet.

Every page builds one from the same parts and shows other lines.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from yellowjacket.bench.models import Ladder, Rung
from yellowjacket.web.sheet.charts import Chart

# Column widths that show 10 to 14 one-stop columns at 1280 px; longer ladders scroll inside the sheet.
_WIDE_PX, _NARROW_PX = 76, 66
_MOST_WIDE_COLUMNS = 12


@dataclass(frozen=True, slots=True)
class Column:
    """One rung at the head of the stave."""

    rung: Rung
    current: bool

    @property
    def label(self) -> str:
        """What the ladder varies: the ISO mark, the stops, the time, the setting."""
        return self.rung.label.removeprefix("ISO ").removesuffix(" LENR")

    @property
    def sub(self) -> str:
        """What is set beside it."""
        if self.label == self.rung.shutter_label:
            return "LENR" if self.rung.lenr else "no LENR"
        return self.rung.shutter_label


@dataclass(frozen=True, slots=True)
class Cell:
    """One value: its text, whether it stands out, and where its provenance is."""

    text: str = ""
    strong: bool = False
    title: str = ""
    # A value that its own uncertainty covers: shown, but quietly.
    doubtful: bool = False
    reading_id: int | None = None
    # For lines of pictures, frames or grades: what their template needs.
    extra: object = None
    bracket: str = ""


@dataclass(frozen=True, slots=True)
class Line:
    """One line of the sheet. ``kind`` names its template: text, crops, frames, grades, chart."""

    key: str
    name: str
    sub: str
    kind: str = "text"
    cells: Sequence[Cell] = ()
    chart: Chart | None = None
    chosen: bool = False
    # What its name turns it into, and whether it can be folded away.
    unfolds_to: str = ""
    folds: bool = False


@dataclass(frozen=True, slots=True)
class Stave:
    """Columns and lines of one ladder."""

    ladder: Ladder
    columns: Sequence[Column]
    lines: Sequence[Line] = field(default_factory=list)

    @property
    def held(self) -> str:
        """What every rung has in common, in a few words."""
        same = {column.rung.iso for column in self.columns}
        iso = f"ISO {same.pop()}, " if len(same) == 1 and self.ladder.kind != Ladder.Kind.ISO else ""
        return f"{iso}f/{self.ladder.f_number:g}, {self.ladder.get_method_display()}"

    @property
    def column_px(self) -> int:
        """Width of a column."""
        return _WIDE_PX if len(self.columns) <= _MOST_WIDE_COLUMNS else _NARROW_PX

    @property
    def width_px(self) -> int:
        """Width of all columns."""
        return self.column_px * len(self.columns)

    @property
    def template_lines(self) -> list[tuple[Line, list[tuple[Column, Cell]], str]]:
        """Each line with its cells beside their columns, and its template."""
        return [
            (line, list(zip(self.columns, line.cells, strict=False)), f"stave/_{line.kind}.html") for line in self.lines
        ]


def columns_of(rungs: Sequence[Rung], current: Rung | None) -> list[Column]:
    """Columns in the order of the rungs, the current one lit."""
    return [Column(rung, current is not None and rung.pk == current.pk) for rung in rungs]


def text_line(key: str, name: str, sub: str, rungs: Sequence[Rung], cell: Callable[[Rung], Cell]) -> Line:
    """A line with one cell per rung."""
    return Line(key, name, sub, cells=[cell(rung) for rung in rungs])
