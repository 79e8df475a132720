"""Who may do what where others reach the application, phones that were let in, and the trail of decisions."""

from __future__ import annotations

from django.db import models

from yellowjacket.bench.models.sittings import Sitting


class TrailEntry(models.Model):
    """One decision: when, under which account, in whose name, what became of what. Rows are never changed."""

    at = models.DateTimeField(auto_now_add=True)
    # Empty where the application serves one machine only, and nobody signs in.
    account = models.CharField(max_length=150, blank=True)
    person = models.CharField(max_length=80, blank=True)
    act = models.CharField(max_length=40)
    what = models.CharField(max_length=200)
    before = models.CharField(max_length=120, blank=True)
    after = models.CharField(max_length=120, blank=True)
    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, null=True, blank=True, related_name="trail")

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"{self.act}: {self.what}"


class PhonePass(models.Model):
    """A phone let in to the Shoot page of one sitting: by a code that is good once and for minutes, then for hours."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="phones")
    # SHA-256 of the code; the code itself is shown once and kept nowhere.
    code_sha256 = models.CharField(max_length=64, unique=True)
    made_by = models.CharField(max_length=150, blank=True)
    made_at = models.DateTimeField(auto_now_add=True)
    code_until = models.DateTimeField()
    used_at = models.DateTimeField(null=True, blank=True)
    open_until = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"phone for {self.sitting}"
