"""A sitting: one scene, one light, one place and day; its uses, ladders, rungs and shots."""

from __future__ import annotations

from django.db import models

from yellowjacket.bench.models.register import Body, ToleranceProfile
from yellowjacket.core import stops
from yellowjacket.core.ladder import Exposure


class Sitting(models.Model):
    """One scene, one light, one place and day. States its question; the record answers it."""

    name = models.CharField(max_length=120)
    scene = models.CharField(max_length=120)
    question = models.CharField("asked", max_length=200)
    expectation = models.CharField("expected", max_length=200)
    held_on = models.DateField()
    lens = models.CharField(max_length=120, blank=True)
    light = models.CharField(max_length=120, blank=True)
    temperature_c = models.FloatField("room °C", null=True, blank=True)
    profile = models.ForeignKey(ToleranceProfile, on_delete=models.PROTECT, related_name="sittings")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-held_on", "-id"]

    def __str__(self) -> str:
        return self.name


class Use(models.Model):
    """What pictures are for: an output pixel count, or none for pixel level."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="uses")
    position = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=60)
    output_pixels = models.PositiveBigIntegerField(null=True, blank=True)

    class Meta:
        ordering = ["position"]
        constraints = [models.UniqueConstraint(fields=["sitting", "name"], name="use_once_per_sitting")]

    def __str__(self) -> str:
        return self.name

    @property
    def size_text(self) -> str:
        """ "24 MP", or "each pixel"."""
        return "each pixel" if self.output_pixels is None else f"{self.output_pixels / 1e6:g} MP"


class Ladder(models.Model):
    """A run of rungs of one kind on one body, everything else held still."""

    class Kind(models.TextChoices):
        ISO = "iso", "ISO"

    class Method(models.TextChoices):
        SHUTTER = "shutter", "by shutter"

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="ladders")
    body = models.ForeignKey(Body, on_delete=models.PROTECT, related_name="ladders")
    kind = models.CharField(max_length=12, choices=Kind.choices, default=Kind.ISO)
    method = models.CharField(max_length=12, choices=Method.choices, default=Method.SHUTTER)
    metered_iso = models.PositiveIntegerField()
    metered_exposure_s = models.FloatField()
    f_number = models.FloatField()
    # Where crops are cut, centre in raw pixels; null until somebody chose a spot.
    spot_x = models.PositiveIntegerField(null=True, blank=True)
    spot_y = models.PositiveIntegerField(null=True, blank=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} · {self.body.model}"


class Rung(models.Model):
    """One step of a ladder: its settings as printed on the dial."""

    ladder = models.ForeignKey(Ladder, on_delete=models.CASCADE, related_name="rungs")
    position = models.PositiveSmallIntegerField()
    iso = models.PositiveIntegerField()
    exposure_s = models.FloatField()
    rounding_stops = models.FloatField(default=0.0)
    extended = models.BooleanField(default=False)
    short_by_stops = models.FloatField(default=0.0)
    warnings = models.JSONField(default=list)
    # Digest of what the readings were made from; the same inputs are never measured twice.
    measured_inputs = models.CharField(max_length=64, blank=True)

    class Meta:
        ordering = ["position"]
        constraints = [models.UniqueConstraint(fields=["ladder", "position"], name="rung_once_per_ladder")]

    def __str__(self) -> str:
        return f"ISO {self.iso}"

    @property
    def shutter_label(self) -> str:
        """ "1/60 s"."""
        return stops.shutter_label(self.exposure_s)

    def exposure(self, f_number: float) -> Exposure:
        """Settings as the core knows them."""
        return Exposure(self.iso, self.exposure_s, f_number)


class Shot(models.Model):
    """One release asked for by the plan: a repeat of a rung, light or dark."""

    class Kind(models.TextChoices):
        LIGHT = "light", "light"
        DARK = "dark", "dark"

    rung = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="shots")
    kind = models.CharField(max_length=8, choices=Kind.choices)
    repeat = models.PositiveSmallIntegerField()

    class Meta:
        ordering = ["-kind", "rung__position", "repeat"]
        constraints = [models.UniqueConstraint(fields=["rung", "kind", "repeat"], name="shot_once_per_rung")]

    def __str__(self) -> str:
        return f"{self.rung} {self.kind} {self.repeat}"
