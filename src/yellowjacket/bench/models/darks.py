"""What was measured of darks, and the library of master darks."""

from __future__ import annotations

from pathlib import Path

from django.db import models

from yellowjacket.bench.models.register import Body
from yellowjacket.bench.models.sittings import Rung


class RungDarks(models.Model):
    """The darks of a rung as they were measured: numbers in NumPy's own archive format, see services.dark_store."""

    rung = models.OneToOneField(Rung, on_delete=models.CASCADE, related_name="darks")
    # Digest of what they were made from; the same files are never measured twice.
    inputs = models.CharField(max_length=64)
    measured = models.BinaryField()
    made_at = models.DateTimeField(auto_now=True)

    class Meta:
        verbose_name_plural = "rung darks"

    def __str__(self) -> str:
        return f"darks of {self.rung}"


class MasterDark(models.Model):
    """An average of darks, kept as a FITS file in the data folder, with what it was made of."""

    body = models.ForeignKey(Body, on_delete=models.PROTECT, related_name="master_darks")
    iso = models.PositiveIntegerField()
    exposure_s = models.FloatField()
    temperature_c = models.FloatField("sensor °C", null=True)
    frames = models.PositiveIntegerField()
    left_out = models.PositiveBigIntegerField("numbers left out")
    sigma_dn = models.FloatField()
    black_dn = models.FloatField()
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    firmware = models.CharField(max_length=80, blank=True)
    held_on = models.DateField()
    # The sitting it came from, in words: the sitting itself may go.
    origin = models.CharField(max_length=160)
    # [{"file", "sha256"}]
    sources = models.JSONField(default=list)
    # Name within HOME/masters, and the digest of the file.
    file_name = models.CharField(max_length=120, unique=True)
    sha256 = models.CharField(max_length=64)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["body", "iso", "exposure_s", "temperature_c", "-held_on"]

    def __str__(self) -> str:
        return f"master dark of {self.body}, ISO {self.iso}, {self.exposure_s:g} s"

    def path_in(self, home: Path) -> Path:
        """Where the file lies in a data folder."""
        return home / "masters" / self.file_name
