"""Darks of a sitting: measured once, kept, warmth from three sources, masters made, found, taken off."""

import hashlib
import io
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.nights import CAPPED, WINDOW, done, night
from yellowjacket.bench.darks import masters, measure, sensor_temperature
from yellowjacket.bench.darks.packed import packed, unpacked
from yellowjacket.bench.jobs import progress
from yellowjacket.bench.models import Frame, MasterDark, Problem, Reading, RungDarks, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import shots
from yellowjacket.bench.simulation import shoot
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.measurands import DARK_MEASURANDS
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.simcam.bodies import HEATH

pytestmark = pytest.mark.django_db


def test_a_time_ladder_is_measured_and_says_how_long(data_folder):
    sitting = night()
    ladder = sitting.ladders.first()
    found = measure.measured(ladder)
    whole = found.whole
    # The instruments of the simulated body told how warm it was; it warms up by its work.
    assert {one.source for one in found.warmth.values()} == {"instrument"}
    warm = [found.warmth[rung.pk].celsius for rung in ladder.rungs.all() if not rung.lenr]
    assert warm == sorted(warm)
    truth = HEATH.dark_current_e_per_s * 2 ** ((whole.reference_c - 20) / 6)
    assert whole.current.current.value == pytest.approx(truth, rel=0.06)
    rows = {row.quantity for row in Reading.objects.filter(rung__ladder=ladder)}
    assert rows == set(DARK_MEASURANDS)
    lenr = whole.lenr()
    assert [one.exposure_s for one in lenr] == [1.0, 16.0, 60.0, 120.0]
    assert all(one.at_work for one in lenr)
    # After a second nothing shows in the lifted shadow yet that could be taken away.
    assert lenr[0].removed.has(Missing.NO_HOT_PIXEL_TO_REMOVE)
    assert all(one.removed.value > 0.5 for one in lenr[1:])
    # What LENR adds is what the warmth of either lets expect.
    assert [one.noise_ratio.value / one.expected_ratio for one in lenr] == pytest.approx([1, 1, 1, 1], abs=0.08)
    answers = whole.longest(Profile("x").long_exposure, "usable")
    assert 2 < answers["as shot"].seconds < 60 < answers["single-pixel repair"].seconds
    cooler = whole.longest(Profile("x").long_exposure, "usable", celsius=whole.reference_c - 6)
    assert cooler["single-pixel repair"].seconds > 1.5 * answers["single-pixel repair"].seconds
    # The scene's ladder has no darks and is left alone.
    assert measure.measured(sitting.ladders.last()) is None


def test_nothing_is_measured_twice_and_entered_warmth_counts(data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15, 60, 120), repeats=2),)
    )
    ladder = sitting.ladders.get()
    first = {one.rung_id: bytes(one.measured) for one in RungDarks.objects.all()}
    job = measure.start_measuring(sitting)
    done(job)
    assert job.message == "all darks were measured already"
    assert measure.unmeasured(ladder) == 0
    rung = ladder.rungs.last()

    def doubling() -> float | None:
        return measure.measured(ladder).whole.doubling.value

    before = doubling()
    assert sensor_temperature.enter(rung, "31,5") == 2
    known = measure.measured(ladder).warmth[rung.pk]
    assert known == sensor_temperature.Warmth(31.5, "entered", course=(31.5, 31.5))
    assert not known.warmed
    frames = list(Frame.objects.filter(shot__rung=rung).order_by("shot__repeat"))
    for frame, celsius in zip(frames, (28.0, 35.0), strict=True):
        frame.overrides = {"temperature_c": celsius}
        frame.save()
    warmed = measure.measured(ladder).warmth[rung.pk]
    # As one rung, at the mean of its darks, with where it began and ended.
    assert (warmed.celsius, warmed.course, warmed.warmed) == (31.5, (28.0, 35.0), True)
    assert doubling() != before
    # The numbers themselves are what they were, and the file's own word is kept.
    assert {one.rung_id: bytes(one.measured) for one in RungDarks.objects.all()} == first
    sensor_temperature.enter(rung, "")
    assert doubling() == before


@pytest.mark.parametrize(
    ("text", "words"), [("warm", "not a temperature"), ("400", "not a plausible camera temperature")]
)
def test_senseless_warmth_is_refused(data_folder, text, words):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1,), repeats=2),), measure=False
    )
    with pytest.raises(Refusal, match=words):
        sensor_temperature.enter(sitting.ladders.get().rungs.get(), text)


def test_warmth_from_a_table(data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15), repeats=2),), measure=False
    )
    ladder = sitting.ladders.get()

    def table(text, name="t.csv"):
        return SimpleUploadedFile(name, text.encode() if isinstance(text, str) else text)

    names = list(Frame.objects.filter(sitting=sitting).values_list("path", flat=True))
    lines = [f"{Path(name).name},{20 + n}" for n, name in enumerate(names)]
    assert sensor_temperature.enter_csv(ladder, table("file,temperature_c\n" + "\n".join(lines))) == 4
    assert Frame.objects.get(path=names[2]).overrides == {"temperature_c": 22.0}
    for bad, words in (
        (None, "Choose a CSV"), (table("name,c\na,1"), "needs the columns"), (table("file,temperature_c\nx.dng,hot"), "line 2"),
        (table(b"\xff\xfe\x00\x01"), "UTF-8"), (table("file,temperature_c\nother.dng,20"), "None of the files"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=words):
            sensor_temperature.enter_csv(ladder, bad)


def test_a_broken_dark_is_named_and_the_others_are_measured(data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15, 60), repeats=2),), measure=False
    )
    broken = Path(Frame.objects.filter(sitting=sitting, shot__rung__exposure_s=15).first().path)
    broken.write_bytes(b"II*\0")
    done(measure.start_measuring(sitting))
    assert Problem.objects.filter(sitting=sitting, file_name=broken.name).exists()
    found = measure.measured(sitting.ladders.get())
    assert len(found.by_rung) == 3
    assert sum(one.pixels is None for one in found.by_rung.values()) == 1


def test_capped_shots_need_no_first_frame_to_be_looked_at(data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 4), repeats=2),), measure=False
    )
    Sitting.objects.filter(pk=sitting.pk).update(first_accepted_at=None)
    Frame.objects.filter(sitting=sitting).delete()
    ladder = sitting.ladders.get()
    shots.take(ladder.rungs.last().shots.first())
    done(shoot.start_shooting(ladder, window=WINDOW))
    assert Frame.objects.filter(sitting=sitting).count() == 3


def test_without_darks_it_says_so(sitting):
    with pytest.raises(Refusal, match="no dark to measure"):
        measure.start_measuring(sitting)


def test_findings_survive_their_bytes(data_folder):
    sitting = night(ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 60), repeats=2),))
    one = next(iter(measure.measured(sitting.ladders.get()).by_rung.values()))
    again = unpacked(packed(one), 33.0)
    assert again.group.temperature_c == 33.0
    for name in one.pixels.rows.dtype.names:
        assert np.array_equal(again.pixels.rows[name], one.pixels.rows[name], equal_nan=name == "each_dn")
    assert (again.pixels.size, again.pixels.clip_dn) == (one.pixels.size, one.pixels.clip_dn)
    assert again.noise_dn == one.noise_dn
    for channel, means in one.tiles.means.items():
        assert again.tiles.means[channel] == pytest.approx(means, rel=1e-6)


def test_hot_pixels_persist_from_night_to_night(data_folder):
    spec = LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 30, 120), repeats=2)
    first, second = night("One", ladders=(spec,)), night("Two", ladders=(spec,), room_c=26.0)
    ladder = first.ladders.get()
    others = measure.others_with_darks(ladder)
    inputs = measure.DarkInputs.of([ladder, *others])
    ((other, share),) = measure.persistence(measure.measured(ladder, inputs), others, inputs)
    assert other == second.ladders.get()
    assert share.value > 0.9


# Masters


def test_masters_are_made_kept_and_found(data_folder):
    sitting = night()
    before = {path: hashlib.sha256(Path(path).read_bytes()).hexdigest() for path in
              Frame.objects.values_list("path", flat=True)}  # fmt: skip
    batches = masters.batches_of(sitting)
    assert all(one.enough for one in batches[:2])
    assert not any(one.made for one in batches)
    assert all(not frame.shot.rung.lenr for one in batches for frame in one.frames)
    done(masters.start_making(sitting, []))
    master = MasterDark.objects.get(exposure_s=60.0)
    assert (master.iso, master.frames, master.width, master.height) == (800, 3, *WINDOW)
    path = master.path_in(settings.HOME)
    with fits.open(path, checksum=True) as parts:
        header, data = parts[0].header, parts[0].data
        assert data.dtype == np.dtype(">f4")
        assert (header["EXPTIME"], header["ISO"], header["NCOMBINE"], header["BAYERPAT"]) == (60.0, 800, 3, "RGGB")
        assert header["CCD-TEMP"] == pytest.approx(master.temperature_c, abs=0.01)
        assert sum("made of" in line for line in header["HISTORY"]) == 3
    stack = [read_frame(Path(one.path)).mosaic for one in next(b for b in batches if b.exposure_s == 60.0).frames]
    assert np.isclose(data, np.mean(stack, axis=0), atol=1e-2).mean() > 0.995
    # The originals are as they were.
    assert {path: hashlib.sha256(Path(path).read_bytes()).hexdigest() for path in before} == before
    again = masters.start_making(sitting, [])
    done(again)
    assert again.message == "no master dark was made anew"

    light = Frame.objects.get(shot__kind="light")
    found = masters.candidates(masters.setting_of(light), master.body)
    assert found[0].master == master
    assert found[0].match.fit in ("fits", "another temperature")
    signal, raw, _ = masters.calibrated(light, master)
    assert signal.mean() == pytest.approx(raw.mosaic.mean() - data.mean(), abs=0.01)
    told = fits.open(io.BytesIO(masters.calibrated_fits(light, master)))[0]
    assert told.data == pytest.approx(signal, abs=1e-3)
    assert any(master.file_name[:20] in line for line in told.header["HISTORY"])
    masters.write_calibrated_dng(light, master, data_folder / "c.dng")
    again = read_frame(data_folder / "c.dng")
    assert np.abs(again.mosaic - np.clip(np.rint(signal + 2048), 0, 16383)).max() <= 1

    path.write_bytes(path.read_bytes()[:-2880] + bytes(2880))
    with pytest.raises(Refusal, match="was changed"):
        masters.image_of(master)
    path.unlink()
    with pytest.raises(Refusal, match="not in the data folder"):
        masters.image_of(master)


def test_a_dark_that_is_gone_costs_only_its_own_master(data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15), repeats=3),), measure=False
    )
    first = masters.batches_of(sitting)[0].frames[1]
    Path(first.path).unlink()
    job = masters.start_making(sitting, [])
    done(job)
    assert job.message.startswith("1 master dark made. ")
    assert first.file_name in job.message
    assert MasterDark.objects.get().exposure_s == 15.0
    assert Problem.objects.filter(sitting=sitting, file_name=first.file_name).exists()
    assert [one.made for one in masters.batches_of(sitting)] == [False, True]


def test_too_few_darks_and_none_are_refused(data_folder, sitting):
    two = night(ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1,), repeats=2),), measure=False)
    with pytest.raises(Refusal, match="needs 3 darks of one time and warmth, there are 2"):
        masters.start_making(two, [])
    with pytest.raises(Refusal, match="no darks"):
        masters.start_making(sitting, [])


def test_darks_of_other_warmth_go_into_a_master_of_their_own(data_folder):
    sitting = night(
        ladders=(LadderSpec("time", "capped", Exposure(800, 1.0, 8.0), picked=(1,), repeats=4),), measure=False
    )
    frames = list(Frame.objects.filter(sitting=sitting).order_by("captured_at"))
    for frame, celsius in zip(frames, (20.0, 21.5, 24.0, 25.0), strict=True):
        frame.overrides = {"temperature_c": celsius}
        frame.save()
    assert [(len(one.frames), one.temperature_c) for one in masters.batches_of(sitting)] == [(2, 20.75), (2, 24.5)]


def test_a_master_of_another_iso_is_not_taken_off(data_folder):
    sitting = night()
    done(masters.start_making(sitting, []))
    light, master = Frame.objects.get(shot__kind="light"), MasterDark.objects.get(exposure_s=60.0)
    master.iso = 1600
    with pytest.raises(Refusal, match="does not fit"):
        masters.calibrated(light, master)
    light.shot = None
    with pytest.raises(Refusal, match="belongs to no shot"):
        masters.setting_of(light)


def test_stopped_work_goes_on_where_it_was(data_folder, monkeypatch):
    sitting = night(ladders=(CAPPED,), measure=False)
    stopped = []

    def stop_after_two(self):
        stopped.append(1)
        if len(stopped) == 2:
            raise progress.Stopped

    with monkeypatch.context() as patch:
        patch.setattr(progress.Progress, "step", stop_after_two)
        job = measure.start_measuring(sitting)
        job.refresh_from_db()
    assert job.state == "stopped"
    assert RungDarks.objects.count() == 2
    job = measure.start_measuring(Sitting.objects.get(pk=sitting.pk))
    done(job)
    assert job.message == "darks of 6 rungs measured"
