"""A sitting in one file: every record of it, optionally with its originals, that another installation takes in as it is.

A zip with a manifest (sizes and SHA-256 of every file) and ``sitting.json``: rows of every table that belong to the
sitting, references by the numbers they had. Bodies, lenses and profiles are found by what names them.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import re
import shutil
import tempfile
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from django.conf import settings
from django.db import IntegrityError, models, transaction
from django.utils.crypto import get_random_string

from yellowjacket import __version__, data_folder
from yellowjacket.backup import UNREADABLE, KeepingError, extract, extract_into, read_manifest
from yellowjacket.bench.darks import measure
from yellowjacket.bench.deleted_archives import ROWS
from yellowjacket.bench.exchange.row_types import RowError, checked
from yellowjacket.bench.intake.originals import complaint
from yellowjacket.bench.measure.staleness import take_as_measured, unmeasured
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
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.metrology.measurands import Measurand

FORMAT = "yellowjacket-sitting-archive/1"
_MEASURED = frozenset(Measurand)
_MOST_BYTES = 256 << 20
_TOKEN_LENGTH = 16
_ROWS_AT_ONCE = 400
# How write() makes the names of originals unique.
_MARKED = re.compile(r"^[0-9a-f]{16}-")
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
    current = [ladder.pk for ladder in sitting.ladders.all() if not unmeasured(ladder) and not _darks_due(ladder)]
    text = json.dumps({"shared": shared, "own": rows, "current": current}, ensure_ascii=False).encode()
    entries = [{"path": ROWS, "size": len(text), "sha256": hashlib.sha256(text).hexdigest()}]
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        archive.writestr(zipfile.ZipInfo(ROWS), text)
        if originals:
            for sha256, one in _files(sitting).items():
                # What is gone or was changed is not what was measured: it stays behind, and is missed on the other side.
                if complaint(one) is None:
                    original = Path(one.path)
                    name = f"originals/{sha256[:16]}-{original.name}"
                    archive.write(original, name)
                    entries.append({"path": name, "size": original.stat().st_size, "sha256": sha256})
        manifest = {"format": FORMAT, "version": __version__, "sitting": sitting.name, "files": entries}
        archive.writestr("manifest.json", json.dumps(manifest, indent=1, ensure_ascii=False))


def _darks_due(ladder: Ladder) -> bool:
    return ladder.kind == Ladder.Kind.TIME and measure.unmeasured(ladder) > 0


def _files(sitting: Sitting) -> dict[str, Frame | LanePicture]:
    frames = Frame.objects.filter(sitting=sitting).defer("report")
    pictures = LanePicture.objects.filter(lane__ladder__sitting=sitting)
    found: dict[str, Frame | LanePicture] = {one.sha256: one for one in frames}
    return found | {one.sha256: one for one in pictures}


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
    """Take a sitting in from an archive: all or nothing. Refuses damage, tricks and unknown versions, naming file and field.

    Raises Question for a sitting that is here already unless ``again`` says that a second one is wanted, and for bodies and
    lenses that are described otherwise here unless ``described`` says what becomes of them: HERE or BOTH.

    Originals are unpacked to their place first, which takes long; only then is the database written, which takes a moment.
    """
    folder = Path(settings.HOME) / "originals" / f"archive-{get_random_string(_TOKEN_LENGTH)}"
    try:
        with zipfile.ZipFile(file) as archive:
            manifest = read_manifest(archive, name, FORMAT)
            entries = {entry["path"]: entry for entry in manifest["files"]}
            document = _document(archive, entries, name)
            if sum(entry["size"] for entry in entries.values()) > shutil.disk_usage(settings.HOME).free:
                raise Refusal(
                    f"{name}: {sum(e['size'] for e in entries.values()) / 1e9:.1f} GB do not fit on the disk."
                )
            _ask(document, again=again, described=described)
            came = _unpacked(archive, entries, name, folder)
        return _stored(document, came, described)
    except BaseException as error:
        shutil.rmtree(folder, ignore_errors=True)
        if isinstance(error, Refusal):
            raise
        if isinstance(error, RowError):
            raise Refusal(f"{name}, {ROWS}: {error}. It is damaged or was tampered with.") from error
        if isinstance(error, (KeepingError, *UNREADABLE)):
            words = str(error) if isinstance(error, KeepingError) else f"{name} is not an archive, or was cut short"
            raise Refusal(f"{words}.") from error
        raise


def _document(archive: zipfile.ZipFile, entries: Mapping[str, Mapping[str, Any]], name: str) -> _Document:
    """The rows of an archive, each checked. Raises RowError, KeepingError and Refusal."""
    if ROWS not in entries or entries[ROWS]["size"] > _MOST_BYTES:
        raise Refusal(f"{name} holds no sitting.")
    with tempfile.TemporaryFile(dir=data_folder.arriving(settings.HOME)) as scratch:
        extract_into(archive, entries[ROWS], scratch)
        scratch.seek(0)
        try:
            document = json.load(scratch)
        except (RecursionError, ValueError) as error:
            raise RowError("is no JSON that can be read, or is nested too deeply") from error
    return _checked(document)


@dataclass(frozen=True, slots=True)
class _Document:
    """Checked rows: of what is shared, of the sitting's own tables, and numbers of ladders that are measured."""

    shared: Sequence[tuple[type[models.Model], dict[str, Any]]]
    own: Mapping[str, Sequence[dict[str, Any]]]
    current: Sequence[int]

    @property
    def sitting(self) -> dict[str, Any]:
        """The row of the sitting itself."""
        return self.own["Sitting"][0]


def _checked(document: object) -> _Document:
    if not isinstance(document, Mapping):
        raise RowError("holds no rows")
    shared_of = {model.__name__: model for model in _SHARED}
    own_of = {model.__name__: model for model, _ in _OWN}
    shared: list[tuple[type[models.Model], dict[str, Any]]] = []
    for n, item in enumerate(_list(document, "shared")):
        model = shared_of.get(str(item.get("table"))) if isinstance(item, Mapping) else None
        if model is None:
            raise RowError(f"shared, row {n + 1}: belongs to no table that is shared")
        shared.append((model, _row_of(model, item.get("row"), n)))
    own: dict[str, list[dict[str, Any]]] = {}
    for item in _list(document, "own"):
        model = own_of.get(str(item.get("table"))) if isinstance(item, Mapping) else None
        # Tables of a newer version are left out.
        if model is not None:
            made = [_row_of(model, row, n) for n, row in enumerate(_list(item, "rows"))]
            # Readings of what another version measures are left out.
            own[model.__name__] = [row for row in made if model is not Reading or row.get("quantity") in _MEASURED]
    if len(own.get("Sitting", ())) != 1:
        raise RowError("Sitting: there must be one")
    current = [number for number in _list(document, "current", []) if type(number) is int]
    return _Document(shared, own, current)


def _list(values: Mapping[str, Any], name: str, absent: list[Any] | None = None) -> list[Any]:
    found = values.get(name, absent)
    if not isinstance(found, list):
        raise RowError(f"{name} is not a list")
    return found


def _row_of(model: type[models.Model], row: object, n: int) -> dict[str, Any]:
    try:
        values = checked(model, row)
        if "id" not in values:
            raise RowError("id: is missing")
    except RowError as error:
        raise RowError(f"{model.__name__}, row {n + 1}, {error}") from error
    return values


def _unpacked(
    archive: zipfile.ZipFile, entries: Mapping[str, Mapping[str, Any]], name: str, folder: Path
) -> dict[str, Path]:
    """Every original of the archive by its digest, in its place. Raises KeepingError and Refusal."""
    found: dict[str, Path] = {}
    for path, entry in entries.items():
        if path == ROWS:
            continue
        parts = path.split("/")
        if len(parts) != 2 or parts[0] != "originals" or parts[1] in ("", ".", "..") or not parts[1].isprintable():
            raise Refusal(f"{name}: {path!r} leads out of the archive: it was tampered with.")
        folder.mkdir(parents=True, exist_ok=True)
        # Names were made unique on the way; the own one is taken again where it is free.
        own = _MARKED.sub("", parts[1]) or parts[1]
        target = folder / (own if not (folder / own).exists() else parts[1])
        extract(archive, entry, target)
        found[entry["sha256"]] = target
    return found


@transaction.atomic
def _stored(document: _Document, came: Mapping[str, Path], described: str) -> Taken:
    numbers: dict[tuple[str, Any], Any] = {}
    remarks: list[str] = []
    for model, row in document.shared:
        one, remark = _shared(model, row, described)
        numbers[model.__name__, row["id"]] = one.pk
        remarks += [remark] if remark else []
    for model, _ in _OWN:
        _store(model, document.own.get(model.__name__, ()), numbers)
    sitting = Sitting.objects.get(pk=numbers["Sitting", document.sitting["id"]])
    _references_in_json(sitting, numbers)
    remarks += _originals(sitting, came)
    for number in document.current:
        ladder = Ladder.objects.filter(pk=numbers.get(("Ladder", number), 0)).first()
        if ladder is not None:
            take_as_measured(ladder)
            measure.take_as_measured(ladder)
    return Taken(sitting, tuple(remarks))


def _ask(document: _Document, *, again: bool, described: str) -> None:
    sitting = document.sitting
    is_here = ""
    named = {"name": sitting.get("name", ""), "held_on": sitting.get("held_on")}
    if not again and Sitting.objects.filter(**named).exists():
        is_here = f"A sitting “{named['name']}” of {named['held_on']} is here already."
    otherwise = []
    if described == ASK:
        for model, row in document.shared:
            present = _present(model, row)
            different = _different(present, row) if present and model is not ToleranceProfile else []
            if different:
                otherwise.append(f"{present} is described otherwise here: {'; '.join(different)}.")
    if is_here or otherwise:
        raise Question(is_here, otherwise)


def _present(model: type[models.Model], row: Mapping[str, Any]) -> models.Model | None:
    return model._default_manager.filter(**{name: row.get(name, "") for name in _SHARED[model]}).first()


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
    name = f"{row.get(mark, '')[:60]} (imported {get_random_string(4).lower()})".strip()
    made = _stored_alone(model, {**row, mark: name})
    return made, f"{present} is described otherwise here: the sitting's own is kept beside it, marked “{name}”"


def _stored_alone(model: type[models.Model], row: Mapping[str, Any]) -> models.Model:
    made = _made(model, row, {})
    try:
        made.save(force_insert=True)
    except IntegrityError as error:
        raise RowError(f"{model.__name__}: breaks a rule of its table ({error})") from error
    return made


def _store(model: type[models.Model], rows: Sequence[Mapping[str, Any]], numbers: dict[tuple[str, Any], Any]) -> None:
    """Rows of a table as records of this installation, many at a time; ``numbers`` learns what they are called here."""
    made = [_made(model, values, numbers) for values in rows]
    try:
        model._default_manager.bulk_create(made, batch_size=_ROWS_AT_ONCE)
    except IntegrityError as error:
        raise RowError(
            f"{model.__name__}: rows contradict each other, or break a rule of their table ({error})"
        ) from error
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
                raise RowError(f"{model.__name__}, {field.name}: a reference leads nowhere")
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
    absent = [
        f.name for f in model._meta.concrete_fields
        if not (f.primary_key or f.null or f.has_default() or f.attname in fields or getattr(f, "auto_now_add", False))
        and not getattr(f, "auto_now", False) and not f.blank
    ]  # fmt: skip
    if absent:
        raise RowError(f"{model.__name__}: {absent[0]} is missing")
    return model(**fields)


def _references_in_json(sitting: Sitting, numbers: Mapping[tuple[str, Any], Any]) -> None:
    for sheet in sitting.jury_sheets.all():
        sheet.slips = [{**slip, "rung": numbers.get(("Rung", slip["rung"]), 0)} for slip in sheet.slips]
        sheet.save(update_fields=["slips"])


def _originals(sitting: Sitting, came: Mapping[str, Path]) -> list[str]:
    """The rows that name files follow these to where they lie now."""
    missing = 0
    rows: list[Frame | LanePicture] = [*Frame.objects.filter(sitting=sitting).defer("report")]
    rows += LanePicture.objects.filter(lane__ladder__sitting=sitting)
    for one in rows:
        place = came.get(one.sha256)
        if place is not None:
            one.path = str(place)
        elif not data_folder.inside_allowed(settings.HOME, Path(one.path)):
            # An archive must not make anything be read that this installation may not read.
            one.path = Path(one.path).name
        with contextlib.suppress(OSError, ValueError):
            if isinstance(one, Frame):
                one.mtime_ns = Path(one.path).stat().st_mtime_ns if place is not None else None
        missing += not Path(one.path).is_file()
    frames = [one for one in rows if isinstance(one, Frame)]
    Frame.objects.bulk_update(frames, ["path", "mtime_ns"], batch_size=_ROWS_AT_ONCE)
    pictures = [one for one in rows if isinstance(one, LanePicture)]
    LanePicture.objects.bulk_update(pictures, ["path"], batch_size=_ROWS_AT_ONCE)
    for problem in sitting.problems.exclude(path=""):
        if not data_folder.inside_allowed(settings.HOME, Path(problem.path)):
            problem.path = ""
            problem.save(update_fields=["path"])
    return [f"{missing} originals are not here: what was measured is, pictures are not"] if missing else []
