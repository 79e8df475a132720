"""Lanes: pictures of a ladder that something else rendered, and where frames of two ladders lie on one another."""

from __future__ import annotations

from django.db import models

from yellowjacket.bench.models.frames import Frame
from yellowjacket.bench.models.sittings import Ladder, Rung
from yellowjacket.core.registration.similarity import Similarity


class Placed(models.Model):
    """Where a point of one picture lies on another: a similarity transform and how well it fits."""

    a = models.FloatField(default=1.0)
    b = models.FloatField(default=0.0)
    x0 = models.FloatField(default=0.0)
    y0 = models.FloatField(default=0.0)
    residual_px = models.FloatField(default=0.0)
    points = models.PositiveIntegerField(default=0)

    class Meta:
        abstract = True

    @property
    def place(self) -> Similarity:
        """The transform as the core knows it."""
        return Similarity(self.a, self.b, self.x0, self.y0, self.residual_px, self.points)

    @place.setter
    def place(self, found: Similarity) -> None:
        self.a, self.b, self.x0, self.y0 = found.a, found.b, found.x0, found.y0
        self.residual_px, self.points = found.residual_px, found.points


class Placement(Placed):
    """From the frames of the sitting's first ladder to those of another."""

    class By(models.TextChoices):
        MATCHED = "matched", "matched automatically"
        MARKED = "marked", "from marked spots"

    ladder = models.OneToOneField(Ladder, on_delete=models.CASCADE, related_name="placement")
    found_by = models.CharField(max_length=8, choices=By.choices)
    found_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return f"{self.ladder} placed, {self.get_found_by_display()}"


class Lane(models.Model):
    """Rendered pictures of a ladder's rungs, a row of the wall beside the raw frames: a tester's own finish, the body's
    own rendering, or a converter's."""

    class Kind(models.TextChoices):
        FINISH = "finish", "my finish"
        CAMERA = "camera", "the body's own rendering"
        CONVERTER = "converter", "a converter's rendering"

    ladder = models.ForeignKey(Ladder, on_delete=models.CASCADE, related_name="lanes")
    kind = models.CharField(max_length=10, choices=Kind.choices)
    name = models.CharField(max_length=60)
    # Sharpening, noise reduction, curve: in the tester's words.
    settings = models.CharField(max_length=200, blank=True)
    person = models.CharField(max_length=80, blank=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["ladder", "name"], name="lane_name_once_per_ladder")]

    def __str__(self) -> str:
        return self.name


class LanePicture(Placed):
    """One picture of a lane, from the raw frame's pixels to its own. The file is the application's copy."""

    lane = models.ForeignKey(Lane, on_delete=models.CASCADE, related_name="pictures")
    rung = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="lane_pictures")
    # The raw frame it was made from, where there is one.
    frame = models.ForeignKey(Frame, on_delete=models.SET_NULL, null=True, related_name="lane_pictures")
    file_name = models.CharField(max_length=255)
    path = models.CharField(max_length=1000)
    sha256 = models.CharField(max_length=64)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    # By how many quarters it is turned to lie as the frame does.
    quarter_turns = models.PositiveSmallIntegerField(default=0)
    matched_by = models.CharField(max_length=40)
    # What could not be done with it, in a sentence.
    remark = models.CharField(max_length=200, blank=True)
    # What the finish did, see core.finish.Effect: {field: [value, low, high, n, reason]}.
    effect = models.JSONField(default=dict)

    class Meta:
        ordering = ["rung__position", "id"]
        constraints = [models.UniqueConstraint(fields=["lane", "sha256"], name="content_once_per_lane")]

    def __str__(self) -> str:
        return self.file_name
