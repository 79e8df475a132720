"""What is asked of the advice: body, use, aperture, shutter, light, warmth."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from django import forms

from yellowjacket.bench.models import Body, Ladder, Use
from yellowjacket.bench.typed import identity
from yellowjacket.core.colour.colorimetry import KELVIN_RANGE
from yellowjacket.core.exposure import dial, notation
from yellowjacket.core.limits.exposure_advice import ev100_of_lux, iso_for
from yellowjacket.core.limits.tolerance import LEVELS
from yellowjacket.web.fields import ApertureField, RowField, ShutterField, TypedNumbers

ISO, EV, LUX = "iso", "ev", "lux"
_LIGHTS = ((ISO, "the ISO a meter asks for"), (EV, "EV at ISO 100"), (LUX, "lux on the subject"))
_MOST_ISO = 3_276_800
# So far the sliders move, stops.
_WHAT_IF = 4.0


def _same(use: Use) -> tuple[object, ...]:
    """What makes uses of two sittings the same."""
    return use.name, use.whole_frame_pixels, use.monochrome


def _chosen(uses: Sequence[Use], named: int | None) -> Use | None:
    """The use that is named; an address that was kept may name the same use of another sitting."""
    here = next((use for use in uses if use.pk == named), None)
    if here is None and (other := Use.objects.filter(pk=named or 0).first()) is not None:
        here = next((use for use in uses if _same(use) == _same(other)), None)
    return here or next(iter(uses), None)


class _Slider(forms.NumberInput):
    input_type = "range"


class StopsSlider(forms.FloatField):
    """What if: by how many stops something is moved, in thirds. Empty is not at all."""

    def __init__(self, label: str, fewer: str, more: str) -> None:
        widget = _Slider(attrs={"step": f"{1 / 3:.7f}", "data-stops": f"{fewer}|{more}"})
        super().__init__(
            label=label, min_value=-_WHAT_IF, max_value=_WHAT_IF, initial=0.0, required=False, widget=widget
        )

    def clean(self, value: Any) -> float:
        """Stops, rounded to thirds."""
        return round(3 * (super().clean(value) or 0.0)) / 3


class AdviceForm(TypedNumbers, forms.Form):
    """One picture that is still to be taken."""

    body = RowField(label="Body")
    use = RowField(label="For")
    aperture = ApertureField(label="Aperture I need", initial="f/8")
    shutter = ShutterField(label="Shutter I need", initial="1/125 s")
    light = forms.ChoiceField(choices=_LIGHTS, label="Light, as", initial=ISO)
    amount = forms.FloatField(label="and that is", initial=6400)
    celsius = forms.FloatField(label="Sensor, °C", min_value=-40, max_value=70, required=False)
    kelvin = forms.FloatField(
        label="Colour of the light, K", min_value=KELVIN_RANGE[0], max_value=KELVIN_RANGE[1], required=False
    )
    level = forms.ChoiceField(choices=[(one, one) for one in LEVELS], label="At least", initial="usable")
    iso = forms.IntegerField(label="And if I set ISO", min_value=1, max_value=_MOST_ISO, required=False)
    aperture_stops = StopsSlider("What if: aperture", "wider", "smaller")
    shutter_stops = StopsSlider("What if: shutter", "slower", "faster")
    light_stops = StopsSlider("What if: light", "less", "more")

    def __init__(self, data: Any = None, *, ladder: Ladder, bodies: Sequence[Body], **kwargs: Any) -> None:
        """``ladder``: which speaks for the body, one of ``bodies``; the uses are those of its sitting."""
        uses = list(ladder.sitting.uses.all())
        if data is not None:
            chosen = _chosen(uses, identity(data.get("use")))
            data = {**(data.dict() if hasattr(data, "dict") else data), "use": chosen.pk if chosen else ""}
        super().__init__(data, **kwargs)
        self.fields["body"].offer(bodies)  # type: ignore[attr-defined]
        self.fields["use"].offer(uses)  # type: ignore[attr-defined]

    @property
    def exposure_s(self) -> float:
        """The shutter with what it is moved by."""
        return float(self.cleaned_data["shutter"] * 2.0 ** -self.cleaned_data["shutter_stops"])

    @property
    def setting(self) -> str:
        """Aperture and shutter as moved, as the trade writes them."""
        moved = self.cleaned_data["aperture"] * 2.0 ** (self.cleaned_data["aperture_stops"] / 2)
        return f"{dial.aperture_mark(moved).label}, {notation.shutter_label(self.exposure_s)}"

    @property
    def wanted_iso(self) -> float:
        """The ISO at which aperture and shutter, as moved, expose correctly. Raises ValueError for light that cannot be."""
        data = self.cleaned_data
        moved = data["aperture_stops"] + data["shutter_stops"] - data["light_stops"]
        amount: float = data["amount"]
        if not math.isfinite(amount):
            raise ValueError("the light must be a number")
        if data["light"] == ISO:
            wanted = amount
        else:
            ev = ev100_of_lux(amount) if data["light"] == LUX else amount
            if abs(ev) > 40:
                raise ValueError("no light on Earth has such an EV: −10 is starlight, 16 full sun on snow")
            wanted = iso_for(data["aperture"], data["shutter"], ev)
        wanted *= 2.0**moved
        if not 1 <= wanted <= _MOST_ISO:
            raise ValueError(f"these ask for ISO {wanted:.3g}, which no body has: change aperture, shutter or light")
        return wanted
