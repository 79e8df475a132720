"""Grades, and the record with its decisions."""

from __future__ import annotations

from django.db import models

from yellowjacket.bench.models.lanes import Lane
from yellowjacket.bench.models.queries.decisions import DecisionQuerySet
from yellowjacket.bench.models.queries.grades import GradeQuerySet
from yellowjacket.bench.models.register import Body
from yellowjacket.bench.models.sittings import Ladder, Rung, Use
from yellowjacket.core.exposure.notation import with_sign


class Grade(models.Model):
    """What a person said of a rung for a use. Rows are never changed: the newest is in force."""

    class Reason(models.TextChoices):
        GRAIN = "grain", "grain"
        BLOTCHES = "blotches", "colour blotches"
        DETAIL = "detail", "detail gone"
        COLOUR = "colour", "colour shift"
        BLACKS = "blacks", "blacks"
        HIGHLIGHTS = "highlights", "highlights"

    rung = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="grades")
    use = models.ForeignKey(Use, on_delete=models.CASCADE, related_name="grades")
    person = models.CharField(max_length=80)
    # 1 to 5, shown as A (clean) to E (lost); null takes an earlier grade back.
    grade = models.PositiveSmallIntegerField(null=True)
    reason = models.CharField(max_length=12, choices=Reason.choices, blank=True)
    # As is where there is none, else of the pictures of a lane. Most are of none: an index of those leads through all.
    lane = models.ForeignKey(
        Lane, on_delete=models.CASCADE, null=True, blank=True, related_name="grades", db_index=False
    )
    note = models.CharField(max_length=200, blank=True)
    # How many steps the scale had: three map on to the five.
    steps = models.PositiveSmallIntegerField(default=5)

    class Seen(models.TextChoices):
        ALONE = "alone", "alone"
        BESIDE = "beside", "side by side"
        PAPER = "paper", "on paper"

    # What was looked at: magnification (0 is the size of the use), whether brightness was equalised and by how many stops
    # that moved it, the push, the developer, alone or beside another.
    size_percent = models.PositiveSmallIntegerField(default=100)
    equalised = models.BooleanField(default=True)
    moved_stops = models.FloatField(null=True)
    push_stops = models.FloatField(default=0.0)
    developer = models.CharField(max_length=12, default="plain")
    seen = models.CharField(max_length=8, choices=Seen.choices, default=Seen.ALONE)
    given_at = models.DateTimeField(auto_now_add=True)

    objects = GradeQuerySet.as_manager()

    class Meta:
        ordering = ["id"]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(grade__isnull=True) | models.Q(grade__gte=1, grade__lte=5), name="grade_a_to_e"
            )
        ]
        indexes = [
            models.Index(fields=["lane"], name="grade_in_lane", condition=models.Q(lane__isnull=False)),
        ]

    def __str__(self) -> str:
        return f"{self.rung} for {self.use}: {self.letter}"

    @property
    def letter(self) -> str:
        """A to E, or a dash."""
        return "ABCDE"[self.grade - 1] if self.grade else "–"


class PairVerdict(models.Model):
    """What a person said of two rungs: which is better for a use, and how clearly. Rows are never changed."""

    one = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="verdicts")
    other = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="verdicts_against")
    # As is where there is none, else of the pictures of a lane.
    one_lane = models.ForeignKey(Lane, on_delete=models.CASCADE, null=True, blank=True, related_name="verdicts")
    other_lane = models.ForeignKey(
        Lane, on_delete=models.CASCADE, null=True, blank=True, related_name="verdicts_against"
    )
    use = models.ForeignKey(Use, on_delete=models.CASCADE, related_name="verdicts")
    person = models.CharField(max_length=80)
    # 2: the one is clearly better, 1: slightly, 0: equal, down to −2.
    score = models.SmallIntegerField()
    reason = models.CharField(max_length=12, choices=Grade.Reason.choices, blank=True)
    blind = models.BooleanField(default=False)
    size_percent = models.PositiveSmallIntegerField(default=100)
    developer = models.CharField(max_length=12, default="plain")
    # What was held equal between the two pictures: see Sitting.HeldEqual.
    held_equal = models.CharField(max_length=12)
    given_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(score__gte=-2) & models.Q(score__lte=2), name="verdict_clearly_to_clearly"
            )
        ]

    def __str__(self) -> str:
        return f"{self.one} against {self.other}: {with_sign(self.score, 0)}"

    @property
    def words(self) -> str:
        """ "Heath ISO 800 slightly better"."""
        if self.score == 0:
            return "equal"
        how = "clearly" if abs(self.score) > 1 else "slightly"
        return f"{self.one_name if self.score > 0 else self.other_name} {how} better"

    @property
    def one_name(self) -> str:
        """Body, rung and lane of the one."""
        return side_name(self.one, self.one_lane)

    @property
    def other_name(self) -> str:
        """Body, rung and lane of the other."""
        return side_name(self.other, self.other_lane)


def side_name(rung: Rung, lane: Lane | None) -> str:
    """What one of two pictures is called: Heath ISO 800, and its lane unless it is as is."""
    return f"{rung.ladder.body.model} {rung.label}{f' · {lane}' if lane else ''}"


class Record(models.Model):
    """The limits of a ladder as a person decided and signed them.

    A signed record is never changed; an amendment is a new version.
    """

    ladder = models.ForeignKey(Ladder, on_delete=models.CASCADE, related_name="records")
    version = models.PositiveSmallIntegerField()
    note = models.TextField(blank=True, max_length=4000)
    answer = models.CharField(max_length=400, blank=True)
    signed_by = models.CharField(max_length=80, blank=True)
    signed_at = models.DateTimeField(null=True, blank=True)
    # Conditions and proposals as they stood when it was signed.
    evidence = models.JSONField(default=dict)

    class Meta:
        ordering = ["version"]
        constraints = [models.UniqueConstraint(fields=["ladder", "version"], name="record_version_once")]

    def __str__(self) -> str:
        return f"{self.ladder} version {self.version}"

    @property
    def signed(self) -> bool:
        """Whether it is closed."""
        return self.signed_at is not None


class Decision(models.Model):
    """The limit a person decided for a use and level; ``iso`` null means none is acceptable."""

    record = models.ForeignKey(Record, on_delete=models.CASCADE, related_name="decisions")
    use = models.ForeignKey(Use, on_delete=models.CASCADE, related_name="decisions")
    level = models.CharField(max_length=10)
    iso = models.PositiveIntegerField(null=True)

    objects = DecisionQuerySet.as_manager()

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["record", "use", "level"], name="decision_once_per_level")]

    def __str__(self) -> str:
        return f"{self.use} {self.level}: {self.iso}"

    @property
    def words(self) -> str:
        """The decided mark as it is written."""
        return f"ISO {self.iso}" if self.iso else "none"


class OtherDecision(models.Model):
    """What a person decided of a limit besides the highest ISO as is: a push, a time, ISO with a finish. In words, as shown."""

    record = models.ForeignKey(Record, on_delete=models.CASCADE, related_name="other_decisions")
    what = models.CharField(max_length=80)
    # Name of the use; empty for any.
    use = models.CharField(max_length=60, blank=True)
    text = models.CharField(max_length=60)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["record", "what", "use"], name="other_decision_once")]

    def __str__(self) -> str:
        return f"{self.what}, {self.use or 'any use'}: {self.text}"


class RememberedLimit(models.Model):
    """A limit from before this application, typed in by hand; it stands beside the record and is never measured."""

    body = models.ForeignKey(Body, on_delete=models.CASCADE, related_name="remembered_limits")
    what = models.CharField(max_length=60)
    text = models.CharField(max_length=60)
    use = models.CharField(max_length=60, blank=True)
    source = models.CharField(max_length=120)
    person = models.CharField(max_length=80, blank=True)
    noted_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"{self.what} {self.text}, remembered"
