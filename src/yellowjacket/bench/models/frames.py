"""Frames that came in, and files that could not be used."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import numpy as np
from django.db import models
from numpy.typing import NDArray

from yellowjacket.bench.models.queries.frames import FrameQuerySet
from yellowjacket.bench.models.register import Body
from yellowjacket.bench.models.sittings import Shot, Sitting
from yellowjacket.core.metadata.capture import Compression, Shutter, Switch, Thermometer
from yellowjacket.core.planning.frame_to_shot import NEARNESS
from yellowjacket.core.raw.frame import Layout


class Frame(models.Model):
    """One raw file. It stays where it is and is never written; ``sha256`` tells it from all others."""

    class Standing(models.TextChoices):
        USED = "used", "on its shot"
        EXTRA = "extra", "kept as extra"
        EXCLUDED = "excluded", "excluded"

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="frames")
    shot = models.OneToOneField(Shot, on_delete=models.SET_NULL, null=True, blank=True, related_name="frame")
    path = models.CharField(max_length=1000)
    sha256 = models.CharField(max_length=64)
    size_bytes = models.PositiveBigIntegerField()
    # When the file was last written to, as its file system says it (ns); None for frames of older versions.
    mtime_ns = models.BigIntegerField(null=True)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    make = models.CharField(max_length=80, blank=True)
    model = models.CharField(max_length=80, blank=True)
    serial = models.CharField(max_length=80, blank=True)
    firmware = models.CharField(max_length=80, blank=True)
    iso = models.PositiveIntegerField(null=True)
    exposure_s = models.FloatField(null=True)
    f_number = models.FloatField(null=True)
    # °C, where the file says it, and of which thermometer.
    temperature_c = models.FloatField(null=True)
    temperature_of = models.CharField(max_length=8, blank=True, choices=[(one.value, one.words) for one in Thermometer])
    lenr = models.CharField(max_length=4, blank=True, choices=[(one.value, one.value) for one in Switch])
    noise_reduction = models.CharField(max_length=4, blank=True, choices=[(one.value, one.value) for one in Switch])
    shutter = models.CharField(max_length=24, blank=True, choices=[(one.value, one.value) for one in Shutter])
    compression = models.CharField(max_length=8, blank=True, choices=[(one.value, one.value) for one in Compression])
    # The file says that it was made of more than one exposure.
    several_shots = models.BooleanField(default=False)
    # What else the file says: lens, frame counter, bits, offset of its clock from UTC, and so on.
    claims = models.JSONField(default=dict)
    # The body's own clock; it knows no time zone.
    captured_at = models.CharField(max_length=32, blank=True)
    dark = models.BooleanField()
    white_dn = models.FloatField()
    black_dn = models.JSONField()
    # Which channel each pixel belongs to, see core.raw.frame.Layout.
    layout = models.JSONField()
    matrix = models.JSONField(null=True)
    neutral = models.JSONField(null=True)
    imported_at = models.DateTimeField(auto_now_add=True)
    # What a first look at the pixels found, see core.audit.FrameReport.
    report = models.JSONField(default=dict)
    # The tester's word over the file's: {"f_number": 8.0}; the file's own value stays beside it.
    overrides = models.JSONField(default=dict)
    # Kept beside the plan ("extra") or left out with a reason.
    standing = models.CharField(max_length=8, choices=Standing.choices, default=Standing.USED)
    standing_reason = models.CharField(max_length=120, blank=True)

    objects = FrameQuerySet.as_manager()

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["sitting", "sha256"], name="content_once_per_sitting")]

    def __str__(self) -> str:
        return self.file_name

    @property
    def file_name(self) -> str:
        """Name without the folder."""
        return Path(self.path).name

    def said(self, name: str) -> float | None:
        """A setting as the tester corrected it, else as the file says: "iso", "exposure_s", "f_number", "temperature_c"."""
        value = self.overrides.get(name, getattr(self, name))
        return None if value is None else float(value)

    @property
    def mosaic_layout(self) -> Layout:
        """Which channel every pixel belongs to."""
        return Layout.from_plain(self.layout)

    @property
    def xyz_to_camera(self) -> NDArray[np.float64] | None:
        """Colour matrix of the file, 3×3."""
        return None if self.matrix is None else np.array(self.matrix)


class NamedKind(models.Model):
    """Which body takes files that do not say it: asked once, and remembered for files of that kind."""

    # By what such files are known again: layout, size, white level and ending.
    mark = models.CharField(max_length=120, unique=True)
    body = models.ForeignKey(Body, on_delete=models.CASCADE, related_name="named_kinds")

    class Meta:
        ordering = ["mark"]

    def __str__(self) -> str:
        return f"{self.mark}: {self.body}"


class Problem(models.Model):
    """A file that was not used: what happened and what to do about it."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="problems")
    file_name = models.CharField(max_length=255)
    # Where the file lies, so that it can be assigned by hand; empty for what was never stored.
    path = models.CharField(max_length=1000, blank=True)
    code = models.CharField(max_length=20)
    reason = models.CharField(max_length=400)
    remedy = models.CharField(max_length=400)
    noted_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            # Two cards may hold equal names.
            models.UniqueConstraint(fields=["sitting", "file_name", "code", "path"], name="problem_once_per_file"),
        ]

    def __str__(self) -> str:
        return f"{self.file_name} {self.reason} {self.remedy}"

    @property
    def assignable(self) -> bool:
        """Whether the file can be put on a shot by hand: it could be read, and fitted none."""
        return bool(self.path) and self.code in (*NEARNESS, "duplicate")


class SeenFile(models.Model):
    """A file of the inbox that was looked at for a sitting; noted together with what became of it."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="seen_files")
    # Digest of its place in the inbox, size, and time of its last change.
    mark = models.CharField(max_length=80)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["sitting", "mark"], name="seen_once_per_sitting")]

    def __str__(self) -> str:
        return self.mark

    @staticmethod
    def note(sitting: Sitting, marks: Iterable[str]) -> None:
        """These were looked at; it does no harm to say so twice."""
        SeenFile.objects.bulk_create([SeenFile(sitting=sitting, mark=mark) for mark in marks], ignore_conflicts=True)
