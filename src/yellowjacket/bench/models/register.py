"""Bodies and tolerance profiles: what outlives a sitting."""

from __future__ import annotations

from django.core.exceptions import ValidationError
from django.db import models

from yellowjacket.core.planning import BodyLimits
from yellowjacket.core.tolerance import Profile, profile_from


class Body(models.Model):
    """A camera body and what its dial has. Times in seconds, ISO as printed."""

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
            self.fastest_shutter_s, self.slowest_shutter_s,
        )  # fmt: skip


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
