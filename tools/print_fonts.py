"""Makes the typefaces of PDF documents from the variable ones of the pages, which PDF writers do not read.

Needs ``pip install fonttools brotli``; run again after `npm run vendor` brought new fonts. What it makes is committed.
"""

from __future__ import annotations

from pathlib import Path

from fontTools.ttLib import TTFont
from fontTools.varLib import instancer

_WEB = Path(__file__).parents[1] / "src" / "yellowjacket" / "web"
_FROM, _TO = _WEB / "static" / "web" / "fonts", _WEB / "graphics" / "fonts"
_MADE = {
    "archivo-regular": ("archivo", {"wght": 400, "wdth": 100}),
    "archivo-bold": ("archivo", {"wght": 700, "wdth": 100}),
    "spline-sans-mono": ("spline-sans-mono", {"wght": 400}),
}

if __name__ == "__main__":
    _TO.mkdir(exist_ok=True)
    for name, (source, place) in _MADE.items():
        font = instancer.instantiateVariableFont(TTFont(_FROM / f"{source}.woff2"), place, static=True)
        font.flavor = None
        # A PDF tells fonts apart by this name; of a variable font every instance has the same.
        for number in (1, 4, 6):
            font["name"].setName(f"Yellowjacket-{name}", number, 3, 1, 0x409)
        # The same fonts give the same bytes.
        font["head"].modified = font["head"].created
        font.recalcTimestamp = False
        font.save(_TO / f"{name}.ttf")
