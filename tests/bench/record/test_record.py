"""Grades, proposals, decisions, signing; and the sitting in open formats."""

import csv
import io
import json
from pathlib import Path

import jsonschema
import pytest

from tests import making
from yellowjacket import data_folder as data_folder_
from yellowjacket.bench.check import remedies
from yellowjacket.bench.exchange import readings
from yellowjacket.bench.intake import importing
from yellowjacket.bench.look import grades
from yellowjacket.bench.measure import run
from yellowjacket.bench.models import Grade, Reading, TrailEntry
from yellowjacket.bench.record import proposals
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.record.sides import sides_of
from yellowjacket.bench.record.standing import standing_of
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db
WREN = "Wren"


@pytest.fixture
def measured(sitting, card, data_folder):
    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    run.start_measuring(sitting)
    return sitting


def grade_all(sitting, letters, person=WREN):
    ladder, use = sitting.ladders.get(), sitting.uses.first()
    for rung, letter in zip(ladder.rungs.all(), letters, strict=True):
        grades.grade_rung(rung, use, person, "ABCDE".index(letter) + 1)
    return ladder, use


def test_the_newest_grade_is_in_force_and_the_history_is_kept(sitting):
    ladder, use = grade_all(sitting, "ABC")
    rung = ladder.rungs.first()
    grades.grade_rung(rung, use, WREN, 2, grades.View(size_percent=200))
    grades.give_reason(rung, use, WREN, Grade.Reason.GRAIN)
    current = Grade.objects.current(ladder)[rung.pk, use.pk]
    assert (current.letter, current.reason, current.size_percent) == ("B", "grain", 200)
    assert Grade.objects.filter(rung=rung).count() == 3
    grades.take_back(rung, use, WREN)
    assert (rung.pk, use.pk) not in Grade.objects.current(ladder)


def test_grades_need_a_person_a_scale_and_a_use_of_the_sitting(sitting, make_sitting):
    ladder, use = sitting.ladders.get(), sitting.uses.first()
    rung = ladder.rungs.first()
    with pytest.raises(Refusal, match="who is judging"):
        grades.grade_rung(rung, use, "", 1)
    with pytest.raises(Refusal, match="1 to 5, not 6"):
        grades.grade_rung(rung, use, WREN, 6)
    with pytest.raises(Refusal, match="another sitting"):
        grades.grade_rung(rung, make_sitting("Other").uses.first(), WREN, 1)
    with pytest.raises(Refusal, match="grade first"):
        grades.give_reason(rung, use, WREN, "grain")
    grades.grade_rung(rung, use, WREN, 1)
    with pytest.raises(Refusal, match="no reason 'boredom'"):
        grades.give_reason(rung, use, WREN, "boredom")


def test_proposals_stand_measured_beside_graded(measured):
    grade_all(measured, "ACE")
    found = {(p.use.name, p.level): p for p in proposals.proposals(measured.ladders.get())}
    assert len(found) == 6
    pixel = found["Pixel level", "usable"]
    # Grey SNR of the test body at ISO 400 is about 31, of the shadow 8.6: clean to the end of the ladder by those, and by its
    # chroma noise.
    assert pixel.measured.at_least
    assert pixel.measured.mark == 400
    assert (pixel.graded.mark, pixel.graded.at_least) == (200, False)
    assert found["Pixel level", "clean"].measured.mark == 400
    assert {doubt.split(" has")[0] for doubt in pixel.measured.doubts} == {"colour separation", "detail"}
    assert found["Web", "clean"].measured.mark == 400


def test_a_record_is_decided_signed_and_then_closed(measured):
    ladder = measured.ladders.get()
    record = record_.open_record(ladder)
    with pytest.raises(Refusal, match="6 limits are not decided"):
        record_.sign(record, WREN)
    record_.accept_proposed(record)
    with pytest.raises(Refusal, match="Sign with a name"):
        record_.sign(record, " ")
    use = measured.uses.first()
    record_.decide(record, use, "clean", 400)
    record_.decide(record, use, "usable", 200)
    with pytest.raises(Refusal, match="clean must not lie above usable"):
        record_.sign(record, WREN)
    record_.decide(record, use, "clean", 200)
    record_.note(record, answer="ISO 200", text="clean enough")
    record_.sign(record, WREN)
    assert record.signed
    assert record.evidence["conditions"]["firmware"] == ["1.10"]
    assert record.evidence["conditions"]["thresholds"]["grey_snr"] == [16, 8, 4]
    for change in (
        lambda: record_.decide(record, use, "clean", 100), lambda: record_.note(record, answer="", text=""),
        lambda: record_.accept_proposed(record), lambda: record_.sign(record, WREN),
    ):  # fmt: skip
        with pytest.raises(Refusal, match="signed by Wren"):
            change()


def test_amending_makes_a_new_version_and_leaves_the_old(measured):
    record = record_.open_record(measured.ladders.get())
    record_.accept_proposed(record)
    with pytest.raises(Refusal, match="still open"):
        record_.amend(record)
    record_.sign(record, WREN)
    second = record_.amend(record)
    assert (second.version, second.signed) == (2, False)
    assert second.decisions.count() == record.decisions.count()
    with pytest.raises(Refusal, match="newer version"):
        record_.amend(record)


def test_decisions_must_be_rungs_and_levels(sitting):
    record = record_.open_record(sitting.ladders.get())
    use = sitting.uses.first()
    with pytest.raises(Refusal, match="ISO 250 is not a rung"):
        record_.decide(record, use, "clean", 250)
    with pytest.raises(Refusal, match="no level 'superb'"):
        record_.decide(record, use, "superb", 100)


def test_the_csv_has_a_row_for_every_reading(measured):
    rows = list(csv.DictReader(io.StringIO("".join(readings.readings_csv(measured)))))
    ladder = measured.ladders.get()
    assert len(rows) == sum(rung.readings.count() for rung in ladder.rungs.all())
    gain = next(r for r in rows if r["quantity"] == "gain_e_per_dn" and r["channel"] == "all" and r["iso"] == "100")
    assert gain["unit"] == "e⁻/DN"
    assert float(gain["low"]) < float(gain["value"]) < float(gain["high"])
    assert float(gain["value"]) == pytest.approx(making.GAIN_E_PER_DN[100], rel=0.03)


def test_a_name_that_a_spreadsheet_would_run_is_defused(measured):
    measured.name = "=HYPERLINK(1)"
    first = next(csv.DictReader(io.StringIO("".join(readings.readings_csv(measured)))))
    assert first["sitting"] == "'=HYPERLINK(1)"


def test_the_json_follows_its_published_schema(measured):
    grade_all(measured, "ABC")
    record = record_.open_record(measured.ladders.get())
    record_.accept_proposed(record)
    record_.sign(record, WREN)
    document = json.loads(json.dumps(readings.sitting_document(measured), allow_nan=False))
    schema = json.loads(Path("docs/sitting.schema.json").read_text())
    jsonschema.Draft202012Validator(schema).validate(document)
    ladder = document["ladders"][0]
    assert len(ladder["rungs"]) == 3
    assert len(ladder["rungs"][0]["frames"]) == 4
    assert ladder["records"][0]["signed_by"] == WREN


def test_the_grey_patch_speaks_for_snr_whatever_was_drawn_before_it(measured):
    from yellowjacket.bench.measure import patches, run

    ladder = measured.ladders.get()
    patches.place_patch(ladder, "bark", 8, 8, 160, 200, role="texture")
    # Proposing anew makes the grey patch the younger one.
    patches.propose(ladder)
    job = run.start_measuring(measured)
    job.refresh_from_db()
    assert job.state == "done"
    rungs = list(ladder.rungs.all())
    found = Reading.objects.findings_by_use(rungs)[None]
    for rung in rungs:
        grey = rung.readings.get(quantity="snr", channel="all", patch__role="grey", use=None)
        assert found[rung.pk]["grey_snr"] == grey.result
        assert found[rung.pk]["detail"].known


def test_a_rung_off_by_stops_decides_only_when_check_is_told_that_it_is_right(measured):
    """Named on the record; the tester's word counts, and can be taken back."""
    ladder = measured.ladders.get()
    rung = ladder.rungs.get(iso=200)
    Reading.objects.filter(rung=rung, quantity="exposure_error_stops").update(value=-2.0)
    told = [one.measured.doubts for one in proposals.proposals(ladder)]
    assert all(any("ISO 200 was exposed −2.0 stops off" in doubt for doubt in doubts) for doubts in told)
    remedies.let_be(rung, "exposure")
    ladder.refresh_from_db()
    assert not any("stops off" in doubt for one in proposals.proposals(ladder) for doubt in one.measured.doubts)


def test_what_was_only_graded_is_accepted_as_graded_and_the_rest_stays_open(sitting):
    """Nothing measured, one use graded: its limits are decided from the grades, and nothing is invented for the other."""
    ladder, use = sitting.ladders.get(), sitting.uses.get(name="Web")
    record = record_.open_record(ladder)
    with pytest.raises(Refusal, match="measure or grade"):
        record_.sign(record, WREN)
    # One limit decided by hand is enough, and is held against none that is not there.
    record_.decide(record, use, "emergency", 100)
    record_.in_order(record)
    record_.decide(record, use, "usable", 200)
    with pytest.raises(Refusal, match="clean must not lie above"):
        record_.in_order(record)
    record.decisions.all().delete()
    for rung, grade in zip(ladder.rungs.all(), (1, 3, 5), strict=True):
        Grade.objects.create(rung=rung, use=use, person=WREN, grade=grade)
    assert record_.open_limits(record, [], proposals.proposals(ladder)) == 3
    with pytest.raises(Refusal, match="3 limits are not decided"):
        record_.sign(record, WREN)
    record_.accept_proposed(record, WREN)
    decided = {(one.use.name, one.level): one.iso for one in record.decisions.all()}
    assert decided == {("Web", level): limit.mark for level, limit in graded_of(ladder, use).items()}
    assert decided["Web", "clean"] == 100
    acts = TrailEntry.objects.filter(act__startswith="accepted").values_list("act", flat=True)
    assert list(acts) == ["accepted as graded"] * 3
    assert record_.sign(record, WREN).signed


def test_what_nobody_graded_is_not_shown_as_outside_of_a_limit(sitting):
    ladder, use = sitting.ladders.get(), sitting.uses.get(name="Web")
    rungs = list(ladder.rungs.all())
    for rung, grade in zip(rungs[:2], (1, 4), strict=True):
        Grade.objects.create(rung=rung, use=use, person=WREN, grade=grade)
    record = record_.open_record(ladder)
    record_.accept_proposed(record, WREN)
    sides = {one.proposal.level: one for one in sides_of(standing_of(record, [use]), use.name, rungs)}
    assert [sides[level].inside.iso for level in ("clean", "emergency")] == [100, 200]
    assert sides["clean"].outside.iso == 200
    assert sides["emergency"].outside is None


def graded_of(ladder, use):
    return {one.level: one.graded for one in proposals.proposals(ladder) if one.use == use}
