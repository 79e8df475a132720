"""Forms of the desk."""

from __future__ import annotations

from django import forms

from yellowjacket.bench.models import Body
from yellowjacket.core import stops


class ShutterField(forms.CharField):
    """An exposure time as testers write it: 1/8000, 30 s, 2 min. Cleans to seconds."""

    def __init__(self, **options: object) -> None:
        super().__init__(max_length=20, **options)  # type: ignore[arg-type]

    def clean(self, value: object) -> float:
        """Seconds, or the sentence of the parser."""
        text = super().clean(value)
        try:
            return stops.parse_shutter(text)
        except ValueError as error:
            raise forms.ValidationError(str(error)) from error

    def prepare_value(self, value: object) -> object:
        """Seconds back to the printed mark."""
        return stops.shutter_label(value) if isinstance(value, float) else value


class BodyForm(forms.ModelForm):
    """A body's name plate and dial."""

    fastest_shutter_s = ShutterField(label="Fastest shutter", initial="1/8000")
    slowest_shutter_s = ShutterField(label="Slowest shutter", initial="30 s")

    class Meta:
        model = Body
        fields = (
            "make", "model", "serial", "pixel_width", "pixel_height", "lowest_iso", "native_lowest_iso",
            "native_highest_iso", "highest_iso", "fastest_shutter_s", "slowest_shutter_s",
        )  # fmt: skip
        labels = {
            "pixel_width": "Pixels across", "pixel_height": "Pixels down", "lowest_iso": "Lowest ISO",
            "native_lowest_iso": "Lowest native ISO", "native_highest_iso": "Highest native ISO",
            "highest_iso": "Highest ISO",
        }  # fmt: skip
        help_texts = {
            "serial": "Leave empty to accept frames of any serial number.",
            "lowest_iso": "Extended marks included.",
        }
