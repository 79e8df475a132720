"""Form fields for exposure as testers write it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from django import forms
from django.db.models import Model

from yellowjacket.core.exposure import notation

_DECIMAL_COMMA = re.compile(r"^([+-]?[0-9]+),([0-9]+)$", re.ASCII)


class TypedNumber(forms.NumberInput):
    """A number as it is typed. Browsers drop what they do not understand from number inputs without a word: “1oo” becomes 1 and
    “20,5” becomes 205; a text input keeps it, a decimal comma counts, and the rest is refused."""

    input_type = "text"

    def value_from_datadict(self, data: Mapping[str, Any], files: Any, name: str) -> Any:
        """What was typed, with a point and a plain sign."""
        value = data.get(name)
        if not isinstance(value, str):
            return value
        return _DECIMAL_COMMA.sub(r"\1.\2", value.strip().replace("−", "-"))


class TypedNumbers(forms.BaseForm):
    """A form whose numbers are typed as text."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for field in self.fields.values():
            if type(field.widget) is forms.NumberInput:
                kept = {name: value for name, value in field.widget.attrs.items() if name not in ("min", "max", "step")}
                field.widget = TypedNumber({**kept, "inputmode": "decimal"})


class RowField(forms.ChoiceField):
    """One of rows that are at hand: they are not asked of the database for every time the field is looked at."""

    def offer(self, rows: Sequence[Model]) -> None:
        """The rows to choose from, each named as it calls itself."""
        self._rows = {str(row.pk): row for row in rows}
        self.choices = [(key, str(row)) for key, row in self._rows.items()]

    def clean(self, value: Any) -> Any:
        """The row itself."""
        return self._rows[super().clean(value)]


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
