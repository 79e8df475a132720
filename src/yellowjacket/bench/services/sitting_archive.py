"""A sitting in one file: every record of it, optionally with its originals, that another installation takes in as it is.

A zip with a manifest (sizes and SHA-256 of every file) and ``sitting.json``: rows of every table that belong to the
sitting, references by the numbers they had. Bodies, lenses and profiles are found by what names them.
"""

from __future__ import annotations

import base64
import hashlib
import json
import shutil
import tempfile
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import DatabaseError, models, transaction
from django.utils.crypto import get_random_string

from yellowjacket import __version__, home
from yellowjacket.bench.models import (
    BlindRound,
    BlindTrial,
    Body,
    CheckItem,
    Conditions,
    Decision,
    Frame,
    Grade,
    JurySheet,
    Ladder,
    Lane,
    LanePicture,
    Lens,
    MarkedSpot,
    OtherDecision,
    PairVerdict,
    Patch,
    Placement,
    Problem,
    Reading,
    Record,
    Rung,
    RungDarks,
    Shot,
    Sitting,
    SittingEvent,
    ToleranceProfile,
    TrailEntry,
    Use,
)
from yellowjacket.bench.services.errors import Refusal
from yellowjacket.bench.services.measuring import take_as_measured, unmeasured
from yellowjacket.keeping import KeepingError, extract, read_manifest

FORMAT = "yellowjacket-sitting-archive/1"
ROWS = "sitting.json"
_MOST_BYTES = 512 << 20
_TOKEN_LENGTH = 16
_ROWS_AT_ONCE = 400
_BY_ARCHIVE = "by archive"
# What is shared between sittings, and by which fields it is found again.
_SHARED: dict[type[models.Model], tuple[str, ...]] = {
    Body: ("make", "model", "serial"), Lens: ("name",), ToleranceProfile: ("name",),
}  # fmt: skip
# Everything that belongs to a sitting, in an order in which references point backwards, and how its rows are found.
_OWN: tuple[tuple[type[models.Model], str], ...] = (
    (Sitting, "pk"), (Use, "sitting"), (Ladder, "sitting"), (Rung, "ladder__sitting"), (Shot, "rung__ladder__sitting"),
    (Frame, "sitting"), (Patch, "ladder__sitting"), (Reading, "rung__ladder__sitting"), (RungDarks, "rung__ladder__sitting"),
    (Lane, "ladder__sitting"), (LanePicture, "lane__ladder__sitting"), (Placement, "ladder__sitting"),
    (Grade, "use__sitting"), (PairVerdict, "use__sitting"), (Record, "ladder__sitting"),
    (Decision, "record__ladder__sitting"), (OtherDecision, "record__ladder__sitting"), (TrailEntry, "sitting"),
    (BlindRound, "sitting"), (BlindTrial, "round__sitting"), (JurySheet, "sitting"),
    (MarkedSpot, "sitting"), (CheckItem, "sitting"), (Conditions, "sitting"), (SittingEvent, "sitting"), (Problem, "sitting"),
)  # fmt: skip


# What becomes of a body or lens that is described otherwise here: asked, the one here stands for it, or both are kept.
ASK, HERE, BOTH = "ask", "here", "both"


class Question(Refusal):
    """Nothing is stored before a person has decided. ``is_here``: the sitting itself is here already; ``described``: a sentence
    for each body and lens that is described otherwise here."""

    def __init__(self, is_here: str, described: Sequence[str]) -> None:
        super().__init__(" ".join((*([is_here] if is_here else []), *described)))
        self.is_here, self.described = is_here, tuple(described)


@dataclass(frozen=True, slots=True)
class Taken:
    """What an import made, and sentences on what was different here."""

    sitting: Sitting
    remarks: tuple[str, ...]


def write(sitting: Sitting, file: IO[bytes], *, originals: bool) -> None:
    """Write the archive of a sitting. ``originals``: with its frames and pictures, else only their digests."""
    rows = []
    for model, path in _OWN:
        found = model._default_manager.filter(**{path: sitting.pk}).order_by("pk")
        rows.append({"table": model.__name__, "rows": [_row(one) for one in found]})
    shared = _shared_rows(sitting)
    # Ladders whose readings are those of their frames and patches: they are so elsewhere, too.
    current = [ladder.pk for ladder in sitting.ladders.all() if not unmeasured(ladder)]
    text = json.dumps({"shared": shared, "own": rows, "current": current}, ensure_ascii=False).encode()
    entries = [{"path": ROWS, "size": len(text), "sha256": hashlib.sha256(text).hexdigest()}]
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        archive.writestr(zipfile.ZipInfo(ROWS), text)
        if originals:
            for sha256, original in _files(sitting).items():
                if original.is_file():
                    name = f"originals/{sha256[:16]}-{original.name}"
                    archive.write(original, name)
                    entries.append({"path": name, "size": original.stat().st_size, "sha256": sha256})
        manifest = {"format": FORMAT, "version": __version__, "sitting": sitting.name, "files": entries}
        archive.writestr("manifest.json", json.dumps(manifest, indent=1, ensure_ascii=False))


def _files(sitting: Sitting) -> dict[str, Path]:
    frames = Frame.objects.filter(sitting=sitting).values_list("sha256", "path")
    lane = LanePicture.objects.filter(lane__ladder__sitting=sitting).values_list("sha256", "path")
    return {sha256: Path(path) for sha256, path in (*frames, *lane)}


def _shared_rows(sitting: Sitting) -> list[dict[str, Any]]:
    bodies = Body.objects.filter(
        models.Q(ladders__sitting=sitting)
        | models.Q(marked_spots__sitting=sitting)
        | models.Q(conditions__sitting=sitting)
    ).distinct()
    profiles = ToleranceProfile.objects.filter(pk=sitting.profile_id)
    lenses = [sitting.lens_used] if sitting.lens_used else []
    found: Iterable[models.Model] = (*bodies, *profiles, *lenses)
    return [{"table": type(one).__name__, "row": _row(one)} for one in found]


def _row(one: models.Model) -> dict[str, Any]:
    """A row as plain values: references by number, bytes as base64, moments as ISO 8601."""
    found: dict[str, Any] = {}
    for field in one._meta.concrete_fields:
        value = field.value_from_object(one)
        if isinstance(field, models.BinaryField):
            value = base64.b64encode(bytes(value)).decode() if value is not None else None
        elif (
            not isinstance(field, models.JSONField)
            and value is not None
            and not isinstance(value, (str, int, float, bool))
        ):
            value = field.value_to_string(one)
        found[field.attname] = value
    return found


def read(file: IO[bytes] | Path, name: str, *, again: bool = False, described: str = ASK) -> Taken:
    """Take a sitting in from an archive: all or nothing. Refuses damage, tricks and unknown versions.

    Raises Question for a sitting that is here already unless ``again`` says that a second one is wanted, and for bodies and
    lenses that are described otherwise here unless ``described`` says what becomes of them: HERE or BOTH.
    """
    try:
        with zipfile.ZipFile(file) as archive, tempfile.TemporaryDirectory(prefix="yellowjacket-") as scratch:
            manifest = read_manifest(archive, name, FORMAT)
            entries = {entry["path"]: entry for entry in manifest["files"]}
            total = sum(entry["size"] for entry in entries.values())
            if total > shutil.disk_usage(scratch).free:
                raise Refusal(f"{name}: {total / 1e9:.1f} GB do not fit on the disk.")
            if ROWS not in entries or entries[ROWS]["size"] > _MOST_BYTES:
                raise Refusal(f"{name} holds no sitting.")
            folder = Path(scratch)
            for path, entry in entries.items():
                parts = path.split("/")
                if path != ROWS and not (
                    len(parts) == 2 and parts[0] == "originals" and parts[1] not in ("", ".", "..")
                ):
                    raise Refusal(f"{name}: {path!r} leads out of the archive: it was tampered with.")
                extract(archive, entry, folder / path)
            document = json.loads((folder / ROWS).read_text(encoding="utf-8"))
            return _stored(document, folder, entries, again=again, described=described)
    except (KeepingError, zipfile.BadZipFile) as error:
        words = str(error) if isinstance(error, KeepingError) else f"{name} is no archive, or was cut short"
        raise Refusal(f"{words}.") from error
    except (
        KeyError, TypeError, ValueError, OverflowError, ValidationError, models.ObjectDoesNotExist, DatabaseError,
    ) as error:  # fmt: skip
        raise Refusal(f"{name} holds rows that cannot be read: it is damaged or was tampered with.") from error


@transaction.atomic
def _stored(
    document: Mapping[str, Any], folder: Path, entries: Mapping[str, Mapping[str, Any]], *, again: bool, described: str
) -> Taken:
    tables = {model.__name__: model for model, _ in _OWN} | {model.__name__: model for model in _SHARED}
    numbers: dict[tuple[str, Any], Any] = {}
    remarks: list[str] = []
    own = {item["table"]: item["rows"] for item in document["own"]}
    (row,) = own["Sitting"]
    _ask(row, [(tables[item["table"]], item["row"]) for item in document["shared"]], again=again, described=described)
    for item in document["shared"]:
        model = tables[item["table"]]
        one, remark = _shared(model, item["row"], described)
        numbers[item["table"], item["row"]["id"]] = one.pk
        remarks += [remark] if remark else []
    for model, _ in _OWN:
        _store(model, own.get(model.__name__, ()), numbers)
    sitting = Sitting.objects.get(pk=numbers["Sitting", row["id"]])
    _references_in_json(sitting, numbers)
    remarks += _originals(sitting, folder, entries)
    for number in document.get("current", ()):
        take_as_measured(Ladder.objects.get(pk=numbers["Ladder", number]))
    return Taken(sitting, tuple(remarks))


def _ask(
    sitting: Mapping[str, Any], shared: Sequence[tuple[type[models.Model], Mapping[str, Any]]], *, again: bool,
    described: str,
) -> None:  # fmt: skip
    is_here = ""
    if not again and Sitting.objects.filter(name=sitting["name"], held_on=sitting["held_on"]).exists():
        is_here = f"A sitting “{sitting['name']}” of {sitting['held_on']} is here already."
    otherwise = []
    if described == ASK:
        for model, row in shared:
            present = _present(model, row)
            different = _different(present, row) if present and model is not ToleranceProfile else []
            if different:
                otherwise.append(f"{present} is described otherwise here: {'; '.join(different)}.")
    if is_here or otherwise:
        raise Question(is_here, otherwise)


def _present(model: type[models.Model], row: Mapping[str, Any]) -> models.Model | None:
    return model._default_manager.filter(**{name: row[name] for name in _SHARED[model]}).first()


def _different(present: models.Model, row: Mapping[str, Any]) -> list[str]:
    """In words, field by field; columns that only one of both versions knows are no difference."""
    here = _row(present)
    return [
        f"{name.replace('_', ' ')} {_said(here[name])} here, {_said(row[name])} there"
        for name in here
        if name != "id" and name in row and here[name] != row[name]
    ]


def _said(value: object) -> str:
    return str(value)[:60] if value not in ("", None, []) else "nothing"


def _shared(model: type[models.Model], row: Mapping[str, Any], described: str) -> tuple[models.Model, str]:
    """The body, lens or profile of that name here, made when there is none. One that is described otherwise is kept beside the
    one that is here: a profile always, a body or lens where that was decided."""
    present = _present(model, row)
    if present is None:
        return _stored_alone(model, row), ""
    if not _different(present, row):
        return present, ""
    if model is not ToleranceProfile and described != BOTH:
        return present, f"{present} is described otherwise here: the description that was here stands"
    # The last of the fields that name it carries the mark: serial of a body, name of the others.
    mark = _SHARED[model][-1]
    name = f"{row[mark][:60]} (imported {get_random_string(4).lower()})".strip()
    made = _stored_alone(model, {**row, mark: name})
    return made, f"{present} is described otherwise here: the sitting's own is kept beside it, marked “{name}”"


def _stored_alone(model: type[models.Model], row: Mapping[str, Any]) -> models.Model:
    made = _made(model, row, {})
    made.save(force_insert=True)
    return made


def _store(model: type[models.Model], rows: Sequence[Mapping[str, Any]], numbers: dict[tuple[str, Any], Any]) -> None:
    """Rows of a table as records of this installation, many at a time; ``numbers`` learns what they are called here."""
    made = [_made(model, values, numbers) for values in rows]
    model._default_manager.bulk_create(made, batch_size=_ROWS_AT_ONCE)
    numbers.update({(model.__name__, values["id"]): one.pk for values, one in zip(rows, made, strict=True)})
    # Moments that a database sets by itself when a row is made.
    moments = [
        f for f in model._meta.concrete_fields if getattr(f, "auto_now_add", False) or getattr(f, "auto_now", False)
    ]
    for one, values in zip(made, rows, strict=True):
        for field in moments:
            if field.attname in values:
                setattr(one, field.attname, field.to_python(values[field.attname]))
    if moments and made:
        model._default_manager.bulk_update(made, [field.name for field in moments], batch_size=_ROWS_AT_ONCE)


def _made(model: type[models.Model], values: Mapping[str, Any], numbers: Mapping[tuple[str, Any], Any]) -> models.Model:
    """A row as a record of this installation, not stored yet. Unknown columns, of a newer version, are left out."""
    fields: dict[str, Any] = {}
    for field in model._meta.concrete_fields:
        if field.primary_key or field.attname not in values:
            continue
        value = values[field.attname]
        if field.is_relation and value is not None:
            target = field.related_model.__name__ if isinstance(field.related_model, type) else ""
            value = numbers.get((target, value))
            if value is None and not field.null:
                raise ValueError(f"{model.__name__}: a reference leads nowhere")
        elif isinstance(field, models.BinaryField) and value is not None:
            value = base64.b64decode(value, validate=True)
        elif not isinstance(field, models.JSONField):
            value = field.to_python(value)
        if field.name == "token" and model._default_manager.filter(token=value).exists():
            value = get_random_string(_TOKEN_LENGTH)
        if field.name == "before" and model is SittingEvent:
            # What to put back names rows of the other installation.
            value = []
        if field.name == "account" and model is TrailEntry and not str(value).startswith(_BY_ARCHIVE):
            # Nobody here signed in for it: who it was is what the archive says.
            value = f"{_BY_ARCHIVE} {value}".strip()[:150]
        fields[field.attname] = value
    made = model(**fields)
    made.clean_fields(
        exclude=[f.name for f in model._meta.concrete_fields if f.is_relation or f.blank or f.null or f.has_default()]
    )
    return made


def _references_in_json(sitting: Sitting, numbers: Mapping[tuple[str, Any], Any]) -> None:
    for sheet in sitting.jury_sheets.all():
        sheet.slips = [{**slip, "rung": numbers.get(("Rung", slip["rung"]), 0)} for slip in sheet.slips]
        sheet.save(update_fields=["slips"])


def _originals(sitting: Sitting, folder: Path, entries: Mapping[str, Mapping[str, Any]]) -> list[str]:
    """Files of the archive go to the originals of the sitting, and the rows that name them follow."""
    came = {entry["sha256"]: folder / path for path, entry in entries.items() if path != ROWS}
    target = settings.HOME / "originals" / f"sitting-{sitting.pk}"
    missing = 0
    rows: list[Frame | LanePicture] = [*Frame.objects.filter(sitting=sitting).defer("report")]
    rows += LanePicture.objects.filter(lane__ladder__sitting=sitting)
    for one in rows:
        source = came.get(one.sha256)
        if source is not None:
            target.mkdir(parents=True, exist_ok=True)
            place = target / source.name
            shutil.copyfile(source, place)
            one.path = str(place)
            one.save(update_fields=["path"])
            continue
        if not home.inside_allowed(settings.HOME, Path(one.path)):
            # An archive must not make anything be read that this installation may not read.
            one.path = Path(one.path).name
            one.save(update_fields=["path"])
        missing += not Path(one.path).is_file()
    for problem in sitting.problems.exclude(path=""):
        if not home.inside_allowed(settings.HOME, Path(problem.path)):
            problem.path = ""
            problem.save(update_fields=["path"])
    return [f"{missing} originals are not here: what was measured is, pictures are not"] if missing else []
