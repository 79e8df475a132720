"""The form of a new sitting."""

from __future__ import annotations

from typing import Any

from django import forms
from django.utils import timezone

from yellowjacket.bench.models import Body, Sitting, ToleranceProfile
from yellowjacket.bench.services.sittings import IsoLadderSpec, UseSpec
from yellowjacket.core import stops
from yellowjacket.core.ladder import Exposure
from yellowjacket.web.desk.forms import ShutterField

_MAX_USES = 4
# Uses as offered: name and megapixels; an empty size is pixel level.
_USES = (("Pixel level", None), ("Large print", 24), ("Web", 2), ("", None))
_LARGEST_USE_MP = 2000
DEFAULT_PROFILE = "Default"


class ApertureField(forms.CharField):
    """An aperture as testers write it: f/8. Cleans to the f-number."""

    def clean(self, value: object) -> float:
        """The f-number, or the sentence of the parser."""
        text = super().clean(value)
        try:
            return stops.parse_aperture(text)
        except ValueError as error:
            raise forms.ValidationError(str(error)) from error


class LadderForm(forms.Form):
    """The part that the stave is computed from."""

    body = forms.ModelChoiceField(Body.objects.all(), empty_label=None)
    metered_iso = forms.IntegerField(label="Metered at ISO", initial=100, min_value=1)
    metered_shutter = ShutterField(label="Shutter", initial="1/8")
    aperture = ApertureField(label="Aperture", initial="f/8", max_length=10)
    step = forms.ChoiceField(choices=[("full", "full stops"), ("third", "thirds")])
    repeats = forms.IntegerField(label="Frames a rung", initial=2, min_value=1, max_value=20)
    dark_repeats = forms.IntegerField(label="Darks a rung", initial=2, min_value=0, max_value=20)

    def clean_metered_iso(self) -> int:
        """Only marks that the dial has."""
        iso: int = self.cleaned_data["metered_iso"]
        if stops.mark_from_nominal(stops.ISO_MARKS, iso) is None:
            nearest = stops.iso_mark(float(iso)).label
            raise forms.ValidationError(f"ISO {iso} is not on the dial; the nearest mark is {nearest}.")
        return iso

    def spec(self) -> IsoLadderSpec:
        """The ladder as services need it; call on a valid form."""
        data = self.cleaned_data
        metered = Exposure(data["metered_iso"], data["metered_shutter"], data["aperture"])
        return IsoLadderSpec(data["body"], metered, data["step"], data["repeats"], data["dark_repeats"])


class SittingForm(LadderForm):
    """A whole new sitting."""

    name = forms.CharField(max_length=120)
    scene = forms.CharField(max_length=120, initial="specimen drawer")
    question = forms.CharField(label="What is asked?", max_length=200)
    expectation = forms.CharField(label="What do you expect?", max_length=200)
    held_on = forms.DateField(label="Day", initial=timezone.localdate, widget=forms.DateInput(attrs={"type": "date"}))
    lens = forms.CharField(max_length=120, required=False)
    light = forms.CharField(max_length=120, required=False)
    temperature_c = forms.FloatField(label="Room °C", required=False, min_value=-60, max_value=70)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for n, (name, megapixels) in enumerate(_USES[:_MAX_USES]):
            self.fields[f"use_name_{n}"] = forms.CharField(
                max_length=60, required=False, initial=name, label=f"use {n + 1}",
                widget=forms.TextInput(attrs={"aria-label": f"Use {n + 1}, name"}),
            )  # fmt: skip
            self.fields[f"use_mp_{n}"] = forms.FloatField(
                required=False, initial=megapixels, min_value=0.01, max_value=_LARGEST_USE_MP, label=f"use {n + 1}, MP",
                widget=forms.NumberInput(attrs={"aria-label": f"Use {n + 1}, megapixels"}),
            )  # fmt: skip

    @property
    def use_rows(self) -> list[tuple[forms.BoundField, forms.BoundField]]:
        """Name and size fields side by side."""
        return [(self[f"use_name_{n}"], self[f"use_mp_{n}"]) for n in range(_MAX_USES)]

    def clean(self) -> dict[str, Any]:
        """At least one use, each named once."""
        data = super().clean() or self.cleaned_data
        names = [use.name.casefold() for use in self._uses(data)]
        if not names:
            self.add_error("use_name_0", "Name at least one use, for instance “Large print”.")
        if len(set(names)) < len(names):
            self.add_error("use_name_0", "Two uses have the same name.")
        return data

    @staticmethod
    def _uses(data: dict[str, Any]) -> list[UseSpec]:
        found = []
        for n in range(_MAX_USES):
            name, megapixels = (data.get(f"use_name_{n}") or "").strip(), data.get(f"use_mp_{n}")
            if name:
                found.append(UseSpec(name, round(megapixels * 1e6) if megapixels else None))
        return found

    def uses(self) -> list[UseSpec]:
        """Uses as services need them; call on a valid form."""
        return self._uses(self.cleaned_data)

    def sitting(self) -> Sitting:
        """The unsaved sitting; call on a valid form."""
        data = self.cleaned_data
        profile, _ = ToleranceProfile.objects.get_or_create(name=DEFAULT_PROFILE)
        names = ("name", "scene", "question", "expectation", "held_on", "lens", "light", "temperature_c")
        return Sitting(profile=profile, **{name: data[name] for name in names})
