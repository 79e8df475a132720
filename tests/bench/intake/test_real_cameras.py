"""Frames of bodies that the product's own writer does not make: of every layout, without a name, with claims of their own."""

import io
from datetime import datetime
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tests import containers, layouts, making
from yellowjacket.bench.check import audit
from yellowjacket.bench.darks.sensor_temperature import warmth_of
from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.development import Developing
from yellowjacket.bench.exchange import sitting_archive
from yellowjacket.bench.intake import adopt as adopt_
from yellowjacket.bench.intake import nameless
from yellowjacket.bench.intake.originals import unusable
from yellowjacket.bench.measure import run, staleness
from yellowjacket.bench.models import Body, Firmware, Frame, Ladder, NamedKind, Reading, Sitting
from yellowjacket.bench.plan.sittings import UseSpec
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.record.evidence import conditions, files_in_words
from yellowjacket.bench.record.proposals import proposals
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.darks.master import make_master, subtracted, with_pedestal
from yellowjacket.core.export.dng import DngImage, filters_of, write_dng
from yellowjacket.core.metadata.capture import Thermometer
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import Development, develop_crop, develop_reduced

pytestmark = pytest.mark.django_db
USES = (UseSpec("Pixel level", None), UseSpec("Web", 40_000))
SHAPE = (480, 768)
ISOS = (100, 400, 1600)
EVERY = {
    "2×2": (layouts.BAYER, 1), "4×4": (layouts.QUAD, 1), "6×6": (layouts.LARGE_TILE, 1), "monochrome": (None, 1),
    "linear": (None, 3),
}  # fmt: skip


def write_ladder(folder, tile, samples=1, *, names=True, isos=ISOS):
    """Two light frames and two darks a rung: as bright at every ISO, with an eighth of the light each time."""
    rng = np.random.default_rng(11)
    colours = np.ones(SHAPE, int)
    if tile:
        (down, across), codes = tile
        pattern = np.array(codes).reshape(down, across)
        colours = np.tile(pattern, (SHAPE[0] // down + 1, SHAPE[1] // across + 1))[: SHAPE[0], : SHAPE[1]]
    scene = layouts.light(SHAPE, np.ones(SHAPE, int))
    for n, iso in enumerate(isos):
        for repeat in range(4):
            light = scene if repeat < 2 else scene * 0
            mean = (
                np.dstack([light * layouts.FILTERS[c] for c in range(3)])
                if samples == 3
                else light * layouts.through(colours)
            )
            data = layouts.numbers(mean, rng, gain=layouts.GAIN * 100 / iso)
            layouts.write(folder / f"F{n}{repeat}.dng", data, tile, iso=iso, exposure_s=0.125 * 100 / iso, named=names)


def adopt(folder="") -> Sitting:
    return adopt_.adopt_folder(str(folder), USES, "Default")


@pytest.mark.parametrize("layout", EVERY)
def test_a_folder_of_every_layout_becomes_a_measured_ladder(data_folder, layout):
    tile, samples = EVERY[layout]
    write_ladder(data_folder / "inbox", tile, samples)
    sitting = adopt()
    ladder = sitting.ladders.get()
    assert [rung.iso for rung in ladder.rungs.all()] == list(ISOS)
    assert {frame.mosaic_layout.name for frame in sitting.frames.all()} == {layout}
    assert not [one for one in audit.audit(ladder).findings if one.code != "soft-start"]
    run.start_measuring(sitting)
    assert staleness.unmeasured(ladder) == 0
    at_web = Reading.objects.filter(
        rung__ladder=ladder, use__name="Web", quantity="snr", channel="all", value__isnull=False
    )
    assert at_web.count() >= 3
    falling = [one.value for one in at_web.filter(patch__role="grey").order_by("rung__position")]
    assert falling == sorted(falling, reverse=True)
    gains = Reading.objects.filter(rung__ladder=ladder, quantity="gain_e_per_dn", channel="all", value__isnull=False)
    _signed_and_given_away(sitting)
    if samples == 3:
        assert gains.count() == 0
        assert "interpolated samples" in files_in_words(conditions(ladder))
        # Nothing is said of single pixels, not even that all of them held.
        pixel = next(one for one in proposals(ladder) if one.use.output_pixels is None)
        assert (pixel.measured.mark, pixel.measured.at_least) == (None, False)
        assert "interpolated samples" in pixel.measured.reason
        return
    for reading in gains:
        assert reading.value == pytest.approx(layouts.GAIN * 100 / reading.rung.iso, rel=0.03)
    assert gains.count() == 3


def _signed_and_given_away(sitting):
    """The rest of the way: a record is signed, and the sitting goes out with its frames and comes in again."""
    ladder = sitting.ladders.get()
    record = record_.open_record(ladder)
    record_.accept_proposed(record, "Wren Halloway")
    record_.note(record, answer="As expected.", text="")
    # What cannot be measured is decided by hand.
    for one in proposals(ladder):
        if one.measured.mark is None and not one.measured.criterion:
            record_.decide(record, one.use, one.level, None, "Wren Halloway")
    record_.sign(record, "Wren Halloway", ())
    assert record.evidence["conditions"]["layout"] == sitting.frames.first().mosaic_layout.name
    buffer = io.BytesIO()
    sitting_archive.write(sitting, buffer, originals=True)
    buffer.seek(0)
    again = sitting_archive.read(buffer, "a.zip", again=True, described=sitting_archive.HERE).sitting
    assert [one.layout for one in again.frames.order_by("sha256")] == [
        one.layout for one in sitting.frames.order_by("sha256")
    ]
    assert (
        Reading.objects.filter(rung__ladder__sitting=again).count()
        == Reading.objects.filter(rung__ladder=ladder).count()
    )


@pytest.mark.parametrize("layout", EVERY)
def test_a_master_dark_of_every_layout_is_taken_off_and_written_as_dng_and_fits(tmp_path, layout):
    tile, samples = EVERY[layout]
    rng = np.random.default_rng(2)
    shape = SHAPE if samples == 1 else (*SHAPE, 3)
    paths = []
    for n in range(4):
        data = np.rint(rng.normal(layouts.BLACK + 40, 3, shape)).astype(np.uint16)
        paths.append(layouts.write(tmp_path / f"{n}.dng", data, tile, exposure_s=30.0))
    master = make_master(paths)
    frame = read_frame(paths[0])
    left = subtracted(frame, master.mean)
    assert abs(float(left.mean())) < 0.1
    mosaic = with_pedestal(left, layouts.BLACK, layouts.WHITE)
    out = tmp_path / "out.dng"
    shaped = mosaic if samples == 1 else mosaic.reshape(shape)
    write_dng(out, DngImage(shaped, filters_of(frame.layout), (layouts.BLACK,) * 4, layouts.WHITE, np.eye(3), (1, 1, 1),
                            making.capture()))  # fmt: skip
    again = read_frame(out)
    assert again.layout == frame.layout
    assert (again.mosaic == mosaic).all()


def test_a_body_without_a_name_is_asked_for_once_and_remembered(data_folder):
    write_ladder(data_folder / "inbox", layouts.BAYER, names=False, isos=(100, 400, 1600))
    sitting = adopt()
    asked = nameless.question(sitting)
    assert (asked.frames, asked.answered, [str(one) for one in asked.taken_as]) == (12, False, ["Unnamed body"])
    with pytest.raises(Refusal, match="make and model"):
        nameless.give_name(sitting, None)
    body = nameless.give_name(sitting, None, "Quillon", "Marsh")
    assert sitting.ladders.get().body == body
    assert Body.objects.count() == 1
    assert nameless.question(sitting).answered
    assert NamedKind.objects.get().body == body
    # Files of that kind are known from now on.
    for path in sorted((data_folder / "inbox").iterdir()):
        path.write_bytes(path.read_bytes() + b"\0")
    again = adopt()
    assert again.ladders.get().body == body
    assert nameless.question(again).answered
    # … and it can be changed.
    other = nameless.give_name(again, None, "Quillon", "Ford")
    assert again.ladders.get().body == other
    assert sitting.ladders.get().body == body
    assert Frame.objects.filter(sitting=again).exclude(model="Ford").count() == 0


def test_what_files_say_of_their_body_fills_the_register(data_folder, card):
    for path in card.iterdir():
        (data_folder / "inbox" / path.name).write_bytes(path.read_bytes())
    adopt()
    firmware = Firmware.objects.get()
    assert (firmware.version, str(firmware.since), firmware.body.serial) == ("1.10", "2026-03-14", "OH-1")


@pytest.mark.parametrize(
    ("claims", "code", "words"),
    [
        ({"lenr": "on"}, "lenr", "says that LENR was on"),
        ({"noise_reduction": "on"}, "noise-reduction", "high-ISO noise reduction was on"),
        ({"noise_reduction": "auto"}, "noise-reduction", "high-ISO noise reduction was on"),
        ({"several_shots": True}, "several", "several exposures"),
        ({"claims": {"contradicted": ["iso"]}}, "contradiction", "two things of its ISO"),
        ({"lenr": "off"}, None, ""),
        # At an eighth of a second a body that decides by itself takes no dark.
        ({"lenr": "auto"}, None, ""),
        ({"shutter": "electronic", "compression": "lossy"}, None, ""),
    ],
)
def test_what_files_say_is_a_finding_of_check(data_folder, card, claims, code, words):
    for path in card.iterdir():
        (data_folder / "inbox" / path.name).write_bytes(path.read_bytes())
    sitting = adopt()
    Frame.objects.filter(sitting=sitting).update(**claims)
    ladder = sitting.ladders.get()
    found = audit.audit(ladder).findings
    assert {one.code for one in found} == ({code} if code else set())
    if code:
        assert all(words in one.text for one in found)
        # On every rung alike, so that it is decided once.
        assert [run_.code for run_ in audit.audit(ladder).runs] == [code]
    assert files_in_words(conditions(ladder)) == (
        "electronic shutter, lossy compression" if "shutter" in claims else ""
    )


def test_a_temperature_keeps_its_thermometer(data_folder, card):
    for path in card.iterdir():
        (data_folder / "inbox" / path.name).write_bytes(path.read_bytes())
    sitting = adopt()
    Frame.objects.filter(sitting=sitting).update(temperature_c=31.5, temperature_of="body")
    (known, *_) = warmth_of(sitting.frames.all()).values()
    assert (known.celsius, known.source, known.thermometer) == (31.5, "file", Thermometer.BODY)


def write_pictures(folder, *, body="Reed", ending=".jpg", isos=ISOS, names="P{n}{repeat}", side=768):
    """A camera's own pictures of the eight steps, noisier at every ISO, with Exif as a camera writes it."""
    rng = np.random.default_rng(5)
    shape = (side * 5 // 8, side)
    steps = np.broadcast_to(0.72 * 2.0 ** -(np.arange(side) * 8 // side), shape)[..., None] * np.ones(3)
    for n, iso in enumerate(isos):
        for repeat in (0, 1):
            noisy = np.clip(steps + rng.normal(0, 0.004 * (iso / 100) ** 0.5, steps.shape), 0, 1)
            exif = Image.Exif()
            exif[271], exif[272] = "Quillon", body
            # Pillow writes no Exif directory into TIFF: there the first one holds it all, as TIFF/EP has it.
            own = exif if ending == ".tif" else exif.get_ifd(0x8769)
            own[34855], own[33434], own[33437] = iso, 12.5 / iso, 8.0
            own[36867] = f"2026:03:14 20:00:{10 * n + 5 * repeat:02d}"
            picture = Image.fromarray(np.rint(255 * noisy ** (1 / 2.2)).astype(np.uint8))
            picture.save(folder / (names.format(n=n, repeat=repeat) + ending), quality=97, exif=exif)


@pytest.mark.parametrize("ending", [".jpg", ".tif"])
def test_a_folder_of_camera_pictures_becomes_a_ladder_that_is_judged_by_eye(data_folder, ending):
    write_pictures(data_folder / "inbox", ending=ending)
    sitting = adopt()
    ladder = sitting.ladders.get()
    assert (ladder.body.model, [rung.iso for rung in ladder.rungs.all()]) == ("Reed", list(ISOS))
    assert {frame.mosaic_layout.name for frame in sitting.frames.all()} == {"picture"}
    assert not [one for one in audit.audit(ladder).findings if one.code != "soft-start"]
    run.start_measuring(sitting)
    read = Reading.objects.filter(rung__ladder=ladder, value__isnull=False)
    # Display units only: nothing of the sensor is claimed.
    assert set(read.values_list("quantity", flat=True)) <= {
        "noise_luma", "noise_chroma", "noise_visual", "grain_px", "flags",
    }  # fmt: skip
    noise = [
        one.value
        for one in read.filter(quantity="noise_chroma", patch__role="grey", use=None).order_by("rung__position")
    ]
    assert len(noise) == 3
    assert noise == sorted(noise)
    assert files_in_words(conditions(ladder)) == "judged on camera pictures"


def test_pictures_of_the_newer_kind_are_adopted_too(data_folder):
    write_pictures(data_folder / "inbox", ending=".heic", side=96)
    ladder = adopt().ladders.get()
    assert [(frame.width, frame.height, frame.iso) for frame in Frame.objects.order_by("path")][::2] == [
        (96, 60, iso) for iso in ISOS
    ]
    assert ladder.body.model == "Reed"


def test_pictures_are_shown_as_the_camera_made_them(data_folder):
    write_pictures(data_folder / "inbox", ending=".png")
    sitting = adopt()
    frame = sitting.frames.order_by("pk").first()
    developed = Developing.of(sitting.ladders.get()).of_frame(frame, frame.shot.rung_id)
    assert (developed.balance, developed.moved_stops) == ("as the camera made it", 0.0)
    seen = develop_crop(mosaic_of(frame), Rect(20, 30, 300, 200), developed.how)
    with Image.open(frame.path) as picture:
        assert (seen == np.asarray(picture)[30:230, 20:320]).all()


def test_beside_raw_files_their_pictures_become_a_lane(data_folder, card):
    inbox = data_folder / "inbox"
    for path in card.iterdir():
        (inbox / path.name).write_bytes(path.read_bytes())
    for name in ("F001", "F003", "F005"):
        frame = read_frame(inbox / f"{name}.DNG")
        how = Development(frame.layout, frame.black_dn, (1e-4, 7e-5, 1e-4), None)
        picture = Image.fromarray(develop_reduced(frame.mosaic, 1, how))
        picture.save(inbox / ("stranger.jpg" if name == "F005" else f"{name}.JPG"))
    sitting = adopt()
    assert {one.mosaic_layout.name for one in sitting.frames.all()} == {"2×2"}
    lane = sitting.ladders.get().lanes.get()
    assert (lane.kind, lane.pictures.count()) == ("camera", 2)
    assert sitting.problems.get(file_name="stranger.jpg").code == "picture"


def scattered(inbox, card):
    """A card as it comes: an ISO ladder, the same by another body the day after, two strays, and what is no frame."""
    for path in card.iterdir():
        (inbox / path.name).write_bytes(path.read_bytes())
    rng = np.random.default_rng(3)
    for n, iso in enumerate((100, 200, 400)):
        for repeat in (0, 1):
            moment = datetime(2026, 3, 15, 9, n, 10 * repeat)
            making.write(
                inbox / f"G{n}{repeat}.DNG", making.shot(iso, rng), iso=iso, model="Fen", serial="OF-2", captured_at=moment,
                exposure_s=Fraction(1, 8 * iso // 100),
            )  # fmt: skip
    making.write(inbox / "stray.dng", making.shot(100, rng), captured_at=datetime(2025, 12, 24, 18, 0))
    for name in ("clip.MOV", "F001.xmp", "F002.xmp", "notes.txt", ".hidden.dng"):
        (inbox / name).write_bytes(b"nothing of interest")


def test_a_folder_of_several_sittings_is_offered_to_be_taken_or_left(data_folder, card, client):
    scattered(data_folder / "inbox", card)
    sitting = adopt()
    job = sitting.jobs.get()
    assert job.message == "3 sittings were found in 19 files; passed over: 2 .xmp, 1 .mov, 1 .txt"
    assert [(one.title, one.what, len(one.paths)) for one in adopt_.offered_to(sitting)] == [
        ("Ostrel Heath", "too few frames for a ladder", 1), ("Ostrel Heath", "3 ISO settings", 12),
        ("Ostrel Fen", "3 ISO settings", 6),
    ]  # fmt: skip
    assert not sitting.frames.exists()
    page = client.get(f"/sittings/{sitting.pk}/adopting/").content.decode()
    assert page.count("checked") == 2
    assert "24 Dec 2025" in page
    answer = client.post(f"/sittings/{sitting.pk}/take-found/", {"found": ["1", "2"]})
    assert answer.status_code == 302
    assert sorted(str(ladder.body) for ladder in Ladder.objects.all()) == ["Ostrel Fen", "Ostrel Heath"]
    assert sorted(one.frames.count() for one in Sitting.objects.all()) == [6, 12]
    with pytest.raises(Refusal, match="imported already"):
        adopt_.take(sitting, [1])


def test_leaving_all_of_a_folder_leaves_nothing_behind(data_folder, card, client):
    scattered(data_folder / "inbox", card)
    sitting = adopt()
    with pytest.raises(Refusal, match="Tick the sittings"):
        adopt_.take(sitting, [17])
    client.post(f"/sittings/{sitting.pk}/take-found/", {"leave": "yes"})
    assert not Sitting.objects.exists()


def test_a_thousand_files_are_sorted_by_their_tags_alone(data_folder, card):
    """Nothing is decoded for sorting: files whose pixels are cut off are sorted like the others."""
    inbox = data_folder / "inbox"
    whole = (card / "F001.DNG").read_bytes()
    other = containers.tiff([(271, containers.ASCII, b"Quillon\0"), (272, containers.ASCII, b"Tarn\0")])
    for n in range(1000):
        (inbox / f"{n:04d}.dng").write_bytes(other + bytes(n % 7) if n % 2 else whole[:60_000])
    sitting = adopt()
    assert sorted(len(one.paths) for one in adopt_.offered_to(sitting)) == [500, 500]


def test_two_cards_with_equal_names_lose_nothing(data_folder, card):
    """Both cards begin with F001: frames and complaints are told apart by where they lie."""
    rng = np.random.default_rng(9)
    for name, shift in (("first", 0), ("second", 1)):
        folder = data_folder / "inbox" / name
        folder.mkdir()
        for n, path in enumerate(sorted(card.iterdir())[:6]):
            iso = (100, 100, 200, 200, 400, 400)[n]
            moment = datetime(2026, 3, 14, 20, 20 * shift, n)
            making.write(
                folder / path.name, making.shot(iso, rng), iso=iso, captured_at=moment,
                exposure_s=Fraction(1, 8 * iso // 100),
            )  # fmt: skip
        (folder / "broken.dng").write_bytes(b"x" * (10 + shift))
    sitting = adopt()
    assert sitting.frames.count() == 12
    assert sitting.frames.filter(shot__isnull=False).count() == 12
    assert sitting.problems.filter(file_name="broken.dng").count() == 2
    originals_ = sitting.frames.order_by("path")
    Path(originals_[0].path).unlink()
    ladder = sitting.ladders.get()
    unusable(sitting, [frame.path for frame in originals_])
    assert [one.frame.pk for one in audit.audit(ladder).findings if one.code == "missing"] == [originals_[0].pk]


def test_ladders_of_one_nameless_body_stay_whole_when_it_is_named(data_folder, body):
    """An ISO ladder and darks along time, both of a body of the register: nothing is torn off its shot."""
    inbox = data_folder / "inbox"
    write_ladder(inbox, layouts.BAYER, names=False)
    rng = np.random.default_rng(6)
    for n, seconds in enumerate((1.0, 8.0, 60.0)):
        for repeat in (0, 1):
            dark = np.rint(rng.normal(layouts.BLACK, 4, SHAPE)).astype(np.uint16)
            layouts.write(inbox / f"D{n}{repeat}.dng", dark, layouts.BAYER, iso=800, exposure_s=seconds, named=False)
    sitting = adopt()
    assert sitting.ladders.count() == 2
    nameless.give_name(sitting, body)
    assert {ladder.body for ladder in sitting.ladders.all()} == {body}
    assert sitting.frames.filter(shot=None).count() == 0
    # What stood in for it is gone.
    assert list(Body.objects.all()) == [body]
