"""What instruments or the tester said about battery, card, warmth and room at a moment of the day."""

from __future__ import annotations

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models
from django.utils import timezone

from yellowjacket.bench.models.register import Body
from yellowjacket.bench.models.sittings import Shot, Sitting


class Conditions(models.Model):
    """One note. Empty fields were not looked at.

    ``at`` is this computer's clock for what a tester noted, and the body's own clock (marked UTC, as files have
    no zone) for what the simulated instruments said.
    """

    class Source(models.TextChoices):
        NOTED = "noted", "noted by hand"
        INSTRUMENT = "instrument", "simulated instruments"

    class Warmth(models.TextChoices):
        __empty__ = "–"
        COOL = "cool", "cool"
        WARM = "warm", "warm"
        HOT = "hot", "too hot to hold"

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="conditions")
    body = models.ForeignKey(Body, on_delete=models.PROTECT, related_name="conditions")
    shot = models.ForeignKey(Shot, on_delete=models.SET_NULL, null=True, blank=True, related_name="conditions")
    at = models.DateTimeField(default=timezone.now)
    source = models.CharField(max_length=10, choices=Source.choices, default=Source.NOTED)
    battery_percent = models.FloatField(
        "battery %", null=True, blank=True, validators=[MinValueValidator(0), MaxValueValidator(100)]
    )
    card_gb = models.FloatField("card free, GB", null=True, blank=True, validators=[MinValueValidator(0)])
    warmth = models.CharField("body", max_length=4, choices=Warmth.choices, blank=True)
    sensor_c = models.FloatField(
        "sensor °C", null=True, blank=True, validators=[MinValueValidator(-60), MaxValueValidator(150)]
    )
    room_c = models.FloatField(
        "room °C", null=True, blank=True, validators=[MinValueValidator(-60), MaxValueValidator(70)]
    )

    class Meta:
        ordering = ["at", "id"]
        verbose_name_plural = "conditions"

    def __str__(self) -> str:
        said = [
            (self.battery_percent, "battery {:g} %"), (self.card_gb, "card {:g} GB free"), (self.sensor_c, "sensor {:g} °C"),
            (self.room_c, "room {:g} °C"),
        ]  # fmt: skip
        parts = [text.format(round(value, 1)) for value, text in said if value is not None]
        return ", ".join(parts + ([f"body {self.get_warmth_display()}"] if self.warmth else []))
