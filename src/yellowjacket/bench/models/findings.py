"""Patches and readings."""

from __future__ import annotations

from django.db import models

from yellowjacket.bench.models.queries.readings import ReadingQuerySet
from yellowjacket.bench.models.sittings import Ladder, Rung, Use
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import PatchSpec


class Patch(models.Model):
    """A named rectangle on every frame of a ladder, in raw pixels."""

    class Role(models.TextChoices):
        GREY = "grey", "grey"
        SHADOW = "shadow", "shadow"
        BLACK = "black", "black"
        HIGHLIGHT = "highlight", "highlight"
        FIELD = "field", "field"
        COLOUR = "colour", "colour"
        WEDGE = "wedge", "wedge step"
        TEXTURE = "texture", "texture"
        COLOUR_TEXTURE = "colour_texture", "coloured texture"
        OTHER = "other", "own patch"

    ladder = models.ForeignKey(Ladder, on_delete=models.CASCADE, related_name="patches")
    name = models.CharField(max_length=40)
    role = models.CharField(max_length=16, choices=Role.choices)
    x = models.PositiveIntegerField()
    y = models.PositiveIntegerField()
    w = models.PositiveIntegerField()
    h = models.PositiveIntegerField()
    # Of a wedge's steps: how many stops each is darker than the one before.
    step_stops = models.FloatField(default=1.0)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["ladder", "name"], name="patch_once_per_ladder")]

    def __str__(self) -> str:
        return self.name

    @property
    def rect(self) -> Rect:
        """Its place."""
        return Rect(self.x, self.y, self.w, self.h)

    @property
    def grip(self) -> tuple[int, int, int]:
        """x, y and side of the square at the lower right corner that resizes the patch on the picture."""
        side = max(8, min(self.w, self.h) // 4)
        return self.x + self.w - side, self.y + self.h - side, side

    @property
    def spec(self) -> PatchSpec:
        """The patch as measuring needs it."""
        return PatchSpec(self.name, self.role, self.rect, self.step_stops)


class Reading(models.Model):
    """One quantity of a rung with its 95 % interval, or the reason why it has no value."""

    # Indexed below: most readings are of no patch and no use, and an index of those leads through all of them.
    rung = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="readings", db_index=False)
    patch = models.ForeignKey(Patch, on_delete=models.CASCADE, null=True, related_name="readings", db_index=False)
    # The use at whose size it was read; null per pixel.
    use = models.ForeignKey(Use, on_delete=models.CASCADE, null=True, related_name="readings", db_index=False)
    channel = models.CharField(max_length=4)
    quantity = models.CharField(max_length=30)
    value = models.FloatField(null=True)
    low = models.FloatField(null=True)
    high = models.FloatField(null=True)
    n = models.PositiveBigIntegerField(default=0)
    excluded = models.PositiveIntegerField(default=0)
    # What is said of the value, or why there is none: see core.metrology.notes.
    notes = models.JSONField(default=list, blank=True)
    method = models.CharField(max_length=200, blank=True)

    objects = ReadingQuerySet.as_manager()

    class Meta:
        ordering = ["id"]
        indexes = [
            models.Index(fields=["rung", "quantity"], name="reading_by_quantity"),
            models.Index(fields=["patch"], name="reading_of_patch", condition=models.Q(patch__isnull=False)),
            models.Index(fields=["use"], name="reading_at_use", condition=models.Q(use__isnull=False)),
        ]
        constraints = [
            models.UniqueConstraint(
                fields=["rung", "patch", "channel", "quantity", "use"], name="reading_once", nulls_distinct=False
            )
        ]

    def __str__(self) -> str:
        return f"{self.quantity} {self.channel} of {self.rung}"

    @property
    def measurand(self) -> Measurand:
        """What was measured, as the registry knows it."""
        return Measurand(self.quantity)

    @property
    def result(self) -> Quantity:
        """The value as the core knows it."""
        return Quantity.from_plain([self.value, self.low, self.high, self.n, self.notes])

    @property
    def reason(self) -> str:
        """The notes in words."""
        return self.result.reason
