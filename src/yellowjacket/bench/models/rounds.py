"""Blind rounds: what was shown to whom, in which order, and what was said."""

from __future__ import annotations

import secrets

from django.db import models

from yellowjacket.bench.models.lanes import Lane
from yellowjacket.bench.models.sittings import Rung, Sitting, Use


def _token() -> str:
    return secrets.token_urlsafe(12)


class BlindRound(models.Model):
    """One person judging crops whose labels are out of sight. Its address tells nothing: a token, no number."""

    class Kind(models.TextChoices):
        LINE = "line", "where is my limit"
        PAIRS = "pairs", "which is better"
        HIGHER = "higher", "which is the higher ISO"
        SAME = "same", "same or different"
        REAL = "real", "which was really shot"
        GUESS = "guess", "which ISO is it"

    kind = models.CharField(max_length=8, choices=Kind.choices, default=Kind.LINE)
    token = models.CharField(max_length=24, unique=True, default=_token)
    # A link that is given away: open until then, and never after.
    open_until = models.DateTimeField(null=True)
    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="blind_rounds")
    use = models.ForeignKey(Use, on_delete=models.CASCADE, related_name="blind_rounds")
    person = models.CharField(max_length=80)
    size_percent = models.PositiveSmallIntegerField(default=100)
    # Of rounds that look for a line; how far apart the rungs of a practice round stand.
    wanted_stops = models.FloatField("precision wanted, stops")
    started_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"blind round of {self.person} for {self.use}"


class JurySheet(models.Model):
    """A coded contact sheet on paper: which code is which rung is known here only."""

    token = models.CharField(max_length=24, unique=True, default=_token)
    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="jury_sheets")
    use = models.ForeignKey(Use, on_delete=models.CASCADE, related_name="jury_sheets")
    made_at = models.DateTimeField(auto_now_add=True)
    # [{"code", "rung", "x", "y"}], in the order on paper.
    slips = models.JSONField(default=list)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"jury sheet for {self.use}"


class BlindTrial(models.Model):
    """One picture shown: of which rung, where, and the answer. A catch shows it twice and asks whether both are equal."""

    round = models.ForeignKey(BlindRound, on_delete=models.CASCADE, related_name="trials")
    token = models.CharField(max_length=24, unique=True, default=_token)
    number = models.PositiveIntegerField()
    rung = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="blind_trials")
    # Of pairs: the rung on the right; the same one with its second frame where the pair is no pair.
    other = models.ForeignKey(Rung, on_delete=models.CASCADE, null=True, related_name="blind_trials_right")
    # Of pairs: whose picture of the rung each side shows; as shot where there is none.
    lane = models.ForeignKey(Lane, on_delete=models.CASCADE, null=True, related_name="blind_trials")
    other_lane = models.ForeignKey(Lane, on_delete=models.CASCADE, null=True, related_name="blind_trials_right")
    x = models.PositiveIntegerField()
    y = models.PositiveIntegerField()
    catch = models.BooleanField(default=False)
    # Of "which was really shot": the side that was not, "left" or "right".
    predicted = models.CharField(max_length=5, blank=True, default="")
    # Of "which ISO is it": the mark that was named.
    named_iso = models.PositiveIntegerField(null=True)
    # Accepted for the use; of a catch: called equal; of practice: answered rightly. Null until answered.
    accepted = models.BooleanField(null=True)
    # Of "which is better": from −2, the right one clearly, to 2, the left one clearly.
    score = models.SmallIntegerField(null=True)
    answered_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["round", "number"], name="trial_once_per_round")]

    def __str__(self) -> str:
        return f"trial {self.number} of {self.round}"
