"""Curves that somebody else measured, of bodies one does not own; they stand beside one's own and never among them."""

from __future__ import annotations

from django.db import models

from yellowjacket.core.limits.foreign_curves import QUANTITIES


class ForeignCurve(models.Model):
    """One quantity along ISO as somebody published it: marked as foreign wherever it is shown."""

    name = models.CharField(max_length=80)
    # A key of core.foreign.QUANTITIES.
    quantity = models.CharField(max_length=20)
    # Output size it was given at; 0: per pixel.
    output_pixels = models.PositiveIntegerField(default=0)
    source = models.CharField(max_length=160)
    # What was done to the numbers on the way in: other units, decimal commas.
    remarks = models.JSONField(default=list)
    # [[ISO as printed, value]], ISO ascending.
    points = models.JSONField()
    taken_in_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name", "quantity"]
        constraints = [
            models.UniqueConstraint(fields=["name", "quantity", "output_pixels", "source"], name="foreign_curve_once")
        ]

    def __str__(self) -> str:
        return f"{self.name} (foreign)"

    @property
    def quantity_name(self) -> str:
        """What the curve is of."""
        return QUANTITIES[self.quantity].name

    @property
    def megapixels(self) -> float:
        """The size it was given at."""
        return self.output_pixels / 1e6
