"""Bodies and tolerance profiles: what outlives a sitting."""

from __future__ import annotations

import math

from django.core.exceptions import ValidationError
from django.db import models

from yellowjacket.core.limits.tolerance import Profile, profile_from
from yellowjacket.core.planning.body_limits import BodyLimits
from yellowjacket.core.planning.timeline import Supply


class Body(models.Model):
    """A camera body and what its dial has. Times in seconds, ISO as printed."""

    class IsoStep(models.TextChoices):
        FULL = "full", "full stops"
        THIRD = "third", "thirds"
        EVERY = "every", "the marks listed"

    class Ownership(models.TextChoices):
        OWN = "own", "own"
        LENT = "lent", "lent"

    make = models.CharField(max_length=80)
    model = models.CharField(max_length=80)
    serial = models.CharField(max_length=80, blank=True)
    pixel_width = models.PositiveIntegerField()
    pixel_height = models.PositiveIntegerField()
    lowest_iso = models.PositiveIntegerField()
    highest_iso = models.PositiveIntegerField()
    native_lowest_iso = models.PositiveIntegerField()
    native_highest_iso = models.PositiveIntegerField()
    fastest_shutter_s = models.FloatField()
    slowest_shutter_s = models.FloatField(default=30.0)
    nickname = models.CharField(max_length=40, blank=True)
    sensor_width_mm = models.FloatField("sensor width, mm", null=True, blank=True)
    sensor_height_mm = models.FloatField("sensor height, mm", null=True, blank=True)
    iso_step = models.CharField(max_length=8, choices=IsoStep.choices, default=IsoStep.THIRD)
    # Only for IsoStep.EVERY: the marks as printed.
    iso_list = models.JSONField(default=list, blank=True)
    electronic_fastest_s = models.FloatField(null=True, blank=True)
    bulb = models.BooleanField(default=True)
    lenr_from_s = models.FloatField(null=True, blank=True, default=1.0)
    lenr_switchable = models.BooleanField(default=True)
    # What is inside, where it is known: bodies of one sensor are grouped by it.
    sensor = models.CharField(
        max_length=60,
        blank=True,
        help_text="Bodies of the same sensor are grouped by this name when they are compared.",
    )
    # [{"name", "width", "height", "bits"}], the full mode first.
    raw_modes = models.JSONField(default=list, blank=True)
    frame_mb = models.FloatField("raw file, MB", null=True, blank=True)
    battery_minutes = models.FloatField(null=True, blank=True)
    battery_frames = models.PositiveIntegerField(null=True, blank=True)
    ownership = models.CharField(max_length=8, choices=Ownership.choices, default=Ownership.OWN)
    production_unit = models.BooleanField(default=True)
    price = models.CharField(max_length=40, blank=True)
    weight_g = models.PositiveIntegerField("weight, g", null=True, blank=True)
    # How settings are reached on this body, in the tester's words.
    setting_notes = models.TextField(blank=True, max_length=2000)
    # Key of the simulated body that stands in for this one; empty for a real body.
    simulated_as = models.CharField(max_length=40, blank=True)

    class Meta:
        ordering = ["make", "model", "serial"]
        constraints = [
            models.UniqueConstraint(fields=["make", "model", "serial"], name="body_once"),
            models.CheckConstraint(
                condition=models.Q(lowest_iso__lte=models.F("native_lowest_iso"))
                & models.Q(native_lowest_iso__lte=models.F("native_highest_iso"))
                & models.Q(native_highest_iso__lte=models.F("highest_iso")),
                name="body_iso_in_order",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.make} {self.model}"

    @property
    def pixel_pitch_um(self) -> float | None:
        """Pixel pitch in µm, from sensor width and pixel count."""
        return 1000 * self.sensor_width_mm / self.pixel_width if self.sensor_width_mm else None

    @property
    def crop_factor(self) -> float | None:
        """Diagonal of 36 × 24 mm over the sensor's."""
        if not (self.sensor_width_mm and self.sensor_height_mm):
            return None
        return math.hypot(36, 24) / math.hypot(self.sensor_width_mm, self.sensor_height_mm)

    def clean(self) -> None:
        """ISO marks must rise: lowest, native lowest, native highest, highest."""
        marks = [self.lowest_iso, self.native_lowest_iso, self.native_highest_iso, self.highest_iso]
        if None not in marks and marks != sorted(marks):
            raise ValidationError(
                "ISO marks must not fall in the order lowest, native lowest, native highest, highest; "
                "without extended marks the native ones equal the outer ones."
            )

    @property
    def pixels(self) -> int:
        """Pixel count of the full picture."""
        return self.pixel_width * self.pixel_height

    @property
    def limits(self) -> BodyLimits:
        """The dial, as planning needs it."""
        return BodyLimits(
            self.lowest_iso, self.highest_iso, self.native_lowest_iso, self.native_highest_iso,
            self.fastest_shutter_s, self.slowest_shutter_s, self.iso_step, tuple(self.iso_list), self.bulb,
            self.lenr_from_s, self.lenr_switchable, self.pixel_pitch_um, self.crop_factor,
            tuple(mode["name"] for mode in self.raw_modes),
        )  # fmt: skip

    @property
    def supply(self) -> Supply:
        """Card and battery use, as the schedule needs it."""
        return Supply(self.frame_mb, self.battery_minutes, self.battery_frames, self.lenr_from_s)


class Firmware(models.Model):
    """A firmware version of a body and since when it was on it."""

    body = models.ForeignKey(Body, on_delete=models.CASCADE, related_name="firmware_versions")
    version = models.CharField(max_length=80)
    since = models.DateField()

    class Meta:
        ordering = ["since"]
        constraints = [models.UniqueConstraint(fields=["body", "version"], name="firmware_once_per_body")]

    def __str__(self) -> str:
        return f"{self.body} {self.version}"


class Lens(models.Model):
    """A lens, as far as its aperture limits and contacts matter."""

    name = models.CharField(max_length=120, unique=True)
    focal_length_mm = models.FloatField("focal length, mm", null=True, blank=True)
    widest_f = models.FloatField("widest aperture, f/", null=True, blank=True)
    narrowest_f = models.FloatField("narrowest aperture, f/", null=True, blank=True)
    # Without contacts the file knows no aperture: the plan's own entry stands.
    contacts = models.BooleanField("electronic contacts", default=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class ToleranceProfile(models.Model):
    """A tester's own thresholds; criteria that are not named keep the defaults."""

    name = models.CharField(max_length=80, unique=True)
    thresholds = models.JSONField(default=dict, blank=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    def clean(self) -> None:
        """Thresholds must be known and in order."""
        try:
            profile_from(self.name, self.thresholds)
        except ValueError as error:
            raise ValidationError({"thresholds": str(error)}) from error

    @property
    def criteria(self) -> Profile:
        """The profile as limits need it."""
        return profile_from(self.name, self.thresholds)
