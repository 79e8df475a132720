"""The day and the audit: every mishap is found on its rung, repaired, and every action can be undone."""

import pytest

from yellowjacket.bench.check import audit as audit_
from yellowjacket.bench.check import remedies
from yellowjacket.bench.check.open_count import open_count
from yellowjacket.bench.models import Body, Frame, MarkedSpot, Problem, Reading, Shot, SittingEvent
from yellowjacket.bench.plan import sittings
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import shots, undo_log
from yellowjacket.bench.simulation import shoot as shoot_
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.simcam.bodies import HEATH, MOOR
from yellowjacket.simcam.scene import PATCHES_BOX, TEXTURE_BOX

pytestmark = pytest.mark.django_db


@pytest.fixture
def ladder(body, make_sitting, data_folder):
    """Six rungs of the simulated body, two light frames each, no darks."""
    body.simulated_as, body.serial, body.highest_iso, body.native_highest_iso = HEATH.key, HEATH.serial, 3200, 3200
    body.pixel_width, body.pixel_height = HEATH.width_px, HEATH.height_px
    body.save()
    return make_sitting(repeats=2, darks=0).ladders.get()


def shoot(ladder, scope="rest", mishaps=()):
    job = shoot_.start_shooting(ladder, scope, mishaps)
    job.refresh_from_db()
    assert job.state == "done", job.message
    ladder.sitting.refresh_from_db()
    return job


def accept(ladder):
    shoot(ladder, "one")
    shots.accept_first(ladder.sitting)
    ladder.sitting.refresh_from_db()


def codes(ladder) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for finding in audit_.audit(ladder).findings:
        found.setdefault(finding.code, []).append(finding.rung.key)
    return found


def test_a_ladder_shot_well_leaves_nothing_to_decide(ladder):
    accept(ladder)
    shoot(ladder)
    audit = audit_.audit(ladder)
    assert audit.findings == ()
    for rung in ladder.rungs.all():
        values = audit.rungs[rung.pk]
        assert abs(values.error_stops) < 0.03
        assert values.moved_px < 2
        assert values.sharpness == pytest.approx(1, abs=0.05)


@pytest.mark.parametrize("marked", [False, True])
def test_what_is_overexposed_on_purpose_is_not_called_out_of_focus(body, make_sitting, data_folder, marked):
    """Four stops over, most of the frame is full: an exposure ladder is shot to see just that."""
    body.simulated_as, body.serial = MOOR.key, MOOR.serial
    body.pixel_width, body.pixel_height = MOOR.width_px, MOOR.height_px
    body.save()
    sitting = make_sitting(kind="exposure", repeats=1, darks=0, picked=(0.0, 4.0))
    ladder = sitting.ladders.get()
    if marked:
        x, y = TEXTURE_BOX[0] + 120, TEXTURE_BOX[1] + 120
        MarkedSpot.objects.create(sitting=sitting, body=body, name="card", x=x, y=y)
    accept(ladder)
    shoot(ladder)
    audit = audit_.audit(ladder)
    over = ladder.rungs.order_by("expected_stops").last()
    assert audit.rungs[over.pk].clipped_share > 0.5
    assert audit.rungs[over.pk].sharpness is None
    assert [one for one in audit.findings if one.code == "soft"] == []


def test_the_first_frame_must_be_accepted_before_the_rest(ladder):
    with pytest.raises(Refusal, match="first shot alone"):
        shoot_.start_shooting(ladder, "rest")
    with pytest.raises(Refusal, match="no first frame yet"):
        shots.accept_first(ladder.sitting)
    accept(ladder)
    with pytest.raises(Refusal, match="accepted already"):
        shots.accept_first(ladder.sitting)
    shoot(ladder, "rung")
    assert Frame.objects.count() == 2


@pytest.mark.parametrize(
    ("mishap", "code"),
    [("drift", "exposure"), ("nudge", "moved"), ("defocus", "soft"), ("skipped", "missing")],
)
def test_a_mishap_is_found_on_its_rung(ladder, mishap, code):
    accept(ladder)
    shoot(ladder, mishaps=[mishap])
    found = codes(ladder)
    assert code in found
    assert set(found) <= {code, "light"}
    assert "100" not in found[code]


@pytest.mark.parametrize(("mishap", "code"), [("doubled", "complete"), ("iso", "shutter"), ("jpeg", "not-raw")])
def test_a_file_that_fits_no_shot_is_told_with_its_reason(ladder, mishap, code):
    accept(ladder)
    shoot(ladder, mishaps=[mishap])
    assert Problem.objects.get().code == code
    missing = codes(ladder).get("missing", [])
    assert len(missing) == (0 if mishap == "doubled" else 1)


def test_every_mishap_at_once_is_found_and_repaired(ladder):
    accept(ladder)
    shoot(ladder, mishaps=["skipped", "doubled", "iso", "nudge", "defocus", "jpeg", "drift"])
    found = codes(ladder)
    assert {"missing", "moved", "soft", "exposure"} <= set(found)
    assert {problem.code for problem in Problem.objects.all()} == {"complete", "shutter", "not-raw"}
    for finding in audit_.audit(ladder).findings:
        frame = Frame.objects.get(pk=finding.frame.pk) if finding.frame else None
        if frame is not None and frame.shot is not None:
            remedies.reshoot(frame)
    Problem.objects.all().delete()
    shoot(ladder)
    assert audit_.audit(ladder).findings == ()
    assert not Shot.objects.filter(frame__isnull=True).exists()
    # Nothing was lost: what was replaced is kept beside the plan.
    assert Frame.objects.filter(standing=Frame.Standing.EXTRA).exists()


def test_long_exposures_that_held_the_camera_twice_show_lenr(body, make_sitting, data_folder):
    body.simulated_as, body.serial = HEATH.key, HEATH.serial
    body.save()
    for mishaps, expected in (((), []), (("lenr",), ["8", "15"])):
        sitting = make_sitting(f"Night {len(mishaps)}", kind="time", method="scene", picked=(1.0, 8.0, 15.0), darks=0)
        shoot_.accept_without_looking(sitting)
        ladder = sitting.ladders.get()
        shoot(ladder, mishaps=mishaps)
        assert [f.rung.key for f in audit_.audit(ladder).findings if f.code == "lenr"] == expected


def test_another_white_balance_is_noticed(ladder):
    accept(ladder)
    shoot(ladder)
    Frame.objects.filter(shot__rung__key="400", shot__repeat=2).update(neutral=[0.6, 1.0, 0.9])
    assert codes(ladder) == {"white-balance": ["400"]}


def test_a_file_is_assigned_by_hand_and_both_values_are_kept(ladder):
    accept(ladder)
    shoot(ladder, mishaps=["iso"])
    problem = Problem.objects.get()
    shot = remedies.free_shots(ladder.sitting)[0]
    remedies.assign_problem(problem, shot)
    frame = Frame.objects.get(shot=shot)
    assert frame.iso == 2 * shot.rung.iso
    assert frame.overrides == {"iso": shot.rung.iso}
    assert not Problem.objects.exists()
    undo_log.undo(ladder.sitting)
    assert not Frame.objects.filter(shot=shot).exists()
    assert Problem.objects.get().file_name == problem.file_name


def test_remedies_are_logged_and_undone_newest_first(ladder):
    accept(ladder)
    shoot(ladder)
    first, second = Frame.objects.filter(shot__rung__key="200").order_by("shot__repeat")
    shot = first.shot
    remedies.keep_as_extra(first)
    remedies.exclude(second, "blinked")
    with pytest.raises(Refusal, match="Say why"):
        remedies.exclude(Frame.objects.filter(shot__isnull=False).first(), " ")
    with pytest.raises(Refusal, match="is on no shot"):
        remedies.keep_as_extra(Frame.objects.get(pk=second.pk))
    undo_log.undo(ladder.sitting)
    second.refresh_from_db()
    assert (second.standing, second.shot.repeat) == ("used", 2)
    remedies.assign_frame(Frame.objects.get(pk=first.pk), shot)
    first.refresh_from_db()
    assert (first.standing, first.shot_id) == ("used", shot.pk)
    with pytest.raises(Refusal, match="has a frame"):
        remedies.assign_frame(second, shot)
    assert SittingEvent.objects.filter(undone_at__isnull=False).count() == 1


def test_shots_are_taken_skipped_and_undone(ladder):
    sitting = ladder.sitting
    one, two, three = shots.due(sitting)[:3]
    with pytest.raises(Refusal, match="first shot first"):
        shots.take(two)
    shots.take(one)
    with pytest.raises(Refusal, match="undo it first"):
        shots.take(Shot.objects.get(pk=one.pk))
    shots.take(two)
    with pytest.raises(Refusal, match="Say why"):
        shots.skip(three, "")
    shots.skip(three, "lamp broke")
    assert shots.due(sitting)[0].pk not in (one.pk, two.pk, three.pk)
    undo_log.undo(sitting)
    undo_log.undo(sitting)
    assert [shot.pk for shot in shots.due(sitting)[:2]] == [two.pk, three.pk]
    undo_log.undo(sitting)
    shots.note(sitting, "21 °C")
    with pytest.raises(Refusal, match="nothing to undo"):
        undo_log.undo(sitting)


def landed(ladder):
    every = shots.of_ladders(list(ladder.sitting.ladders.select_related("body")))
    return audit_.landed(ladder, every, ladder.sitting.marked_spots.filter(body=ladder.body))


def test_the_frame_that_landed_last_reports_itself(ladder):
    accept(ladder)
    shoot(ladder, "rung")
    found = landed(ladder)
    assert "clipped" in found.text
    assert found.findings == ()


def test_focus_that_was_never_there_is_told_from_the_first_frame(ladder):
    job = shoot_.start_shooting(ladder, "one", ["soft"])
    job.refresh_from_db()
    assert codes(ladder)["soft-start"] == ["100"]
    assert "focus was never there" in landed(ladder).findings[0].text


def test_a_marked_spot_is_watched_and_can_be_ruled_out(ladder):
    accept(ladder)
    # Corner of the fine texture, where detail is judged.
    left, top, width, height = TEXTURE_BOX
    remedies.mark_spot(ladder, "texture", left + width // 2, top + height // 2)
    shoot(ladder, mishaps=["defocus"])
    (finding,) = [one for one in audit_.audit(ladder).findings if one.code == "soft"]
    assert "on “texture”" in finding.text
    spot = MarkedSpot.objects.get()
    remedies.rule_out(spot)
    assert "on “texture”" not in "".join(one.text for one in audit_.audit(ladder).findings)
    undo_log.undo(ladder.sitting)
    assert "on “texture”" in "".join(one.text for one in audit_.audit(ladder).findings)
    remedies.delete_spot(spot)
    undo_log.undo(ladder.sitting)
    assert MarkedSpot.objects.get().name == "texture"


def test_a_soft_marked_spot_is_told_with_its_name(ladder):
    job = shoot_.start_shooting(ladder, "one", ["soft"])
    job.refresh_from_db()
    left, top, width, height = PATCHES_BOX
    remedies.mark_spot(ladder, "patch edge", left + width // 10, top + height // 2)
    (finding,) = [one for one in audit_.audit(ladder).findings if one.code == "soft-start"]
    assert finding.spot.name == "patch edge"


@pytest.mark.parametrize(("name", "words"), [(" ", "Name the spot"), ("pin", "marked already")])
def test_spots_without_a_name_or_twice_are_refused(ladder, name, words):
    remedies.mark_spot(ladder, "pin", 10, 10)
    with pytest.raises(Refusal, match=words):
        remedies.mark_spot(ladder, name, 20, 20)


def test_a_corrected_file_keeps_both_values_and_finds_its_shot(ladder):
    accept(ladder)
    shoot(ladder, mishaps=["skipped"])
    missing = next(one for one in audit_.audit(ladder).findings if one.code == "missing")
    other = Frame.objects.filter(shot__rung__ladder=ladder).exclude(shot__rung=missing.rung).last()
    was = other.iso
    remedies.keep_as_extra(other)
    other.refresh_from_db()
    remedies.correct(other, {"iso": missing.rung.iso, "exposure_s": missing.rung.exposure_s})
    other.refresh_from_db()
    assert (other.iso, other.said("iso")) == (was, missing.rung.iso)
    assert other.shot.rung == missing.rung
    with pytest.raises(Refusal, match="nothing to correct"):
        remedies.correct(other, {"iso": missing.rung.iso, "exposure_s": missing.rung.exposure_s})
    undo_log.undo(ladder.sitting)
    other.refresh_from_db()
    assert (other.shot, other.overrides) == (None, {})


def test_a_frame_that_lands_tells_its_gap_and_its_light_beside_the_other_body(ladder, make_sitting):
    accept(ladder)
    shoot(ladder, "rung")
    assert "released 5 s after the previous exposure ended" in landed(ladder).text
    other = Body.objects.create(
        make="Quillon", model="Tarn", pixel_width=640, pixel_height=448, lowest_iso=100, native_lowest_iso=100,
        native_highest_iso=400, highest_iso=400, fastest_shutter_s=1 / 8000,
    )  # fmt: skip
    second = sittings.add_ladder(
        ladder.sitting,
        sittings.LadderRequest(other, LadderSpec("iso", "shutter", Exposure(100, 1 / 8, 8.0), repeats=1)),
    )
    frame = Frame.objects.filter(shot__rung__key="100").first()
    shot = Shot.objects.filter(rung__ladder=second, rung__iso=100).first()
    Frame.objects.create(
        sitting=ladder.sitting, shot=shot, path="x", sha256="y", size_bytes=1, width=640, height=448, dark=False,
        white_dn=frame.white_dn, black_dn=frame.black_dn, layout=frame.layout,
        report=frame.report | {"level_dn": 2 * frame.report["level_dn"]},
    )  # fmt: skip
    assert "+1.00 stop against Heath at the same settings" in landed(second).text


def test_a_frame_that_was_never_looked_at_does_not_shift_the_blame(ladder):
    """Frames of older versions have no report: what is wrong with the second is told of the second."""
    accept(ladder)
    shoot(ladder)
    rung = ladder.rungs.all()[2]
    first, second = Frame.objects.filter(shot__rung=rung).order_by("shot__repeat")
    first.report = {}
    first.save()
    second.neutral = [value * 1.1 for value in second.neutral]
    second.save()
    found = [one for one in audit_.audit(ladder).findings if one.rung == rung]
    assert [(one.code, one.frame) for one in found] == [("white-balance", second)]
    assert second.file_name in found[0].text


def test_frames_beyond_the_clip_point_are_clipped_and_nothing_is_said_of_their_exposure(
    body, make_sitting, data_folder
):
    """An exposure ladder of a body whose wells are full below the top code: +1 and +5 of it."""
    body.simulated_as, body.serial = MOOR.key, MOOR.serial
    body.pixel_width, body.pixel_height = MOOR.width_px, MOOR.height_px
    body.save()
    ladder = make_sitting(kind="exposure", method="shutter", under=1, over=5, repeats=1, darks=0).ladders.get()
    order = [shot.rung.at_stops for shot in Shot.objects.filter(rung__ladder=ladder).order_by("order")]
    assert order[0] == 0.0
    accept(ladder)
    shoot(ladder)
    audit = audit_.audit(ladder)
    by_stops = {rung.at_stops: audit.rungs[rung.pk] for rung in ladder.rungs.all()}
    assert abs(by_stops[1.0].error_stops) < 1 / 6
    assert by_stops[5.0].clipped_away
    assert by_stops[5.0].clipped_share > 0.8
    assert "exposure" not in codes(ladder)


def test_what_is_right_on_many_rungs_is_decided_once(ladder):
    accept(ladder)
    shoot(ladder)
    # Somebody changed the lamp on purpose: four rungs read half a stop less.
    for rung in list(ladder.rungs.all())[2:]:
        rung.expected_stops += 0.5
        rung.save()
    (run,) = audit_.audit(ladder).runs
    assert (run.code, len(run.rungs)) == ("exposure", 4)
    remedies.let_be_all(ladder, run.code, run.rungs)
    ladder.refresh_from_db()
    assert audit_.audit(ladder).findings == ()
    undo_log.undo(ladder.sitting)
    ladder.refresh_from_db()
    assert len(audit_.audit(ladder).findings) >= 4


def test_a_smoothed_frame_is_not_called_out_of_focus(ladder):
    accept(ladder)
    shoot(ladder, mishaps=["soft"])
    soft = codes(ladder)["soft"]
    # Wanted on every page before it is measured, and on none afterwards.
    before = open_count(ladder.sitting)
    assert before == len(audit_.audit(ladder).findings)
    for key in soft:
        rung = ladder.rungs.get(key=key)
        Reading.objects.create(rung=rung, channel="all", quantity="flags", value=1, notes=[["SMOOTHED_HERE"]])
    assert "soft" not in codes(ladder)
    assert open_count(ladder.sitting) == before - len(soft)


@pytest.mark.parametrize(("sharpness", "words"), [(1.032, "103 % of the reference"), (-6.46, "covered by noise")])
def test_fine_structure_is_no_negative_share(sharpness, words):
    assert audit_.share_in_words(sharpness) == words


def test_the_aperture_of_a_whole_ladder_is_corrected_and_taken_back_at_once(ladder):
    """A lens without contacts tells none of its frames; one word is enough for all."""
    accept(ladder)
    frames = Frame.objects.filter(shot__rung__ladder=ladder)
    frames.update(f_number=None)
    assert {frame.said("f_number") for frame in frames.all()} == {None}
    remedies.correct_aperture(ladder, 5.6)
    assert {frame.said("f_number") for frame in frames.all()} == {5.6}
    with pytest.raises(Refusal, match=r"at f/5\.6 already"):
        remedies.correct_aperture(ladder, 5.6)
    undo_log.undo(ladder.sitting)
    assert {frame.said("f_number") for frame in frames.all()} == {None}
