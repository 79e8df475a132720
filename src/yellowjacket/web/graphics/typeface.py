"""The shipped typefaces for PDF: their names, and how words are set whose signs not all of them have."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from itertools import groupby
from pathlib import Path
from xml.sax.saxutils import escape

from reportlab import rl_config
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas

SANS, BOLD, MONO = "Archivo", "Archivo-Bold", "SplineSansMono"
# Comes with the PDF writer and has signs of mathematics that the others lack.
_SIGNS = "Vera"
_FILES = {SANS: "archivo-regular.ttf", BOLD: "archivo-bold.ttf", MONO: "spline-sans-mono.ttf"}
# The same sign under the number that fonts know it by; what none of them has is put plainly.
_PLAIN = {"Δ": "∆", "⁻": "-", "σ": "sigma", "→": "to", "\u2009": "\u00a0", "⅓": "1/3", "⅔": "2/3", "∞": "infinity"}
_UNKNOWN = "?"


@cache
def be_ready() -> None:
    """Make the typefaces known to the PDF writer, and have it write binary streams: as text they take four times as long."""
    rl_config.useA85 = 0
    for name, file in _FILES.items():
        pdfmetrics.registerFont(TTFont(name, Path(__file__).parent / "fonts" / file))
    pdfmetrics.registerFont(TTFont(_SIGNS, "Vera.ttf"))
    pdfmetrics.registerFontFamily(SANS, normal=SANS, bold=BOLD, italic=SANS, boldItalic=BOLD)


def _has(font: str, sign: str) -> bool:
    return ord(sign) in pdfmetrics.getFont(font).face.charToGlyph


def plain(words: str) -> str:
    """The words in signs that some typeface here has: what readers find in a PDF of them."""
    be_ready()
    said = "".join(_PLAIN.get(sign, sign) for sign in words)
    return "".join(sign if _has(SANS, sign) or _has(_SIGNS, sign) else _UNKNOWN for sign in said)


def runs(words: str, font: str) -> Iterator[tuple[str, str]]:
    """The words in pieces, each with the typeface that has all its signs."""
    said = plain(words)
    for own, signs in groupby(said, key=lambda sign: _has(font, sign)):
        yield (font if own else _SIGNS), "".join(signs)


def marked_up(words: str, font: str) -> str:
    """The words as markup of a paragraph set in ``font``."""
    return "".join(
        escape(piece) if name == font else f'<font name="{name}">{escape(piece)}</font>'
        for name, piece in runs(words, font)
    )


def draw(canvas: Canvas, words: str, x: float, y: float, font: str, size: float, anchor: str) -> None:
    """Words on a base line from ``x``, around it or up to it; in points."""
    pieces = [(name, piece, pdfmetrics.stringWidth(piece, name, size)) for name, piece in runs(words, font)]
    width = sum(wide for _, _, wide in pieces)
    x -= {"start": 0.0, "middle": width / 2, "end": width}[anchor]
    for name, piece, wide in pieces:
        canvas.setFont(name, size)
        canvas.drawString(x, y, piece)
        x += wide
