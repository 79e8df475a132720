"""Form fields for exposure as testers write it."""

from __future__ import annotations

from django import forms

from yellowjacket.core.exposure import notation


class ShutterField(forms.CharField):
    """An exposure time as testers write it: 1/8000, 30 s, 2 min. Cleans to seconds, or None when not required."""

    def __init__(self, **options: object) -> None:
        super().__init__(max_length=20, **options)  # type: ignore[arg-type]

    def clean(self, value: object) -> float | None:
        """Seconds, or the sentence of the parser."""
        text = super().clean(value)
        if not text and not self.required:
            return None
        try:
            return notation.parse_shutter(text)
        except ValueError as error:
            raise forms.ValidationError(str(error)) from error

    def prepare_value(self, value: object) -> object:
        """Seconds back to the printed mark."""
        return notation.shutter_label(value) if isinstance(value, float) else value


class ApertureField(forms.CharField):
    """An aperture as testers write it: f/8. Cleans to the f-number."""

    def clean(self, value: object) -> float:
        """The f-number, or the sentence of the parser."""
        text = super().clean(value)
        try:
            return notation.parse_aperture(text)
        except ValueError as error:
            raise forms.ValidationError(str(error)) from error


class SecondsField(ShutterField):
    """A time as testers write it: 1 s, 16 min."""
