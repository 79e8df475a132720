"""What a tester notes beside the shots."""

from __future__ import annotations

from django import forms

from yellowjacket.bench.models import Conditions
from yellowjacket.web.fields import TypedNumbers


class ConditionsForm(TypedNumbers, forms.ModelForm):
    """Battery, card, warmth, temperatures, each only if it was looked at, and words."""

    text = forms.CharField(label="Note", required=False, max_length=200)

    class Meta:
        model = Conditions
        fields = ("battery_percent", "card_gb", "warmth", "sensor_c", "room_c")
        labels = {"warmth": "Body feels"}

    def refusals(self) -> str:
        """What is wrong with which field, in sentences."""
        return " ".join(f"{self[name].label}: {error}" for name, errors in self.errors.items() for error in errors)
