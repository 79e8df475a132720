"""Patches: proposed, drawn, named, laid out, copied; and readings at the sizes of the uses."""

import math

import pytest

from tests import making
from yellowjacket import data_folder as data_folder_
from yellowjacket.bench.intake import importing
from yellowjacket.bench.measure import patches, run, staleness
from yellowjacket.bench.models import Frame, Ladder, Patch, Reading
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db

STEP = making.WIDTH // making.STEPS
# The wedge of the test scene: eight columns, the lightest left.
WEDGE = ((0, 300), (making.WIDTH, 300), (making.WIDTH, 440), (0, 440))


@pytest.fixture
def ladder(sitting, card, data_folder) -> Ladder:
    data_folder_.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    return sitting.ladders.get()


def measure(ladder):
    job = run.start_measuring(ladder.sitting)
    job.refresh_from_db()
    assert job.state == "done", job.message


def of(ladder, iso, quantity, **where):
    return Reading.objects.get(rung__ladder=ladder, rung__iso=iso, quantity=quantity, **where)


def test_a_patch_of_any_name_is_drawn_moved_renamed_and_removed(ladder):
    patch = patches.place_patch(ladder, "  wing   tip ", 101, 60, 64, 64, role="other")
    assert (patch.name, patch.x, patch.w) == ("wing tip", 100, 64)
    patches.place_patch(ladder, "wing tip", 200, 60, 32, 32)
    assert Patch.objects.get(name="wing tip").x == 200
    patches.rename_patch(ladder, "wing tip", "eye spot")
    measure(ladder)
    assert of(ladder, 100, "snr", channel="G", patch__name="eye spot", use=None).value > 10
    patches.remove_patch(ladder, "eye spot")
    assert not Reading.objects.filter(patch__name="eye spot").exists()


@pytest.mark.parametrize(
    ("name", "role", "says"),
    [("sky", "", "no patch called 'sky'"), ("sky", "field", "no patch called"), ("", "other", "1 to 40"),
     ("x" * 41, "other", "1 to 40"), ("sky", "shadow", "there once")],
)  # fmt: skip
def test_a_patch_that_cannot_be_drawn_says_why(ladder, name, role, says):
    with pytest.raises(Refusal, match=says):
        patches.place_patch(ladder, name, 0, 0, 64, 64, role=role)


def test_names_are_kept_apart(ladder):
    patches.propose(ladder)
    for name in ("one", "two"):
        patches.place_patch(ladder, name, 0, 0, 64, 64, role="texture")
    with pytest.raises(Refusal, match="called “two” already"):
        patches.rename_patch(ladder, "one", "two")
    with pytest.raises(Refusal, match="none of grey, shadow, black"):
        patches.rename_patch(ladder, "one", "grey")
    with pytest.raises(Refusal, match="named by what it is for"):
        patches.rename_patch(ladder, "grey", "card")
    with pytest.raises(Refusal, match="move it instead"):
        patches.remove_patch(ladder, "grey")
    with pytest.raises(Refusal, match="no patch called “three”"):
        patches.remove_patch(ladder, "three")


def test_proposing_anew_leaves_what_was_drawn_by_hand(ladder):
    patches.propose(ladder)
    patches.place_patch(ladder, "bark", 0, 0, 128, 128, role="texture")
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    patches.propose(ladder)
    assert ladder.patches.filter(role="texture").count() == 1
    assert ladder.patches.filter(role="wedge").count() == 8
    assert ladder.patches.filter(role="grey").count() == 1


def test_a_wedge_is_laid_and_gives_its_range(ladder):
    laid = patches.lay_grid(ladder, "wedge", WEDGE, 1, 8, step_stops=1.0)
    assert [patch.name for patch in laid] == [f"wedge {n}" for n in range(1, 9)]
    measure(ladder)
    # The lightest two steps of the test scene are clipped in green; five steps remain under the first that is not.
    seen = of(ladder, 100, "wedge_snr1")
    assert seen.value == pytest.approx(6.0, abs=1.1)
    assert seen.reason.startswith("at least")
    assert "stops under saturation" in seen.method
    assert of(ladder, 100, "wedge_told_apart").value >= 5
    # At ISO 400 noise is no deeper than at ISO 100 in stops under the lightest step.
    assert of(ladder, 400, "wedge_snr4").value <= of(ladder, 100, "wedge_snr4").value


@pytest.mark.parametrize(
    ("role", "corners", "rows", "step", "says"),
    [
        ("grey", WEDGE, 1, 1.0, "colour patches or a wedge"),
        ("wedge", WEDGE, 1, 0.0, "0.05 to 4 stops"),
        ("wedge", WEDGE, 40, 1.0, "cannot be laid"),
        ("colour", ((-300, 0), (600, 0), (600, 400), (-300, 400)), 2, 1.0, "beyond the frame"),
    ],
)  # fmt: skip
def test_a_grid_that_cannot_be_says_why_and_changes_nothing(ladder, role, corners, rows, step, says):
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    with pytest.raises(Refusal, match=says):
        patches.lay_grid(ladder, role, corners, rows, 8, step_stops=step)
    assert ladder.patches.filter(role="wedge").count() == 8


def test_colour_patches_are_held_against_the_reference_rung(ladder):
    # The wedge's neutral steps serve as colour patches of the test scene: they must not move along ISO.
    patches.lay_grid(ladder, "colour", ((160, 300), (560, 300), (560, 440), (160, 440)), 1, 5)
    measure(ladder)
    assert of(ladder, 100, "colour_de00").reason == "the reference rung"
    shift = of(ladder, 400, "colour_de00")
    # Scatter alone makes a mean ΔE00 of about 0.1 here.
    assert shift.value < 0.3
    assert shift.low < 0.15
    assert shift.method.startswith("5 colour patches")
    assert of(ladder, 400, "patch_de00", patch__name="row 1 patch 1").value < 1
    # They are one colour: there is nothing to be told apart.
    assert "lay a grid over colour patches" in of(ladder, 400, "colour_separation", use=None).reason


def test_readings_at_a_use_are_those_of_its_size(ladder):
    measure(ladder)
    web = ladder.sitting.uses.get(name="Web")
    factor = math.sqrt(ladder.body.pixels / web.output_pixels)
    for quantity in ("snr", "shadow_snr"):
        rows = Reading.objects.filter(rung__ladder=ladder, rung__iso=200, quantity=quantity).exclude(
            patch__role="black"
        )
        plain, at_use = (rows.filter(use=use, channel="all").first() for use in (None, web))
        # As developed: no more than white noise would gain by so many pixels.
        assert 1 < at_use.value / plain.value < factor
        assert "at the use's size" in at_use.method
        # Of single raw pixels nothing is said at the size of a use.
        assert {row.use for row in rows.filter(channel="G")} == {None}
    chroma, web_chroma = (of(ladder, 200, "noise_chroma", patch__role="grey", use=u).value for u in (None, web))
    # Blotches of colour are wider than a pixel.
    assert 1 < chroma / web_chroma < factor
    assert of(ladder, 200, "range_snr1", use=web).value > of(ladder, 200, "range_snr1", use=None).value


def test_headroom_and_black_lift_along_the_ladder(ladder):
    measure(ladder)
    for iso in (100, 200, 400):
        # Grey at 12.7 % of the range, by the test scene: log2(1/0.127) under the clip point of green.
        assert of(ladder, iso, "headroom_stops").value == pytest.approx(math.log2(1 / 0.127), abs=0.02)
    lift = of(ladder, 400, "black_lift")
    assert lift.low < 0 < lift.high


def test_a_texture_gives_detail_and_its_share(ladder):
    # Across the steps of the wedge: little fine detail, but the borders are there at every frequency.
    patches.place_patch(ladder, "steps", 100, 100, 300, 200, role="texture")
    measure(ladder)
    detail = of(ladder, 100, "detail", patch__name="steps", use=None)
    assert detail.value > 0
    assert of(ladder, 100, "detail_share", use=None).value == 1.0
    assert 0 < of(ladder, 400, "detail_share", use=None).value < 1.3
    web = ladder.sitting.uses.get(name="Web")
    most = ladder.body.pixel_height / 2 / math.sqrt(ladder.body.pixels / web.output_pixels)
    assert of(ladder, 100, "detail", use=web).value <= most + 1e-9


def test_one_frame_gives_upper_bounds_of_noise_and_no_detail(ladder):
    Frame.objects.filter(shot__rung__iso=200, shot__kind="light", shot__repeat=2).delete()
    patches.place_patch(ladder, "steps", 100, 100, 300, 200, role="texture")
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    measure(ladder)
    for quantity in ("noise_chroma", "noise_luma", "grain_px"):
        row = Reading.objects.filter(rung__iso=200, quantity=quantity, use=None).first()
        assert row.value is not None
        assert "from one frame" in row.reason
    detail = Reading.objects.filter(rung__iso=200, quantity="detail", use=None).first()
    assert detail.value is None
    assert "one frame only" in detail.reason


def test_patches_are_copied_to_the_other_ladders_scaled(ladder, make_sitting):
    patches.propose(ladder)
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8, step_stops=0.5)
    with pytest.raises(Refusal, match="No other ladder"):
        patches.copy_patches(ladder)
    other = Ladder.objects.get(pk=ladder.pk)
    other.pk, other.position = None, 9
    other.save()
    rung = ladder.rungs.first()
    shot = rung.shots.first()
    rung.pk, rung.ladder = None, other
    rung.save()
    shot.pk, shot.rung = None, rung
    shot.save()
    Frame.objects.filter(shot__rung__iso=100, shot__kind="light", shot__repeat=1, shot__rung__ladder=ladder).update(
        shot=shot, width=2 * making.WIDTH, height=2 * making.HEIGHT
    )
    assert patches.copy_patches(ladder) == [other]
    for mine, theirs in zip(ladder.patches.all(), other.patches.all(), strict=True):
        assert (theirs.name, theirs.role, theirs.step_stops) == (mine.name, mine.role, mine.step_stops)
        assert (theirs.x, theirs.y, theirs.w, theirs.h) == (2 * mine.x, 2 * mine.y, 2 * mine.w, 2 * mine.h)


def test_a_patch_that_stands_alone_is_measured_alone(ladder):
    measure(ladder)
    before = dict(Reading.objects.filter(quantity="gain_e_per_dn", channel="all").values_list("rung_id", "pk"))
    patches.place_patch(ladder, "corner", 8, 8, 64, 64, role="other")
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    assert staleness.unmeasured(ladder) == 3
    measure(ladder)
    # What it has no part in is the same row as before.
    after = dict(Reading.objects.filter(quantity="gain_e_per_dn", channel="all").values_list("rung_id", "pk"))
    assert after == before
    assert staleness.unmeasured(ladder) == 0
    rows = Reading.objects.filter(rung__iso=200, patch__name="corner", channel__in=("G", "all"), use=None)
    alone = {(row.quantity, row.channel): row.value for row in rows}
    # Measured with everything else it reads the same.
    ladder.rungs.update(measured_inputs="")
    measure(ladder)
    for row in rows.all():
        assert row.value == pytest.approx(alone[row.quantity, row.channel], rel=1e-9)
    assert of(ladder, 200, "wedge_snr1").value > 3


def test_a_grid_that_is_taken_away_takes_its_findings_along(ladder):
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    patches.lay_grid(ladder, "colour", ((160, 300), (560, 300), (560, 440), (160, 440)), 1, 5)
    measure(ladder)
    patches.remove_patch(ladder, "wedge 3")
    patches.remove_patch(ladder, "row 1 patch 1")
    assert not ladder.patches.filter(role__in=("wedge", "colour")).exists()
    assert not Reading.objects.filter(quantity__in=("wedge_snr1", "colour_de00", "patch_de00")).exists()
    measure(ladder)
    assert not Reading.objects.filter(quantity__in=("wedge_snr1", "colour_de00", "patch_de00")).exists()


def test_patches_that_come_back_in_the_same_place_are_measured_again(ladder):
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    measure(ladder)
    patches.propose(ladder)
    assert staleness.unmeasured(ladder) == 3
    measure(ladder)
    assert of(ladder, 200, "snr", channel="G", patch__role="grey", use=None).value > 1
    patches.lay_grid(ladder, "wedge", WEDGE, 1, 8)
    assert staleness.unmeasured(ladder) == 3
    measure(ladder)
    assert Reading.objects.filter(rung__iso=200, patch__name="wedge 4", quantity="signal_dn").exists()
