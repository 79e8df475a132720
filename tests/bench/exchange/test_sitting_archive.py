"""A sitting in one file: round trip to the last bit, conflicts, damage and tricks."""

import io
import json
import random
import re
import zipfile
from pathlib import Path

import pytest
from django.db import models

from yellowjacket import data_folder as data_folder_
from yellowjacket.bench.exchange import readings as readings_
from yellowjacket.bench.exchange import sitting_archive
from yellowjacket.bench.intake import importing
from yellowjacket.bench.look import blind_rounds, contact_sheets, grades
from yellowjacket.bench.measure import run, staleness
from yellowjacket.bench.models import Body, Frame, Grade, JurySheet, Reading, Sitting, ToleranceProfile
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.limits.tolerance import LEVELS

pytestmark = pytest.mark.django_db


@pytest.fixture
def full(sitting, card, data_folder):
    """A sitting with frames, readings, grades, a blind round, a jury sheet and a signed record."""
    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    run.start_measuring(sitting)
    ladder, use = sitting.ladders.get(), sitting.uses.first()
    for rung in ladder.rungs.all():
        grades.grade_rung(rung, use, "Wren", 2)
    grades.give_reason(ladder.rungs.first(), use, "Wren", "grain")
    blind_rounds.begin(sitting, use, "Wren", 1.0)
    contact_sheets.make_sheet(sitting, use)
    record = record_.open_record(ladder)
    for each in sitting.uses.all():
        for level in LEVELS:
            record_.decide(record, each, level, 200)
    record_.sign(record, "Wren")
    return sitting


def packed(sitting, **options):
    buffer = io.BytesIO()
    sitting_archive.write(sitting, buffer, **({"originals": True} | options))
    return buffer


def without_names_of_files(document):
    """The document as exported, but for the sitting's number in file names."""
    return json.loads(json.dumps(document))


def test_what_comes_in_exports_the_same_to_the_last_bit(full, data_folder):
    before = without_names_of_files(readings_.sitting_document(full))
    buffer = packed(full)
    files = {frame.sha256: open(frame.path, "rb").read() for frame in Frame.objects.all()}  # noqa: PTH123, SIM115
    readings = list(Reading.objects.order_by("pk").values_list("quantity", "channel", "value", "low", "high", "n"))
    Sitting.objects.all().delete()
    Body.objects.all().delete()
    ToleranceProfile.objects.all().delete()
    taken = sitting_archive.read(buffer, "one.zip")
    assert taken.remarks == ()
    after = without_names_of_files(readings_.sitting_document(taken.sitting))
    for ladder_before, ladder_after in zip(before["ladders"], after["ladders"], strict=True):
        for one, other in zip(ladder_before["rungs"], ladder_after["rungs"], strict=True):
            for frame, its in zip(one["frames"], other["frames"], strict=True):
                assert its.pop("file").endswith(frame.pop("file"))
    assert after == before
    assert (
        list(Reading.objects.order_by("pk").values_list("quantity", "channel", "value", "low", "high", "n")) == readings
    )
    for frame in Frame.objects.all():
        assert frame.path.startswith(str(data_folder / "originals"))
        assert open(frame.path, "rb").read() == files[frame.sha256]  # noqa: PTH123, SIM115
    # Nothing has to be measured again, and the key of the jury's sheet still fits.
    assert not staleness.unmeasured(taken.sitting.ladders.get())
    rungs = set(taken.sitting.ladders.get().rungs.values_list("pk", flat=True))
    assert {slip["rung"] for slip in JurySheet.objects.get().slips} == rungs


def test_every_table_of_a_sitting_is_in_it():
    """Whatever refers to a sitting, directly or through what does, is archived, or left out for a reason."""
    archived = {model for model, _ in sitting_archive._OWN}
    left = {"Job", "MasterDark", "PhonePass", "PlanTemplate", "SeenFile"}
    reached, grown = {Sitting}, True
    while grown:
        grown = False
        for model in Sitting._meta.apps.get_app_config("bench").get_models():
            refers = any(isinstance(f, models.ForeignKey) and f.related_model in reached for f in model._meta.fields)
            if refers and model not in reached:
                reached.add(model)
                grown = True
    assert {model.__name__ for model in reached - archived} <= left


def test_without_originals_what_is_missing_is_said(full):
    buffer = packed(full, originals=False)
    Frame.objects.update(path="/gone/x.DNG")
    gone = packed(full, originals=False)
    assert len(buffer.getvalue()) < 3_000_000
    taken = sitting_archive.read(gone, "one.zip", again=True)
    assert taken.remarks == ("12 originals are not here: what was measured is, pictures are not",)


def test_a_sitting_that_is_here_already_asks_first(full):
    buffer = packed(full)
    with pytest.raises(Refusal, match="is here already"):
        sitting_archive.read(buffer, "one.zip")
    assert Sitting.objects.count() == 1
    taken = sitting_archive.read(buffer, "one.zip", again=True)
    assert Sitting.objects.count() == 2
    assert taken.sitting.profile == full.profile
    assert Grade.objects.filter(use__sitting=taken.sitting).count() == 4
    # Links that were given away are not doubled.
    tokens = [round_.token for each in Sitting.objects.all() for round_ in each.blind_rounds.all()]
    assert len(set(tokens)) == 2


def test_a_profile_of_the_same_name_is_kept_beside_the_one_here(full):
    buffer = packed(full)
    ToleranceProfile.objects.filter(pk=full.profile_id).update(thresholds={"shadow_snr": [20, 8, 4]})
    taken = sitting_archive.read(buffer, "one.zip", again=True)
    assert taken.sitting.profile.name.startswith("Default (imported")
    assert taken.sitting.profile.thresholds == {}
    assert len(taken.remarks) == 1


def test_a_body_that_is_described_otherwise_here_is_asked_about(full):
    buffer = packed(full)
    Body.objects.update(price="900")
    with pytest.raises(sitting_archive.Question) as asked:
        sitting_archive.read(buffer, "one.zip")
    assert "is here already" in asked.value.is_here
    assert asked.value.described == ("Ostrel Heath is described otherwise here: price 900 here, nothing there.",)
    assert Sitting.objects.count() == 1
    here = sitting_archive.read(buffer, "one.zip", again=True, described=sitting_archive.HERE)
    assert here.sitting.ladders.get().body.price == "900"
    assert Body.objects.count() == 1
    both = sitting_archive.read(buffer, "one.zip", again=True, described=sitting_archive.BOTH)
    own = both.sitting.ladders.get().body
    assert (own.price, own.make, own.model) == ("", "Ostrel", "Heath")
    assert "(imported" in own.serial
    assert set(Body.objects.values_list("price", flat=True)) == {"900", ""}


def test_a_column_of_another_version_is_no_difference(full):
    def older(rows):
        for item in rows["shared"]:
            item["row"].pop("sensor", None)

    Body.objects.update(sensor="S-52")
    assert sitting_archive.read(rows_with(packed(full), older), "old.zip", again=True).remarks == ()


def changed(buffer, change):
    with zipfile.ZipFile(buffer) as archive:
        entries = {info.filename: archive.read(info) for info in archive.infolist()}
    manifest = json.loads(entries["manifest.json"])
    rows = json.loads(entries["sitting.json"])
    change(entries, manifest, rows)
    found = io.BytesIO()
    with zipfile.ZipFile(found, "w") as archive:
        for name, data in entries.items():
            archive.writestr(name, json.dumps(manifest) if name == "manifest.json" else data)
    return found


DAMAGE = (
    (lambda e, m, r: e.pop("manifest.json"), "no manifest"),
    (lambda e, m, r: m.update(format="yellowjacket-sitting-archive/2"), "upgrade it"),
    (lambda e, m, r: m.update(format="yellowjacket-backup/1"), "not yellowjacket-sitting-archive"),
    (lambda e, m, r: e.update({"sitting.json": e["sitting.json"][:-1] + b" "}), "not what the manifest says"),
    (lambda e, m, r: m["files"].append({"path": "../x", "size": 1, "sha256": "0" * 64}), "tampered"),
    (lambda e, m, r: m["files"].append({"path": "originals/a/b", "size": 1, "sha256": "0" * 64}), "tampered"),
    (lambda e, m, r: m["files"].append({"path": "originals/x", "size": 1, "sha256": "0" * 64}), "is missing"),
    (lambda e, m, r: m.update(files=[]), "holds no sitting"),
)


def test_damage_and_tricks_are_refused_and_nothing_is_stored(full):
    whole = packed(full)
    for change, words in DAMAGE:
        with pytest.raises(Refusal, match=words):
            sitting_archive.read(changed(whole, change), "bad.zip", again=True)
        assert Sitting.objects.count() == 1


def rows_with(buffer, change):
    """The archive with its rows changed and a manifest that fits them."""
    import hashlib

    def both(entries, manifest, rows):
        change(rows)
        data = json.dumps(rows).encode()
        entries["sitting.json"] = data
        for entry in manifest["files"]:
            if entry["path"] == "sitting.json":
                entry |= {"size": len(data), "sha256": hashlib.sha256(data).hexdigest()}

    return changed(buffer, both)


def test_rows_that_make_no_sense_are_refused(full):
    def astray(rows):
        next(item for item in rows["own"] if item["table"] == "Grade")["rows"][0]["rung_id"] = 987654

    with pytest.raises(Refusal, match="Grade, rung: a reference leads nowhere"):
        sitting_archive.read(rows_with(packed(full), astray), "bad.zip", again=True)

    def unknown(rows):
        rows["shared"].append({"table": "User", "row": {"id": 1}})

    with pytest.raises(Refusal, match=r"shared, row \d: belongs to no table"):
        sitting_archive.read(rows_with(packed(full), unknown), "bad.zip", again=True)
    assert Sitting.objects.count() == 1


def test_an_archive_makes_nothing_be_read_that_may_not_be(full, tmp_path):
    secret = tmp_path / "elsewhere" / "secret.DNG"
    secret.parent.mkdir()
    secret.write_bytes(b"not yours")

    def pointing(rows):
        for item in rows["own"]:
            if item["table"] == "Frame":
                for row in item["rows"]:
                    row["path"] = str(secret)

    taken = sitting_archive.read(rows_with(packed(full, originals=False), pointing), "bad.zip", again=True)
    assert {frame.path for frame in Frame.objects.filter(sitting=taken.sitting)} == {"secret.DNG"}
    assert taken.remarks == ("12 originals are not here: what was measured is, pictures are not",)


def test_rows_that_break_a_rule_of_the_database_are_refused(full):
    def twice(rows):
        next(item for item in rows["own"] if item["table"] == "Grade")["rows"][0]["grade"] = 9

    with pytest.raises(Refusal, match=r"bad.zip, sitting.json: Grade, row 1, grade: .*less than or equal to 5"):
        sitting_archive.read(rows_with(packed(full), twice), "bad.zip", again=True)
    assert Sitting.objects.count() == 1


def test_columns_of_a_newer_version_are_left_out(full):
    def newer(rows):
        for item in rows["own"]:
            for row in item["rows"]:
                row["of_tomorrow"] = 1

    assert sitting_archive.read(rows_with(packed(full), newer), "new.zip", again=True).sitting.pk != full.pk


def test_what_another_version_measured_and_asked_for_is_left_out(full):
    """Saturation kept of an older version; and a profile that drops criteria travels as it is."""
    ToleranceProfile.objects.filter(pk=full.profile_id).update(
        name="Of old", thresholds={"saturation_kept": [0.9, 0.8, 0.7], "detail": None}
    )
    Reading.objects.create(
        rung=full.ladders.first().rungs.first(), channel="all", quantity="saturation_kept", value=1.0, low=1.0, high=1.0
    )
    taken = sitting_archive.read(packed(Sitting.objects.get()), "one.zip", again=True)
    assert not Reading.objects.filter(rung__ladder__sitting=taken.sitting, quantity="saturation_kept").exists()
    assert Reading.objects.filter(rung__ladder__sitting=taken.sitting, quantity="snr").exists()
    assert "detail" not in {one.key for one in taken.sitting.profile.criteria.criteria}


def test_text_is_no_archive():
    with pytest.raises(Refusal, match=r"x\.zip is not an archive"):
        sitting_archive.read(io.BytesIO(b"hello"), "x.zip")


def test_the_pages_give_and_take(client, full, data_folder):
    from django.contrib.messages import get_messages
    from django.core.files.uploadedfile import SimpleUploadedFile

    def words(response):
        return " ".join(str(m) for m in get_messages(response.wsgi_request))

    response = client.get(f"/sittings/{full.pk}/archive.zip?originals=yes")
    data = b"".join(response.streaming_content)
    assert response["Content-Disposition"].endswith('filename="drawer-1.yellowjacket.zip"')
    upload = SimpleUploadedFile("drawer-1.yellowjacket.zip", data)
    Body.objects.update(price="900")
    asked = client.post("/archive/take-in/", {"archive": upload}).content.decode()
    assert "Before drawer-1.yellowjacket.zip comes in" in asked
    assert "price 900 here, nothing there" in asked
    token = re.search(r'name="token" value="(\w+)"', asked).group(1)
    # What is not an archive does not wait.
    damaged = client.post("/archive/take-in/", {"archive": SimpleUploadedFile("x.zip", data[:-99])})
    assert "x.zip" in words(damaged)
    assert len(list((data_folder / "arriving" / "archives").iterdir())) == 1
    # What was sent waits; it is not sent again.
    taken = client.post("/archive/take-in/", {"token": token, "again": "1", "described": "here"})
    assert "no longer waiting" in words(client.post("/archive/take-in/", {"token": token, "again": "1"}))
    assert "no longer waiting" in words(client.post("/archive/take-in/", {"token": "../../secret-key0", "again": "1"}))
    assert Sitting.objects.count() == 2
    newest = Sitting.objects.order_by("pk").last()
    # What was decided elsewhere is told apart from what was decided here.
    assert {one.account for one in newest.trail.all()} == {"by archive"}
    assert {one.account for one in full.trail.all()} == {""}
    assert taken.headers["Location"] == f"/sittings/{Sitting.objects.order_by('pk').last().pk}/plan/"
    assert "Choose an archive file" in words(client.post("/archive/take-in/"))
    assert "Import a sitting" in client.get("/archive/").content.decode()


def test_originals_keep_their_names_over_any_number_of_trips(full):
    names = sorted(frame.file_name for frame in Frame.objects.all())
    for _ in range(3):
        buffer = packed(Sitting.objects.order_by("pk").last())
        taken = sitting_archive.read(buffer, "trip.zip", again=True).sitting
        assert sorted(frame.file_name for frame in taken.frames.all()) == names
        assert all(Path(frame.path).is_file() for frame in taken.frames.all())


def test_an_adopted_sitting_travels(data_folder, card):
    """It has no scene, and complaints of older versions may be longer than their column."""
    from yellowjacket.bench.intake import adopt
    from yellowjacket.bench.models import Problem
    from yellowjacket.bench.plan.sittings import UseSpec

    data_folder_.allow_folder(data_folder, card)
    sitting = adopt.adopt_folder(str(card), (UseSpec("Web", None),), "Default")
    Problem.objects.create(sitting=sitting, file_name="a.txt", code="x", reason="why " * 200, remedy="so")
    taken = sitting_archive.read(packed(sitting), "adopted.zip", again=True).sitting
    assert taken.scene == ""
    assert taken.frames.filter(shot__isnull=False).count() == 12
    assert len(taken.problems.get().reason) == 400


def test_without_room_or_with_a_broken_row_no_original_is_left(full, data_folder, monkeypatch):
    before = sorted((data_folder / "originals").rglob("*"))

    def full_disk(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(sitting_archive, "_originals", full_disk)
    with pytest.raises(OSError, match="No space"):
        sitting_archive.read(packed(full), "one.zip", again=True)
    assert sorted((data_folder / "originals").rglob("*")) == before
    assert Sitting.objects.count() == 1


def test_encrypted_unknown_and_endless_archives_are_told(full):
    whole = packed(full).getvalue()
    # General purpose bit 0 says that a member is encrypted (APPNOTE.TXT, 4.4.4), the method stands two bytes on.
    encrypted, strange = bytearray(whole), bytearray(whole)
    for at in [m.start() for m in re.finditer(b"PK\x01\x02", whole)]:
        encrypted[at + 8] |= 1
        strange[at + 10] = 97
    for at in [m.start() for m in re.finditer(b"PK\x03\x04", whole)]:
        encrypted[at + 6] |= 1
        strange[at + 8] = 97
    for data in (encrypted, strange):
        with pytest.raises(Refusal):
            sitting_archive.read(io.BytesIO(bytes(data)), "odd.zip", again=True)

    def deep(entries, manifest, rows):
        text = b"[" * 100_000 + b"]" * 100_000
        entries["sitting.json"] = text
        import hashlib

        for entry in manifest["files"]:
            if entry["path"] == "sitting.json":
                entry |= {"size": len(text), "sha256": hashlib.sha256(text).hexdigest()}

    with pytest.raises(Refusal, match="nested too deeply"):
        sitting_archive.read(changed(packed(full), deep), "deep.zip", again=True)


POISON = (
    float("inf"), float("nan"), -(10**19), 10**19, 1e300, -1, 0, "x", "", "\0", "\ud800", "../../evil", "2026-99-01", [], {},
    [[[]]], {"a": {"b": []}}, None, True, 10**4000, "9" * 5000, [1e400], "<script>",
)  # fmt: skip


def test_no_row_of_a_crafted_archive_poisons_a_page(full, client, data_folder):
    """Values of every kind in every column: refused with the field's name, or taken in and harmless."""
    rng = random.Random(16)
    whole = packed(full, originals=False)
    refused = 0
    for _ in range(80):
        told = []

        def poison(rows, told=told):
            item = rng.choice([item for item in rows["own"] if item["rows"]])
            row = rng.choice(item["rows"])
            column = rng.choice(sorted(row))
            row[column] = rng.choice(POISON)
            told.append((item["table"], column, row[column]))

        archive = rows_with(whole, poison)
        try:
            taken = sitting_archive.read(archive, "crafted.zip", again=True).sitting
        except Refusal as refusal:
            said = str(refusal)
        else:
            said = ""
        if said:
            refused += 1
            assert told[0][0] in said, (told, said)
            continue
        for page in ("plan", "shoot", "check", "measure", "push", "time", "look", "record"):
            response = client.get(f"/sittings/{taken.pk}/{page}/")
            assert response.status_code in (200, 302), (page, told)
        assert client.get("/").status_code == 200
        readings_.sitting_document(taken)
        taken.delete()
    assert refused > 25
    assert not [path for path in data_folder.parent.iterdir() if path != data_folder]


OF_THE_FIRST_VERSION = Path(__file__).parents[2] / "data/sitting-of-0.1.0.zip"


def test_a_sitting_of_the_first_version_comes_in_as_it_was_signed(data_folder):
    """Written by 0.1.0 and kept: without its originals, with all that was measured, judged and decided."""
    rows = json.loads(zipfile.ZipFile(OF_THE_FIRST_VERSION).read(sitting_archive.ROWS))["own"]
    taken = sitting_archive.read(OF_THE_FIRST_VERSION, "sitting-of-0.1.0.zip")
    kept = {one["table"]: len(one["rows"]) for one in rows}
    for model in (Reading, Grade, Frame):
        assert model.objects.count() == kept[model.__name__] > 0
    record = taken.sitting.ladders.get().records.get()
    assert record.signed
    assert (record.signed_by, record.evidence["software"]) == ("Wren", "0.1.0")
    assert {one.iso for one in record.decisions.all()} == {200}
    # The same methods: nothing has to be measured anew for the change of version alone.
    assert run.METHOD_VERSION == "0.1.0/7"
