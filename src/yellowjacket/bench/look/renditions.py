"""Lanes: corrections given to other tools, the pictures that come back, and what was done to them."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from xml.sax.saxutils import quoteattr

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models import Q, QuerySet

from yellowjacket.bench.csv_cells import safe_text
from yellowjacket.bench.development import Developing
from yellowjacket.bench.intake.originals import complaint
from yellowjacket.bench.intake.problems import misfit_from, note_problem
from yellowjacket.bench.intake.uploads import said_name, store_upload
from yellowjacket.bench.jobs import progress as progress_
from yellowjacket.bench.jobs import queue
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.jobs.registry import handles
from yellowjacket.bench.models import BlindRound, Frame, Job, Ladder, Lane, LanePicture, Patch, Problem, Rung, Shot
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.metrology.estimate import Quantity, missing
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.raw.frame import PICTURE_SUFFIXES
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.readings.patch import UNIFORM
from yellowjacket.core.registration.similarity import Similarity, scaled_to
from yellowjacket.core.renditions.match import (
    EffectTask,
    Examined,
    Finished,
    Known,
    PictureTask,
    as_numbers,
    effect_from,
    examine,
)

_MOST_PICTURES = 400
# Patches whose noise and colour are held against the frame as is.
_MOST_UNIFORM = 12
CORRECTION_COLUMNS = (
    "file", "rung", "iso", "exposure_s", "move_to_equal_brightness_stops", "red_gain", "green_gain", "blue_gain",
    "white_balance",
)  # fmt: skip
EVEN_OUT = "Sharpening and noise reduction must be zero, or equal in both: otherwise you compare finishes, not bodies."


@dataclass(frozen=True, slots=True)
class Correction:
    """What brings one frame to equal brightness and a neutral grey patch. Gains are relative to green."""

    frame: Frame
    rung: Rung
    moved_stops: float
    red_gain: float
    blue_gain: float
    balance: str


def corrections(ladder: Ladder) -> list[Correction]:
    """Corrections of every light frame of a ladder, rung by rung."""
    rungs = {rung.pk: rung for rung in ladder.rungs.all()}
    developing = Developing.of(ladder, list(rungs.values()))
    found = []
    for frame in _light(ladder):
        assert frame.shot is not None  # noqa: S101 - the query asks for it
        developed = developing.of_frame(frame, frame.shot.rung_id)
        red, green, blue = developed.how.gains
        found.append(
            Correction(
                frame, rungs[frame.shot.rung_id], developed.moved_stops, red / green, blue / green, developed.balance
            )
        )
    return found


def _light(ladder: Ladder) -> Sequence[Frame]:
    frames = Frame.objects.filter(shot__rung__ladder=ladder, shot__kind=Shot.Kind.LIGHT).defer("report")
    return list(frames.select_related("shot").order_by("shot__rung__position", "shot__repeat"))


def corrections_csv(ladder: Ladder) -> Iterator[str]:
    """The corrections as CSV, a row per frame."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(CORRECTION_COLUMNS)
    for one in corrections(ladder):
        writer.writerow(
            safe_text(value)
            for value in (
                one.frame.file_name, one.rung.label, one.rung.iso, one.rung.exposure_s, round(one.moved_stops, 3) + 0.0,
                round(one.red_gain, 4), 1, round(one.blue_gain, 4), one.balance,
            )
        )  # fmt: skip
    yield buffer.getvalue()


def sidecar(one: Correction) -> str:
    """The correction of one frame as an XMP packet (ISO 16684-1): our own properties, documented in docs/exports.md, and the
    exposure of the published camera-raw schema, which many tools read (XMP specification, part 2; from memory)."""
    values = {
        "dc:source": one.frame.file_name,
        "yj:moveStops": f"{one.moved_stops:.3f}",
        "yj:redGain": f"{one.red_gain:.4f}",
        "yj:blueGain": f"{one.blue_gain:.4f}",
        "yj:sharpening": "0",
        "yj:noiseReduction": "0",
        "crs:Exposure": f"{min(max(one.moved_stops, -4), 4):+.2f}",
    }
    attributes = "\n   ".join(f"{name}={quoteattr(value)}" for name, value in values.items())
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>\n'
        '<x:xmpmeta xmlns:x="adobe:ns:meta/">\n'
        ' <rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">\n'
        '  <rdf:Description rdf:about=""\n'
        '   xmlns:dc="http://purl.org/dc/elements/1.1/"\n'
        '   xmlns:crs="http://ns.adobe.com/camera-raw-settings/1.0/"\n'
        '   xmlns:yj="urn:yellowjacket:correction:1"\n'
        f"   {attributes}/>\n"
        " </rdf:RDF>\n</x:xmpmeta>\n"
        '<?xpacket end="w"?>\n'
    )


def create_lane(ladder: Ladder, kind: str, name: str, words: str = "", person: str = "") -> Lane:
    """A new lane of a ladder. Refuses nameless and doubled ones."""
    name = name.strip()[:60]
    if kind not in Lane.Kind.values:
        raise Refusal("Say what kind of pictures they are.")
    if not name:
        raise Refusal("Name the lane: what was done to the pictures, in a word or two.")
    if ladder.lanes.filter(name=name).exists():
        raise Refusal(f"{ladder} has a lane “{name}” already: choose another name, or add pictures to that one.")
    return Lane.objects.create(
        ladder=ladder, kind=kind, name=name, settings=words.strip()[:200], person=person.strip()[:80]
    )


def add_pictures(lane: Lane, uploads: Iterable[UploadedFile]) -> Job:
    """Store rendered pictures of a lane and start finding their frames. Refuses when none is a picture."""
    folder = settings.HOME / "originals" / f"lane-{lane.pk}"
    folder.mkdir(parents=True, exist_ok=True)
    stored, refused = [], []
    for upload in list(uploads)[:_MOST_PICTURES]:
        name = upload.name or "a file"
        if not name.lower().endswith(PICTURE_SUFFIXES):
            refused.append(f"{name} is none of {', '.join(sorted({s.lstrip('.') for s in PICTURE_SUFFIXES}))}")
        elif (upload.size or 0) > settings.UPLOAD_MAX_BYTES:
            refused.append(f"{name} is larger than {settings.UPLOAD_MAX_BYTES // 1024**2} MB")
        else:
            stored.append(str(store_upload(folder, upload)[0]))
    if not stored:
        raise Refusal("; ".join(refused[:3]) + "." if refused else "Choose one or more pictures first.")
    return queue.start(lane.ladder.sitting, Job.Kind.LANE, lane=lane.pk, files=stored)


@handles(Job.Kind.LANE)
def match_pictures(job: Job, progress: progress_.Progress) -> str:
    """The job: find frame and place of every picture, then measure what the lane did. Returns a summary."""
    asked = job.parameters.get("lanes") or [[job.parameters["lane"], job.parameters["files"]]]
    progress.begin(sum(len(files) for _, files in asked))
    return "; ".join(_matched(lane, files, progress) for lane, files in asked)


def _matched(lane_id: int, files: Sequence[str], progress: progress_.Progress) -> str:
    """Place the pictures of one lane and measure what it did."""
    lane = Lane.objects.select_related("ladder__sitting", "ladder__body").get(pk=lane_id)
    known = set(lane.pictures.values_list("path", flat=True))
    waiting = [path for path in files if path not in known]
    frames = tuple(
        Known(frame.pk, frame.shot.rung_id, frame.path, frame.iso or 0, frame.exposure_s or 0.0, frame.captured_at)
        for frame in _light(lane.ladder)
        if frame.shot is not None
    )
    rungs = tuple((rung.pk, rung.iso, rung.exposure_s) for rung in lane.ladder.rungs.all())
    added, problems = 0, 0
    tasks = [PictureTask(path, said_name(Path(path)), frames, rungs) for path in waiting]
    for task, found in run_all(examine, tasks, here=True):
        # What was said of an earlier try with this picture is over.
        complaints_of(lane).filter(file_name=task.name).delete()
        if isinstance(found, Examined):
            added += _keep(lane, task.path, found)
        else:
            note_problem(lane.ladder.sitting, task.name, misfit_from(found), task.path)
            problems += 1
        progress.step()
    measure_effects(lane)
    words = f"{counted(added, 'picture')} in “{lane}”"
    return f"{words}, {problems} not placed, see Check" if problems else words


def complaints_of(lane: Lane) -> QuerySet[Problem]:
    """What was said of pictures that could not be placed in a lane."""
    return lane.ladder.sitting.problems.filter(path__contains=f"/lane-{lane.pk}/")


def _keep(lane: Lane, path: str, found: Examined) -> bool:
    if lane.pictures.filter(sha256=found.sha256).exists():
        return False
    picture = LanePicture(
        lane=lane, rung_id=found.rung, frame_id=found.frame, file_name=said_name(Path(path)), path=path, sha256=found.sha256,
        width=found.width, height=found.height, quarter_turns=found.quarter_turns, matched_by=found.matched_by,
        remark=found.remark[:200],
    )  # fmt: skip
    picture.place = found.place or _whole(lane, found)
    picture.save()
    return True


def _whole(lane: Lane, found: Examined) -> Similarity:
    """Where nothing better is known: the picture shows the whole frame."""
    frame = next(iter(_light(lane.ladder)), None)
    size = (frame.width, frame.height) if frame else (lane.ladder.body.pixel_width, lane.ladder.body.pixel_height)
    return scaled_to(size, (found.width, found.height))


@transaction.atomic
def assign(picture: LanePicture, rung: Rung) -> None:
    """A person's word over the finding: the picture belongs to that rung."""
    if rung.ladder_id != picture.lane.ladder_id:
        raise Refusal("That rung belongs to another ladder.")
    picture.rung, picture.frame, picture.matched_by = rung, None, "by hand"
    picture.effect = {}
    picture.save(update_fields=["rung", "frame", "matched_by", "effect"])


def measure_effects(lane: Lane) -> None:
    """What the lane did, rung by rung, in display units; rungs without a raw frame have none."""
    ladder = lane.ladder
    rungs = list(ladder.rungs.all())
    developing = Developing.of(ladder, rungs)
    clean = next((f for f in _light(ladder) if f.shot and f.shot.rung_id == developing.reference_id), None)
    if clean is None or complaint(clean) is not None:
        return
    patches = list(ladder.patches.all())
    texture = next((_rect(patch) for patch in patches if patch.role == Patch.Role.TEXTURE), None)
    uniform = [_rect(patch) for patch in patches if patch.role in UNIFORM and min(patch.w, patch.h) >= 16]
    by_rung: dict[int, list[LanePicture]] = {}
    for picture in lane.pictures.select_related("frame"):
        if picture.frame is not None and complaint(picture.frame) is None and complaint(picture) is None:
            by_rung.setdefault(picture.rung_id, []).append(picture)
    tasks = []
    for rung_id, pictures in by_rung.items():
        finished = []
        for picture in pictures[:2]:
            assert picture.frame is not None  # noqa: S101 - gathered above
            how = developing.of_frame(picture.frame, rung_id).how
            finished.append(Finished(picture.path, picture.quarter_turns, picture.place, picture.frame.path, how))
        tasks.append(
            EffectTask(
                rung_id, tuple(finished), tuple(uniform[:_MOST_UNIFORM]), texture, clean.path, developing.clean(clean)
            )
        )
    for task, effect in run_all(effect_from, tasks):
        if not isinstance(effect, Exception):
            lane.pictures.filter(rung_id=task.key).update(effect=as_numbers(effect))
        else:
            misfit = misfit_from(effect)
            lane.pictures.filter(rung_id=task.key).update(remark=f"{misfit.reason} {misfit.remedy}"[:200])


def _rect(patch: Patch) -> Rect:
    return Rect(patch.x, patch.y, patch.w, patch.h)


def effect_of(picture: LanePicture) -> Mapping[str, Quantity]:
    """What the lane did to a picture's rung, by field of core.finish.Effect."""
    nothing = missing(Missing.NO_RAW_FRAME_OF_IT)
    fields = ("luma_as_is", "luma", "chroma_as_is", "chroma", "colour_de00", "detail_kept")
    return {name: Quantity.from_plain(picture.effect[name]) if name in picture.effect else nothing for name in fields}


def remove(lane: Lane) -> None:
    """Take a lane away with its pictures. Refuses while grades or verdicts rest on it: they would lose what they were given
    for."""
    rounds = BlindRound.objects.filter(Q(trials__lane=lane) | Q(trials__other_lane=lane))
    if rounds.filter(finished_at=None).exists():
        raise Refusal(f"“{lane}” is part of a blind round that is not finished: finish the round first.")
    if lane.grades.exists() or lane.verdicts.exists() or lane.verdicts_against.exists():
        raise Refusal(f"“{lane}” was judged: grades or verdicts rest on these pictures, so it stays.")
    lane.delete()
