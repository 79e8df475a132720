"""Background work: recorded before it starts, so that it can be shown, stopped and taken up again."""

from __future__ import annotations

from datetime import timedelta

from django.db import models
from django.utils import timezone

from yellowjacket.bench.models.sittings import Sitting


class Job(models.Model):
    """One piece of long work with its progress."""

    class Kind(models.TextChoices):
        SHOOT = "shoot", "Shooting"
        IMPORT = "import", "Importing"
        ADOPT = "adopt", "Adopting"
        MEASURE = "measure", "Measuring"
        DARKS = "darks", "Measuring darks"
        MASTER = "master", "Averaging darks"
        LANE = "lane", "Matching pictures"

    class State(models.TextChoices):
        WAITING = "waiting", "waiting"
        RUNNING = "running", "running"
        DONE = "done", "done"
        STOPPED = "stopped", "stopped"
        FAILED = "failed", "failed"

    OPEN = (State.WAITING, State.RUNNING)

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=10, choices=Kind.choices)
    parameters = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    stop_wanted = models.BooleanField(default=False)
    message = models.CharField(max_length=400, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} {self.done} of {self.total}"

    @property
    def open(self) -> bool:
        """Whether it still has work to do."""
        return self.state in self.OPEN

    @property
    def wants_reading(self) -> bool:
        """Whether it ended in a way that has to be told: failed, stopped, or with something left out."""
        ended = self.state in (self.State.FAILED, self.State.STOPPED) or bool(self.parameters.get("left_out"))
        return ended and not self.open and bool(self.message)

    @property
    def time_left(self) -> timedelta | None:
        """Estimated from the rate so far; None while there is none."""
        if self.state != self.State.RUNNING or not self.done or self.started_at is None:
            return None
        spent = timezone.now() - self.started_at
        return spent / self.done * (self.total - self.done)

    @property
    def rate(self) -> float | None:
        """Items per second so far."""
        if not self.done or self.started_at is None:
            return None
        seconds = ((self.finished_at or timezone.now()) - self.started_at).total_seconds()
        return self.done / seconds if seconds > 0 else None
