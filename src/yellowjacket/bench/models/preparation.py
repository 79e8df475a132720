"""What belongs to the preparation and the day itself: check list, templates, the log of events."""

from __future__ import annotations

from django.db import models

from yellowjacket.bench.models.register import Body
from yellowjacket.bench.models.sittings import Shot, Sitting


class CheckItem(models.Model):
    """One thing to see to before the first frame, ticked with a time stamp."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="check_items")
    position = models.PositiveSmallIntegerField()
    text = models.CharField(max_length=200)
    # A caution is read, not ticked.
    caution = models.BooleanField(default=False)
    own = models.BooleanField(default=False)
    ticked_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["position", "id"]

    def __str__(self) -> str:
        return self.text


class PlanTemplate(models.Model):
    """A saved plan, to be fitted to another body later. ``document`` follows docs/plan.schema.json."""

    name = models.CharField(max_length=80, unique=True)
    document = models.JSONField()
    saved_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class MarkedSpot(models.Model):
    """A spot that matters on one body's frames: where focus is watched. Centre in raw pixels."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="marked_spots")
    body = models.ForeignKey(Body, on_delete=models.CASCADE, related_name="marked_spots")
    name = models.CharField(max_length=40)
    x = models.PositiveIntegerField()
    y = models.PositiveIntegerField()
    # Soft from the start, so nobody may judge detail on it; the reason.
    ruled_out = models.CharField(max_length=120, blank=True)
    # Why it is worth remembering.
    note = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["sitting", "body", "name"], name="spot_name_once")]

    def __str__(self) -> str:
        return self.name


class SittingEvent(models.Model):
    """Something that was done or noted on the day. Undoing puts back what was, and stamps the row."""

    class Kind(models.TextChoices):
        TAKEN = "taken", "shot taken"
        SKIPPED = "skipped", "shot skipped"
        ACCEPTED = "accepted", "first frame accepted"
        ASSIGNED = "assigned", "frame assigned"
        EXTRA = "extra", "frame kept as extra"
        EXCLUDED = "excluded", "frame excluded"
        RESHOOT = "reshoot", "marked for re-shoot"
        NOTE = "note", "note"
        STOPPED = "stopped", "stopped"
        RULED_OUT = "ruled-out", "spot ruled out"
        CORRECTED = "corrected", "file's word corrected"

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="events")
    shot = models.ForeignKey(Shot, on_delete=models.SET_NULL, null=True, blank=True, related_name="events")
    kind = models.CharField(max_length=10, choices=Kind.choices)
    text = models.CharField(max_length=300, blank=True)
    # What to put back when it is undone: {"model": …, "pk": …, "values": {…}} for each row touched.
    before = models.JSONField(default=list)
    undone_at = models.DateTimeField(null=True, blank=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} {self.text}".strip()
