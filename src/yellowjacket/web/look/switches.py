"""What is set on the Look pages: size, brightness, white balance, push, developer, rows. All of it lives in the URL."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from django.http import HttpRequest

from yellowjacket.bench.development import Switches
from yellowjacket.bench.look.grades import View
from yellowjacket.bench.models import Grade, Use
from yellowjacket.bench.typed import decimal
from yellowjacket.core.limits.output_size import preview_scale, use_noise_factor
from yellowjacket.core.rendering.develop import DEVELOPERS, PLAIN

USE, PRINT = "use", "print"
SIZES = (USE, "100", "200", "300", PRINT)
SIZE_WORDS = {USE: "use", "100": "100 %", "200": "200 %", "300": "300 %", PRINT: "as printed"}
ONE, LADDERS, SPOTS = "one", "ladders", "spots"
ROWS = (ONE, LADDERS, SPOTS)
SURROUNDS = ("mid", "dark", "light")
MOST_PUSH, _MOST_SLIDE = 6, 10
# What a screen usually has, until the tester says what theirs has.
_SCREEN_PPI, _SCREEN_CM = 110.0, 60.0
_SCREEN_KEYS = ("screen_ppi", "screen_cm")


@dataclass(frozen=True, slots=True)
class Looking:
    """The switches of a Look page. ``slide``: by how many stops the other ladders stand higher; ``steps``: of the scale."""

    size: str = "100"
    equalised: bool = True
    balanced: bool = True
    push: int = 0
    developer: str = PLAIN
    rows: str = ONE
    slide: float = 0.0
    alike: bool = False
    aligned: bool = False
    steps: int = 5
    surround: str = SURROUNDS[0]
    screen_ppi: float = _SCREEN_PPI
    screen_cm: float = _SCREEN_CM

    @classmethod
    def of(cls, request: HttpRequest) -> Looking:
        """As the URL and, for the screen, the session have it; what is no choice falls back to the usual."""
        said = request.GET

        def choice(name: str, allowed: tuple[str, ...], usual: str) -> str:
            return said.get(name, usual) if said.get(name) in allowed else usual

        return cls(
            choice("size", SIZES, "100"), said.get("brightness") != "as-shot", said.get("balance") != "file",
            _whole(said.get("push"), MOST_PUSH), choice("developer", DEVELOPERS, PLAIN), choice("rows", ROWS, ONE),
            _stops(said.get("slide"), _MOST_SLIDE), said.get("alike") == "yes", said.get("aligned") == "yes",
            3 if said.get("steps") == "3" else 5, choice("surround", SURROUNDS, SURROUNDS[0]),
            *(float(request.session.get(key, usual)) for key, usual in zip(
                _SCREEN_KEYS, (_SCREEN_PPI, _SCREEN_CM), strict=True)),
        )  # fmt: skip

    def switches(self, use: Use) -> Switches:
        """For the development of a frame."""
        return Switches(self.equalised, self.balanced, float(self.push), self.developer, use.monochrome)

    @property
    def percent(self) -> int:
        """Magnification, 0 at a use's size."""
        return int(self.size) if self.size.isdecimal() else 0

    def view(self, moved_stops: float | None) -> View:
        """What is stored with a grade."""
        seen = Grade.Seen.ALONE if self.rows == ONE else Grade.Seen.BESIDE
        return View(self.percent, self.equalised, moved_stops, float(self.push), self.developer, seen)

    def scale(self, use: Use, picture_pixels: int, finer: float = 1.0) -> tuple[float, float]:
        """(sensor pixels averaged to a picture pixel's side, screen pixels for one): never both above one.

        ``picture_pixels``: of the body; ``finer``: pixels of this picture for one of the row that has fewest.
        """
        if self.percent:
            return max(finer, 1.0), self.percent / 100
        factor, _ = use_noise_factor(picture_pixels, use.whole_frame_pixels)
        if self.size == USE:
            return factor, 1.0
        shown = preview_scale(use.view, self.screen_ppi, self.screen_cm) / factor
        return (1 / shown, 1.0) if shown < 1 else (1.0, shown)


def keep_screen(request: HttpRequest, said: Mapping[str, str]) -> bool:
    """Remember resolution and distance of the tester's screen; False for what no screen has."""
    values = [decimal(said.get(key), least, 1000) for key, least in zip(_SCREEN_KEYS, (30, 10), strict=True)]
    if None in values:
        return False
    for key, value in zip(_SCREEN_KEYS, values, strict=True):
        request.session[key] = value
    return True


def _stops(text: str | None, most: int) -> float:
    """As far as two rungs may lie apart, thirds and halves alike."""
    stops = decimal(text, -most, most)
    return 0.0 if stops is None else round(stops, 2)


def _whole(text: str | None, most: int) -> int:
    try:
        return max(-most, min(most, int(text or "0")))
    except ValueError:
        return 0
