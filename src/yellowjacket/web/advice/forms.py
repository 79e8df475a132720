"""What is asked of the advice: body, use, aperture, shutter, light, warmth."""

from __future__ import annotations

import math
from typing import Any

from django import forms

from yellowjacket.bench.models import Body, Ladder, Use
from yellowjacket.core.advice import ev100_of_lux, iso_for
from yellowjacket.core.tolerance import LEVELS
from yellowjacket.web.desk.forms import ShutterField
from yellowjacket.web.plan.forms import ApertureField

ISO, EV, LUX = "iso", "ev", "lux"
_LIGHTS = ((ISO, "the ISO a meter asks for"), (EV, "EV at ISO 100"), (LUX, "lux on the subject"))
_MOST_ISO = 3_276_800


def _same(use: Use) -> tuple[object, ...]:
    """What makes uses of two sittings the same."""
    return use.name, use.whole_frame_pixels, use.monochrome


class AdviceForm(forms.Form):
    """One picture that is still to be taken."""

    body = forms.ModelChoiceField(Body.objects.all(), label="Body", empty_label=None)
    use = forms.ModelChoiceField(Use.objects.none(), label="For", empty_label=None)
    aperture = ApertureField(label="Aperture I need", initial="f/8")
    shutter = ShutterField(label="Shutter I need", initial="1/125 s")
    light = forms.ChoiceField(choices=_LIGHTS, label="Light, as", initial=ISO)
    amount = forms.FloatField(label="and that is", initial=6400)
    celsius = forms.FloatField(label="Sensor, °C", min_value=-40, max_value=70, required=False)
    level = forms.ChoiceField(choices=[(one, one) for one in LEVELS], label="At least", initial="usable")

    def __init__(self, data: Any = None, *, body: Body | None, **kwargs: Any) -> None:
        found = Use.objects.filter(sitting__ladders__body=body, sitting__ladders__kind=Ladder.Kind.ISO)
        newest: dict[tuple[object, ...], int] = {}
        for use in found.order_by("sitting__held_on", "pk").distinct():
            newest[_same(use)] = use.pk
        if data is not None:
            # An address that was kept may name the same use of an older sitting.
            named = found.filter(pk=data["use"]).first() if str(data.get("use", "")).isdigit() else None
            if named is not None:
                data = {**data.dict(), "use": newest[_same(named)]} if hasattr(data, "dict") else data
        super().__init__(data, **kwargs)
        uses = Use.objects.filter(pk__in=newest.values()).order_by("position")
        self.fields["use"].queryset = uses  # type: ignore[attr-defined]

    @property
    def wanted_iso(self) -> float:
        """The ISO at which aperture and shutter expose correctly. Raises ValueError for light that cannot be."""
        data = self.cleaned_data
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
        if not 1 <= wanted <= _MOST_ISO:
            raise ValueError(f"these ask for ISO {wanted:.3g}, which no body has: change aperture, shutter or light")
        return wanted
