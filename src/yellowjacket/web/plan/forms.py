"""The form of a new sitting."""

from __future__ import annotations

import re
from typing import Any

from django import forms
from django.utils import timezone
from django.utils.functional import cached_property

from yellowjacket.bench.models import Body, Lens, Sitting, ToleranceProfile
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec
from yellowjacket.bench.plan.uses import OFFERED_USES
from yellowjacket.bench.tolerance.profiles import DEFAULT_PROFILE
from yellowjacket.bench.typed import identity
from yellowjacket.core.exposure import notation
from yellowjacket.core.planning.body_limits import PlanError
from yellowjacket.core.planning.ladder import Exposure, Filter, LadderSpec
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.web.fields import ApertureField, SecondsField, ShutterField, TypedNumber, TypedNumbers

_MAX_USES = 4
_LARGEST_USE_MP = 2000


class WordsField(forms.CharField):
    """Words separated by commas. Cleans to a tuple."""

    def clean(self, value: object) -> tuple[str, ...]:
        """The words, stripped, empty ones left out."""
        return tuple(word.strip() for word in super().clean(value).split(",") if word.strip())


class FiltersField(forms.CharField):
    """Filters as ``name nominal [true [tint]]``, separated by semicolons. Cleans to a tuple of Filter."""

    def clean(self, value: object) -> tuple[Filter, ...]:
        """The filters, or a sentence that shows the form."""
        return tuple(self._one(text) for text in super().clean(value).split(";") if text.strip())

    @staticmethod
    def _one(text: str) -> Filter:
        name, *rest = text.replace(",", ".").split()
        try:
            nominal = float(rest[0])
            true = float(rest[1]) if len(rest) > 1 else nominal
        except (IndexError, ValueError) as error:
            raise forms.ValidationError(
                f"{text.strip()!r} is not a filter; write name, stops engraved, true stops, tint: ND8 3 2.8 warm"
            ) from error
        if not (0 < nominal <= 30 and 0 < true <= 30):
            raise forms.ValidationError(f"{name}: a filter takes more than 0 and at most 30 stops.")
        return Filter(name, nominal, true, " ".join(rest[2:]))


_LADDERS = (
    ("ISO", (("iso:shutter", "ISO, held by shutter"), ("iso:lamp", "ISO, held by lamp"), ("iso:nd", "ISO, held by filter"),
             ("iso:fixed", "ISO, everything held"))),
    ("Exposure", (("exposure:shutter", "Exposure, by shutter"),)),
    ("Time", (("time:capped", "Time, lens capped"), ("time:scene", "Time, on the scene"),
              ("time:endurance", "Time, endurance run"))),
    ("Setting", (("setting:raw_mode", "Setting: raw mode"), ("setting:noise_reduction", "Setting: noise reduction"),
                 ("setting:bit_depth", "Setting: bit depth"))),
)  # fmt: skip
_RAW_MODE = "setting:raw_mode"
_ISO_OR_RANGE = re.compile(r"([0-9]{1,9})(?:\s*(?:-|–|to)\s*([0-9]{1,9}))?", re.ASCII)
_STEP_WORDS = {"thirds": "third", "halves": "half", "full stops": "full", "stops": "full"}
_QUESTIONS = {
    "iso": "What is the highest usable ISO?", "exposure": "How far can exposure be pushed and pulled?",
    "time": "How long may exposures be?", "setting": "What does the setting change in the raw?",
}  # fmt: skip
# Which form field a refusal of the planner belongs to, where the names differ.
_FIELD_OF = {"metered": "metered_shutter", "longest_s": "longest", "shortest_s": "shortest", "method": "ladder"}


class LadderForm(TypedNumbers, forms.Form):
    """The part that the stave is computed from: a ladder of any kind."""

    body = forms.ModelChoiceField(Body.objects.all(), empty_label=None)
    ladder = forms.ChoiceField(choices=_LADDERS)
    metered_iso = forms.IntegerField(label="Metered at ISO", initial=100, min_value=1)
    metered_shutter = ShutterField(label="Shutter", initial="1/8")
    aperture = ApertureField(label="Aperture", initial="f/8", max_length=10)
    step = forms.ChoiceField(
        choices=[("full", "full stops"), ("third", "thirds"), ("half", "halves"), ("two", "two stops"), ("three", "three stops")]
    )  # fmt: skip
    picked = WordsField(
        label="Only these settings", required=False, max_length=300,
        help_text="ISO: 3200, 6400 or 64-51200, thirds. Exposure: −5, 0, +3. Time: 1 s, 1 min.",
    )  # fmt: skip
    repeats = forms.IntegerField(label="Frames a rung", initial=2)
    darks = forms.IntegerField(label="Darks a rung", initial=2)
    under = forms.FloatField(label="Stops under", initial=5)
    over = forms.FloatField(label="Stops over", initial=5)
    shortest = SecondsField(label="Shortest", initial="1 s")
    longest = SecondsField(label="Longest", initial="4 min")
    lenr = forms.ChoiceField(
        label="Long-exposure NR (LENR)", choices=[("off", "off"), ("on", "on"), ("pairs", "off, then on")]
    )
    rest_s = forms.FloatField(label="Rest, s", initial=0)
    shuffled = forms.BooleanField(label="Shuffled", required=False)
    values = WordsField(label="Values", required=False, initial="off, low, high", max_length=300)
    crossed = forms.MultipleChoiceField(
        label="Raw modes", required=False, widget=forms.CheckboxSelectMultiple,
        error_messages={"invalid_choice": "%(value)s is not a raw mode of this body."},
    )  # fmt: skip
    filters = FiltersField(label="Filters", required=False, max_length=400)
    lux = forms.FloatField(label="Lux metered", required=False, min_value=0.001)
    closing_repeat = forms.BooleanField(label="First rung again at the end", required=False)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        modes = self._body_chosen.limits.raw_modes if self._body_chosen else ()
        self.fields["crossed"].choices = [(mode, mode) for mode in modes]  # type: ignore[attr-defined]

    @cached_property
    def _body_chosen(self) -> Body | None:
        """Whose raw modes are offered: the body asked for, else the one that the list begins with."""
        bodies = self.fields["body"].queryset  # type: ignore[attr-defined]
        named = self.data.get(self.add_prefix("body")) if self.is_bound else self.initial.get("body")
        found = bodies.filter(pk=identity(str(named))).first() if named else None
        return found or bodies.first()

    @property
    def offers_raw_modes(self) -> bool:
        """Whether there is anything to choose between."""
        return len(self.fields["crossed"].choices) > 1  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """A plan that cannot be is refused at its field."""
        data = super().clean() or self.cleaned_data
        if self.errors:
            return data
        try:
            plan_ladder(self.request().spec, data["body"].limits)
        except PlanError as error:
            name = _FIELD_OF.get(error.field, error.field)
            if name == "values" and data["ladder"] == _RAW_MODE:
                name = "crossed"
            self.add_error(name if name in self.fields else None, error.reason)
        return data

    def clean_picked(self) -> tuple[float, ...]:
        """ISO marks, stops or times, as the kind of ladder has it."""
        words: tuple[str, ...] = self.cleaned_data["picked"]
        kind = self.cleaned_data.get("ladder", "").partition(":")[0]
        if kind == "iso":
            return self._picked_isos(words)
        try:
            return tuple(
                notation.parse_shutter(word) if kind == "time" else float(word.replace("−", "-").removeprefix("+"))
                for word in words
            )
        except ValueError as error:
            raise forms.ValidationError(f"{error}") from error

    def _picked_isos(self, words: tuple[str, ...]) -> tuple[float, ...]:
        """ISO settings as they are written: single ones, “64-51200”, and “thirds” for the step between them."""
        for word in words:
            if word.lower() in _STEP_WORDS:
                self.cleaned_data["step"] = _STEP_WORDS[word.lower()]
        found: list[float] = []
        body = self.cleaned_data.get("body")
        for word in (one for one in words if one.lower() not in _STEP_WORDS):
            said = _ISO_OR_RANGE.fullmatch(word)
            if said is None:
                raise forms.ValidationError(
                    f"“{word}” is no ISO setting. Write 3200, or 64-51200, separated by commas."
                )
            if said[2] is None:
                found.append(float(said[1]))
            elif body is not None:
                low, high = sorted((float(said[1]), float(said[2])))
                marks = [m.nominal for m in body.limits.iso_marks(self.cleaned_data.get("step") or "full")]
                inside = [mark for mark in marks if low <= mark <= high]
                # The ends are wanted whatever the step.
                found += [*inside, *(end for end in (low, high) if body.limits.has_iso(end))]
                if not inside:
                    raise forms.ValidationError(f"The dial of {body} has no setting between ISO {low:g} and {high:g}.")
        return tuple(sorted(set(found)))

    def request(self) -> LadderRequest:
        """The ladder as services need it; call on a valid form."""
        data = self.cleaned_data
        kind, method = data["ladder"].split(":")
        metered = Exposure(data["metered_iso"], data["metered_shutter"], data["aperture"])
        modes = tuple(data["crossed"])
        spec = LadderSpec(
            kind, method, metered, step=data["step"], picked=data["picked"], under=data["under"], over=data["over"],
            shortest_s=data["shortest"], longest_s=data["longest"], lenr=data["lenr"], rest_s=data["rest_s"],
            shuffled=data["shuffled"],
            # What the form hides for a kind of ladder is not asked for, whatever was typed or ticked before.
            values=() if kind != "setting" else modes if method == "raw_mode" else data["values"],
            crossed=modes if kind != "setting" else (),
            repeats=data["repeats"], darks=data["darks"], closing_repeat=data["closing_repeat"], filters=data["filters"],
            lux=data["lux"],
        )  # fmt: skip
        return LadderRequest(data["body"], spec)


def ladder_initial(body: Body, spec: LadderSpec) -> dict[str, object]:
    """Form values that stand for a ladder as it was asked for."""
    return {
        "body": body.pk, "ladder": f"{spec.kind}:{spec.method}", "metered_iso": round(spec.metered.iso),
        "metered_shutter": notation.shutter_label(spec.metered.exposure_s), "aperture": f"f/{spec.metered.f_number:g}",
        "step": spec.step, "picked": ", ".join(f"{value:g}" for value in spec.picked), "repeats": spec.repeats,
        "darks": spec.darks, "under": spec.under, "over": spec.over, "shortest": notation.shutter_label(spec.shortest_s),
        "longest": notation.shutter_label(spec.longest_s), "lenr": spec.lenr, "rest_s": spec.rest_s,
        "shuffled": spec.shuffled, "values": ", ".join(spec.values),
        "crossed": list(spec.values if spec.method == "raw_mode" else spec.crossed),
        "filters": "; ".join(f"{f.name} {f.nominal_stops:g} {f.true_stops:g} {f.tint}".strip() for f in spec.filters),
        "lux": spec.lux, "closing_repeat": spec.closing_repeat,
    }  # fmt: skip


class SittingForm(LadderForm):
    """A whole new sitting."""

    name = forms.CharField(max_length=120, required=False)
    scene = forms.CharField(max_length=120, required=False)
    question = forms.CharField(label="What is asked?", max_length=200, required=False)
    expectation = forms.CharField(label="What do you expect?", max_length=200, required=False)
    held_on = forms.DateField(label="Day", initial=timezone.localdate, widget=forms.DateInput(attrs={"type": "date"}))
    lens = forms.CharField(max_length=120, required=False)
    lens_used = forms.ModelChoiceField(Lens.objects.all(), label="or listed", required=False, empty_label="not listed")
    hand_held = forms.BooleanField(label="Hand-held", required=False)
    light = forms.CharField(max_length=120, required=False)
    temperature_c = forms.FloatField(label="Room °C", required=False, min_value=-60, max_value=70)
    held_equal = forms.ChoiceField(label="Bodies compared at", choices=Sitting.HeldEqual.choices)
    mains_hz = forms.TypedChoiceField(
        label="Lamp", coerce=int,
        choices=[(0, "steady"), (50, "on mains, 50 Hz"), (60, "on mains, 60 Hz")],
    )  # fmt: skip
    modulation = forms.FloatField(
        label="Flicker depth (0 = steady, 0.95 = strong)", initial=0.3, min_value=0, max_value=0.95
    )
    starts_at = forms.TimeField(label="Starts at", required=False, widget=forms.TimeInput(attrs={"type": "time"}))

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for n, (name, megapixels) in enumerate(OFFERED_USES[:_MAX_USES]):
            self.fields[f"use_name_{n}"] = forms.CharField(
                max_length=60, required=False, initial=name, label=f"use {n + 1}",
                widget=forms.TextInput(attrs={"aria-label": f"Use {n + 1}, name"}),
            )  # fmt: skip
            self.fields[f"use_mp_{n}"] = forms.FloatField(
                required=False, initial=megapixels, min_value=0.01, max_value=_LARGEST_USE_MP, label=f"use {n + 1}, MP",
                widget=TypedNumber(attrs={"aria-label": f"Use {n + 1}, megapixels", "inputmode": "decimal"}),
            )  # fmt: skip

    @property
    def use_rows(self) -> list[tuple[forms.BoundField, forms.BoundField]]:
        """Name and size fields side by side."""
        return [(self[f"use_name_{n}"], self[f"use_mp_{n}"]) for n in range(_MAX_USES)]

    def clean(self) -> dict[str, Any]:
        """At least one use, each named once."""
        data = super().clean() or self.cleaned_data
        names = [use.name.casefold() for use in self._uses(data)]
        if not names:
            self.add_error("use_name_0", "Name at least one use, for instance “Large print”.")
        if len(set(names)) < len(names):
            self.add_error("use_name_0", "Two uses have the same name.")
        return data

    @staticmethod
    def _uses(data: dict[str, Any]) -> list[UseSpec]:
        found = []
        for n in range(_MAX_USES):
            name, megapixels = (data.get(f"use_name_{n}") or "").strip(), data.get(f"use_mp_{n}")
            if name:
                found.append(UseSpec(name, round(megapixels * 1e6) if megapixels else None))
        return found

    def uses(self) -> list[UseSpec]:
        """Uses as services need them; call on a valid form."""
        return self._uses(self.cleaned_data)

    def sitting(self) -> Sitting:
        """The unsaved sitting; call on a valid form."""
        data = self.cleaned_data
        profile, _ = ToleranceProfile.objects.get_or_create(name=DEFAULT_PROFILE)
        names = (
            "name", "scene", "question", "expectation", "held_on", "lens", "light", "temperature_c", "held_equal", "mains_hz",
            "modulation", "starts_at",
        )  # fmt: skip
        sitting = Sitting(profile=profile, **{name: data[name] for name in names})
        # What is left empty is filled in: a name by body and day, and the question that the ladder answers.
        sitting.name = sitting.name or f"{data['body'].model}, {sitting.held_on:%-d %b}"
        sitting.question = sitting.question or _QUESTIONS[data["ladder"].partition(":")[0]]
        sitting.lens_used, sitting.tripod = data["lens_used"], not data["hand_held"]
        sitting.lens = sitting.lens or (sitting.lens_used.name if sitting.lens_used else "")
        return sitting
