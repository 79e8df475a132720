"""How warm the sensor was at each frame: the tester's word, else the file's, else the simulated instruments'."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from django.core.files.uploadedfile import UploadedFile
from django.db.models import OuterRef, Subquery

from yellowjacket.bench.models import Conditions, Frame, Ladder, Rung
from yellowjacket.bench.models.queries.frames import FrameQuerySet
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.typed import decimal
from yellowjacket.core.metadata.capture import Thermometer
from yellowjacket.core.survey.temperature_table import temperatures_of

_LONGEST_CSV_BYTES = 2_000_000
_COLDEST_C, _HOTTEST_C = -60.0, 100.0
# Dark current grows by an eighth (common practice, no source).
_WARMED_C = 1.0


@dataclass(frozen=True, slots=True)
class Warmth:
    """A temperature in °C, who says so ("entered", "file", "instrument"), and the thermometer where the file names it.

    ``course``: of a rung, the temperatures of its frames in the order of the clock."""

    celsius: float
    source: str
    thermometer: Thermometer | None = None
    course: tuple[float, ...] = ()

    @property
    def warmed(self) -> bool:
        """Whether the frames of a rung differ by more than a mean can stand for."""
        return bool(self.course) and max(self.course) - min(self.course) >= _WARMED_C


def frames_with_noted() -> FrameQuerySet:
    """Frames with ``noted_c``, what was noted at their shots last in °C: one query for both."""
    noted = Conditions.objects.filter(shot=OuterRef("shot"), sensor_c__isnull=False).order_by("-at")
    return Frame.objects.annotate(noted_c=Subquery(noted.values("sensor_c")[:1]))


def warmth_of(frames: Iterable[Frame]) -> dict[int, Warmth]:
    """By frame id, for frames whose temperature is known; one query where not every frame says itself, and not every one came
    with what was noted."""
    frames = list(frames)
    shown = {one.shot_id: vars(one)["noted_c"] for one in frames if vars(one).get("noted_c") is not None}
    silent = [one.shot_id for one in frames if one.temperature_c is None and "noted_c" not in vars(one)]
    noted = Conditions.objects.filter(shot__in=filter(None, silent), sensor_c__isnull=False).order_by("at")
    shown.update(noted.values_list("shot_id", "sensor_c"))
    found: dict[int, Warmth] = {}
    for frame in frames:
        if "temperature_c" in frame.overrides:
            found[frame.pk] = Warmth(float(frame.overrides["temperature_c"]), "entered")
        elif frame.temperature_c is not None:
            of = Thermometer(frame.temperature_of) if frame.temperature_of else None
            found[frame.pk] = Warmth(frame.temperature_c, "file", of)
        elif frame.shot_id in shown:
            found[frame.pk] = Warmth(float(shown[frame.shot_id] or 0.0), "instrument")
    return found


def enter(rung: Rung, text: str) -> int:
    """The tester's word for every frame of a rung; empty takes it back. Returns how many frames."""
    frames = list(Frame.objects.filter(shot__rung=rung))
    if not frames:
        raise Refusal(f"{rung} has no frame yet.")
    celsius = None if not text.strip() else _celsius(text)
    for frame in frames:
        _set(frame, celsius)
    Frame.objects.bulk_update(frames, ["overrides"])
    return len(frames)


def enter_csv(ladder: Ladder, upload: UploadedFile | None) -> int:
    """Temperatures by file name from a CSV with the columns file and temperature_c. Returns how many frames it told."""
    if upload is None:
        raise Refusal("Choose a CSV file with the columns file and temperature_c first.")
    if (upload.size or 0) > _LONGEST_CSV_BYTES:
        raise Refusal(f"{upload.name} is larger than 2 MB: a list of temperatures is not.")
    try:
        told = temperatures_of(upload.read().decode("utf-8-sig"), str(upload.name))
    except UnicodeDecodeError as error:
        raise Refusal(f"{upload.name} is not UTF-8 text: export it as CSV.") from error
    except ValueError as error:
        raise Refusal(f"{error}.") from error
    return _enter_all(ladder, told)


def _enter_all(ladder: Ladder, told: Mapping[str, float]) -> int:
    frames = [one for one in Frame.objects.filter(shot__rung__ladder=ladder) if one.file_name in told]
    if not frames:
        raise Refusal("None of the files it names belongs to this ladder: the column file holds names as on the card.")
    for frame in frames:
        _set(frame, told[frame.file_name])
    Frame.objects.bulk_update(frames, ["overrides"])
    return len(frames)


def _celsius(text: str) -> float:
    celsius = decimal(text)
    if celsius is None:
        raise Refusal(f"“{text[:40]}” is not a temperature: write degrees Celsius, such as 21.5.")
    if not _COLDEST_C <= celsius <= _HOTTEST_C:
        raise Refusal(f"{celsius:g} °C is not a plausible camera temperature.")
    return celsius


def _set(frame: Frame, celsius: float | None) -> None:
    frame.overrides = {key: value for key, value in frame.overrides.items() if key != "temperature_c"}
    if celsius is not None:
        frame.overrides["temperature_c"] = celsius
