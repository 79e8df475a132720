"""The form of the night planner: plain words in, a NightSpec out."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django import forms
from django.utils import timezone

from yellowjacket.bench.models import Body
from yellowjacket.core.darks.night_plan import CARES, DARKS, PURPOSES, STACK, NightSpec
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.web.fields import TypedNumbers


class NightForm(TypedNumbers, forms.Form):
    """What is wanted of a night. Everything but time and exposure may be left empty."""

    body = forms.ModelChoiceField(Body.objects.all(), required=False, empty_label="any body")
    begins = forms.DateTimeField(
        label="Begins", widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M")
    )
    hours = forms.FloatField(label="Hours to spare", min_value=0.02, max_value=24)
    exposure_s = forms.FloatField(label="Exposure, s", min_value=0.125, max_value=14_400)
    iso = forms.IntegerField(label="ISO", min_value=1, max_value=10_000_000, required=False)
    frames = forms.IntegerField(label="Frames", min_value=1, max_value=20_000, required=False)
    purpose = forms.ChoiceField(label="For", choices=[(one, one) for one in PURPOSES])
    care = forms.ChoiceField(label="Against hot pixels", choices=[(one, one) for one in CARES])
    darks = forms.IntegerField(label="Darks", min_value=1, max_value=500, required=False)
    gap_s = forms.FloatField(label="Gap between frames, s", min_value=0, max_value=600)
    begin_c = forms.FloatField(label="Air at the beginning, °C", min_value=-40, max_value=50, required=False)
    end_c = forms.FloatField(label="Air at the end, °C", min_value=-40, max_value=50, required=False)
    battery_minutes = forms.FloatField(label="A battery lasts, min", min_value=1, max_value=10_000, required=False)
    batteries = forms.IntegerField(label="Batteries", min_value=1, max_value=50)
    card_gb = forms.FloatField(label="Card, GB", min_value=0.1, max_value=100_000, required=False)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        # What an empty field means stands in it.
        for name, words in (("frames", "all that fit"), ("darks", "as needed")):
            self.fields[name].widget.attrs["placeholder"] = words

    @classmethod
    def initial_values(cls, body: Body | None) -> dict[str, object]:
        """What the form begins with: this evening, and what the register knows of the body."""
        evening = timezone.localtime().replace(hour=22, minute=0, second=0, microsecond=0, tzinfo=None)
        return {
            "body": body.pk if body else "", "begins": evening.strftime("%Y-%m-%dT%H:%M"), "hours": 3, "exposure_s": 60,
            "iso": 800, "frames": 60, "purpose": STACK, "care": DARKS, "gap_s": 2, "begin_c": 16, "end_c": 12,
            "battery_minutes": f"{body.battery_minutes:g}" if body and body.battery_minutes else "",
            "batteries": 2, "card_gb": 64,
        }  # fmt: skip

    @property
    def begins_at(self) -> datetime:
        """Clock time of the beginning, without a zone."""
        begins: datetime = self.cleaned_data["begins"]
        return timezone.make_naive(begins) if timezone.is_aware(begins) else begins

    def spec(self, dark_share: float, lenr_noise: Quantity | None = None) -> NightSpec:
        """The night as the core plans it; ``dark_share`` of a frame's variance, read noise and dark signal together,
        ``lenr_noise``: noise with LENR over that without, as measured."""
        data = self.cleaned_data
        body: Body | None = data["body"]
        return NightSpec(
            timedelta(hours=data["hours"]).total_seconds(), data["exposure_s"], data["frames"], data["purpose"], data["care"],
            data["gap_s"], data["darks"], dark_share, data["begin_c"], data["end_c"], data["battery_minutes"],
            data["batteries"], data["card_gb"], body.frame_mb if body else None, body.lenr_from_s if body else 1.0,
            lenr_noise,
        )  # fmt: skip
