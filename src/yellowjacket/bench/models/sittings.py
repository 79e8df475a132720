"""A sitting: one scene, one light, one place and day; its uses, ladders, rungs and shots."""

from __future__ import annotations

import math
from collections.abc import Sequence

from django.db import models

from yellowjacket.bench.models.register import Body, Lens, ToleranceProfile
from yellowjacket.core.exposure import dial, notation
from yellowjacket.core.exposure.dial import exact_exposure_s
from yellowjacket.core.limits.output_size import UseView
from yellowjacket.core.planning.body_limits import PlanError
from yellowjacket.core.planning.cautions import Surroundings
from yellowjacket.core.planning.ladder import Caution, Exposure, Filter, PlannedLadder, PlannedRung, Settings
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import spec_from


class Sitting(models.Model):
    """One scene, one light, one place and day. States its question; the record answers it."""

    name = models.CharField(max_length=120)
    scene = models.CharField(max_length=120)
    question = models.CharField("asked", max_length=200)
    expectation = models.CharField("expected", max_length=200)
    held_on = models.DateField()

    class HeldEqual(models.TextChoices):
        SETTINGS = "settings", "same settings"
        LIGHT = "light", "same light on the sensor"
        BRIGHTNESS = "brightness", "same brightness in the picture"

    lens = models.CharField(max_length=120, blank=True)
    held_equal = models.CharField(max_length=12, choices=HeldEqual.choices, default=HeldEqual.SETTINGS)
    # 0 is light that does not flicker.
    mains_hz = models.PositiveSmallIntegerField(default=0)
    modulation = models.FloatField(default=0.3)
    tripod = models.BooleanField(default=True)
    starts_at = models.TimeField(null=True, blank=True)
    # What lands in the inbox is imported by itself.
    watches_inbox = models.BooleanField(default=False)
    # The first frame was looked at and found good: focus, grey, nothing clipped.
    first_accepted_at = models.DateTimeField(null=True, blank=True)
    lens_used = models.ForeignKey(Lens, on_delete=models.SET_NULL, null=True, blank=True, related_name="sittings")
    light = models.CharField(max_length=120, blank=True)
    temperature_c = models.FloatField("room °C", null=True, blank=True)
    profile = models.ForeignKey(ToleranceProfile, on_delete=models.PROTECT, related_name="sittings")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-held_on", "-id"]

    def __str__(self) -> str:
        return self.name

    @property
    def surroundings(self) -> Surroundings:
        """Light and lens, as cautions need them."""
        lens = self.lens_used
        if lens is None:
            return Surroundings(self.mains_hz, self.modulation, self.tripod)
        return Surroundings(
            self.mains_hz, self.modulation, self.tripod, lens.focal_length_mm, lens.widest_f, lens.narrowest_f
        )


class Use(models.Model):
    """What pictures are for: an output pixel count, or none for pixel level."""

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="uses")
    position = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=60)
    output_pixels = models.PositiveBigIntegerField(null=True, blank=True)
    # Share of the frame's area that is kept, size on paper, and from how far it is seen.
    crop_share = models.FloatField("share of the frame", default=1.0)
    print_width_cm = models.FloatField("width on paper, cm", null=True, blank=True)
    viewing_cm = models.FloatField("seen from, cm", null=True, blank=True)
    monochrome = models.BooleanField("black and white", default=False)

    class Meta:
        ordering = ["position"]
        constraints = [
            models.UniqueConstraint(fields=["sitting", "name"], name="use_once_per_sitting"),
            models.CheckConstraint(
                condition=models.Q(crop_share__gt=0) & models.Q(crop_share__lte=1), name="use_shows_part_of_the_frame"
            ),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def size_text(self) -> str:
        """ "24 MP", or "each pixel", and what else there is to say of it."""
        return self.view.words

    @property
    def view(self) -> UseView:
        """The use as the core knows it."""
        return UseView(self.output_pixels, self.crop_share, self.print_width_cm, self.viewing_cm, self.monochrome)

    @property
    def whole_frame_pixels(self) -> int | None:
        """Output pixels of the whole frame at this use's scale, None at pixel level: what noise is averaged to."""
        return self.view.whole_frame_pixels


class Ladder(models.Model):
    """A run of rungs of one kind on one body, everything else held still."""

    class Kind(models.TextChoices):
        ISO = "iso", "ISO"
        EXPOSURE = "exposure", "Exposure"
        TIME = "time", "Time"
        SETTING = "setting", "Setting"

    class Method(models.TextChoices):
        SHUTTER = "shutter", "by shutter"
        LAMP = "lamp", "by lamp"
        ND = "nd", "by filter"
        FIXED = "fixed", "held fixed"
        CAPPED = "capped", "lens capped"
        SCENE = "scene", "on the scene"
        ENDURANCE = "endurance", "endurance run"
        RAW_MODE = "raw_mode", "raw mode"
        NOISE_REDUCTION = "noise_reduction", "noise reduction"
        BIT_DEPTH = "bit_depth", "bit depth"

    sitting = models.ForeignKey(Sitting, on_delete=models.CASCADE, related_name="ladders")
    body = models.ForeignKey(Body, on_delete=models.PROTECT, related_name="ladders")
    position = models.PositiveSmallIntegerField(default=0)
    # The ladder as asked for, see core.planning.plan_file; rungs and shots are worked out from it.
    spec = models.JSONField(default=dict)
    kind = models.CharField(max_length=16, choices=Kind.choices, default=Kind.ISO)
    method = models.CharField(max_length=16, choices=Method.choices, default=Method.SHUTTER)
    metered_iso = models.PositiveIntegerField()
    metered_exposure_s = models.FloatField()
    f_number = models.FloatField()
    # Where crops are cut, centre in raw pixels; null until somebody chose a spot.
    spot_x = models.PositiveIntegerField(null=True, blank=True)
    spot_y = models.PositiveIntegerField(null=True, blank=True)

    class Before(models.TextChoices):
        __empty__ = "not noted"
        REST = "rest", "at rest, switched on only"
        LIVE = "live", "in live view"

    # What the body did before a time ladder: live view warms the sensor.
    before = models.CharField("before", max_length=4, choices=Before.choices, blank=True)
    # Findings left as they are, by "code:rung key", see services.checking.
    let_be = models.JSONField(default=list)

    class Meta:
        ordering = ["position", "id"]

    def __str__(self) -> str:
        # Setting ladders are told apart by what they set.
        by_method = self.method == self.Method.ENDURANCE or self.kind == self.Kind.SETTING
        kind = self.get_method_display().split(" run")[0].capitalize() if by_method else self.get_kind_display()
        return f"{kind} · {self.body.model}"

    @property
    def capped(self) -> bool:
        """Whether the lens has its cap on throughout."""
        return spec_from(self.spec).capped

    def spot_in(self, width: int, height: int, widest: int | None = None) -> tuple[int, int]:
        """The spot that is looked at, in raw pixels of a frame of this size, 0 × 0 without one: as it was put, else the middle.

        ``widest``: width of the ladder's largest frames, in whose pixels spots are told; a reduced raw mode shows the same
        scene in fewer.
        """
        if self.spot_x is None or self.spot_y is None:
            return width // 2, height // 2
        # Without a frame it stays in the pixels it was put in.
        scale = width / (widest or width) if width else 1.0
        return round(self.spot_x * scale), round(self.spot_y * scale)

    def reference_rung(self, rungs: Sequence[Rung]) -> Rung:
        """Of its rungs the one that the others are held against: on an ISO ladder native base ISO, the cleanest that is not
        extended; else the metered exposure."""
        if self.kind == Ladder.Kind.ISO:
            native = [rung for rung in rungs if rung.iso >= self.body.native_lowest_iso]
            return min(native or rungs, key=lambda rung: rung.iso)
        return min(rungs, key=lambda rung: (abs(rung.at_stops), rung.position))

    @property
    def planned(self) -> PlannedLadder:
        """The plan as it was stored: a body corrected later does not change a sitting behind its tester's back."""
        return PlannedLadder(spec_from(self.spec), tuple(rung.planned(self.f_number) for rung in self.rungs.all()))

    @property
    def advice(self) -> tuple[str, ...]:
        """What the method confounds and what would make the ladder fit, for the body as the register has it now."""
        try:
            return plan_ladder(spec_from(self.spec), self.body.limits, self.sitting.surroundings).advice
        except PlanError as error:
            return (f"The body's entry has changed since this was planned. {error.reason}",)


class Rung(models.Model):
    """One step of a ladder: its settings as printed on the dial."""

    ladder = models.ForeignKey(Ladder, on_delete=models.CASCADE, related_name="rungs")
    position = models.PositiveSmallIntegerField()
    iso = models.PositiveIntegerField()
    exposure_s = models.FloatField()
    # Its name within the ladder, as the URL and the sheet have it.
    key = models.CharField(max_length=40)
    label = models.CharField(max_length=60)
    at_stops = models.FloatField(default=0.0)
    expected_stops = models.FloatField(default=0.0)
    lenr = models.BooleanField(default=False)
    lamp_stops = models.FloatField(default=0.0)
    # [{"name", "nominal_stops", "true_stops", "tint"}]
    filters = models.JSONField(default=list)
    value = models.CharField(max_length=40, blank=True)
    target_lux = models.FloatField(null=True)
    rounding_stops = models.FloatField(default=0.0)
    extended = models.BooleanField(default=False)
    short_by_stops = models.FloatField(default=0.0)
    # [{"code", "short", "text"}]
    warnings = models.JSONField(default=list)
    # Digest of what the readings were made from; the same inputs are never measured twice.
    measured_inputs = models.CharField(max_length=64, blank=True)
    # The same of patches that stand alone, by name: a change of one leaves the rest of the rung as it is.
    measured_patches = models.JSONField(default=dict, blank=True)

    class Meta:
        ordering = ["position"]
        constraints = [
            models.UniqueConstraint(fields=["ladder", "position"], name="rung_once_per_ladder"),
            models.UniqueConstraint(fields=["ladder", "key"], name="rung_key_once_per_ladder"),
        ]

    def __str__(self) -> str:
        return self.label

    @property
    def iso_stops(self) -> float:
        """Where its ISO stands on the axis, in stops over ISO 100."""
        return math.log2(dial.exact_iso(self.iso) / 100)

    @property
    def shutter_label(self) -> str:
        """ "1/60 s"."""
        return notation.shutter_label(self.exposure_s)

    def planned(self, f_number: float) -> PlannedRung:
        """The rung as the core knows it."""
        return PlannedRung(
            self.key, self.label, self.at_stops, self.settings(f_number), exact_exposure_s(self.exposure_s),
            self.rounding_stops, self.expected_stops, self.extended, self.short_by_stops, self.target_lux,
            tuple(Caution(**one) for one in self.warnings),
        )  # fmt: skip

    def settings(self, f_number: float) -> Settings:
        """Settings as the core knows them."""
        filters = tuple(Filter(**one) for one in self.filters)
        exposure = Exposure(self.iso, self.exposure_s, f_number)
        return Settings(exposure, self.lenr, self.lamp_stops, filters, self.value)


class Shot(models.Model):
    """One release asked for by the plan: a repeat of a rung, light or dark."""

    class Kind(models.TextChoices):
        LIGHT = "light", "light"
        DARK = "dark", "dark"

    rung = models.ForeignKey(Rung, on_delete=models.CASCADE, related_name="shots")
    kind = models.CharField(max_length=8, choices=Kind.choices)
    repeat = models.PositiveSmallIntegerField()
    # Place in the shot list of the sitting.
    order = models.PositiveIntegerField(default=0)
    closing = models.BooleanField(default=False)
    # Said to be taken, before its frame is in; or left out, with the reason.
    taken_at = models.DateTimeField(null=True, blank=True)
    skipped = models.CharField(max_length=120, blank=True)

    class Meta:
        ordering = ["order", "id"]
        constraints = [models.UniqueConstraint(fields=["rung", "kind", "repeat"], name="shot_once_per_rung")]

    def __str__(self) -> str:
        return f"{self.rung} {self.kind} {self.repeat}"
