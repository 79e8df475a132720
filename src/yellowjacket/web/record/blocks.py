"""What a report is made of, whichever way it is set: headings, words, tables, drawings, pictures."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar, Literal

from django.utils.safestring import SafeString

from yellowjacket.web.graphics.drawing import Drawing, on_page

Size = Literal["lead", "body", "small"]


@dataclass(frozen=True, slots=True)
class Heading:
    """A heading; level 1 is the title."""

    kind: ClassVar = "heading"
    words: str
    level: int = 2


@dataclass(frozen=True, slots=True)
class Words:
    """A paragraph, begun with ``strong`` words where there are any."""

    kind: ClassVar = "words"
    text: str
    strong: str = ""
    size: Size = "body"


@dataclass(frozen=True, slots=True)
class Rows:
    """A table: its heads, rows of texts, widths of the columns in shares; ``fixed``: set in letters of one width."""

    kind: ClassVar = "rows"
    heads: Sequence[str]
    rows: Sequence[Sequence[str]]
    shares: Sequence[float]
    small: bool = False
    fixed: bool = False


@dataclass(frozen=True, slots=True)
class Drawings:
    """Drawings side by side."""

    kind: ClassVar = "drawings"
    drawings: Sequence[Drawing]
    a_row: int = 1

    @property
    def drawn(self) -> Sequence[SafeString]:
        """As SVG."""
        return [on_page(one) for one in self.drawings]


@dataclass(frozen=True, slots=True)
class Shown:
    """A picture as PNG with words under it; without a picture the words stand alone."""

    png: bytes
    words: str
    strong: str = ""

    @property
    def data(self) -> str:
        """The picture as an address that holds it."""
        return "data:image/png;base64," + base64.b64encode(self.png).decode() if self.png else ""


@dataclass(frozen=True, slots=True)
class Pictures:
    """Pictures side by side on a neutral ground, so many a row; ``pairs``: every second gap is wider."""

    kind: ClassVar = "pictures"
    pictures: Sequence[Shown]
    a_row: int
    pairs: bool = False


Block = Heading | Words | Rows | Drawings | Pictures
