"""Lanes: what is given away, and what comes back, found, placed and measured."""

import csv
import io
import zipfile
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image
from scipy.ndimage import gaussian_filter

from tests import making
from yellowjacket.bench.development import Developing
from yellowjacket.bench.look import blind_rounds, grades, renditions
from yellowjacket.bench.models import BlindRound, Frame, Grade, Job, LanePicture, PairVerdict, Problem
from yellowjacket.bench.record import proposals
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.raw.reader import read_frame
from yellowjacket.core.raw.rect import Rect
from yellowjacket.core.rendering.develop import develop_crop
from yellowjacket.core.renditions.picture import linear_of

pytestmark = pytest.mark.django_db


@pytest.fixture
def ladder(measured):
    return measured.ladders.get()


def developed(frame, ladder):
    """A frame as a tester's own tool would render it, as an array."""
    how = Developing.of(ladder).of_frame(frame, frame.shot.rung_id).how
    raw = read_frame(Path(frame.path))
    return develop_crop(raw.mosaic, Rect(0, 0, frame.width, frame.height), how)


def as_file(picture, name, kind="PNG", **options):
    buffer = io.BytesIO()
    Image.fromarray(picture).save(buffer, kind, **options)
    return SimpleUploadedFile(name, buffer.getvalue())


def light(ladder, iso):
    frames = Frame.objects.filter(shot__rung__ladder=ladder, shot__rung__iso=iso, shot__kind="light")
    return list(frames.select_related("shot").order_by("shot__repeat"))


def stem(frame):
    return frame.file_name.rsplit(".", 1)[0]


def softened(picture, blur=1.0):
    return np.rint(gaussian_filter(picture.astype(float), (blur, blur, 0))).astype(np.uint8)


def test_the_table_of_corrections_brings_every_frame_to_equal_grey(ladder):
    rows = list(csv.DictReader(io.StringIO("".join(renditions.corrections_csv(ladder)))))
    assert len(rows) == 6
    assert tuple(rows[0]) == renditions.CORRECTION_COLUMNS
    for row in rows:
        # The body's response to neutral light is known: balance undoes it.
        assert float(row["red_gain"]) == pytest.approx(1 / making.RESPONSE["R"], rel=0.02)
        assert float(row["blue_gain"]) == pytest.approx(1 / making.RESPONSE["B"], rel=0.02)
        assert abs(float(row["move_to_equal_brightness_stops"])) < 0.1


def test_a_side_car_is_well_formed_and_says_the_same(ladder):
    one = renditions.corrections(ladder)[0]
    root = ElementTree.fromstring(renditions.sidecar(one).split("?>", 1)[1].rsplit("<?xpacket", 1)[0])
    description = root.find(".//{http://www.w3.org/1999/02/22-rdf-syntax-ns#}Description")
    said = {key.rsplit("}", 1)[1]: value for key, value in description.attrib.items()}
    assert said["source"] == one.frame.file_name
    assert float(said["redGain"]) == pytest.approx(one.red_gain, abs=1e-4)
    assert float(said["moveStops"]) == pytest.approx(one.moved_stops, abs=1e-3)
    assert said["noiseReduction"] == "0"


def test_pictures_come_back_by_name_and_are_measured(ladder):
    lane = renditions.create_lane(ladder, "finish", "gentle", "blur", "Wren")
    files = [
        as_file(softened(developed(frame, ladder)), f"{stem(frame)}-done.png")
        for iso in (100, 400) for frame in light(ladder, iso)
    ]  # fmt: skip
    job = renditions.add_pictures(lane, files)
    job.refresh_from_db()
    assert (job.state, job.message) == (Job.State.DONE, "4 pictures in “gentle”")
    for picture in lane.pictures.all():
        assert picture.matched_by == "by its name"
        assert picture.frame.shot.rung_id == picture.rung_id
        assert (picture.x0, picture.y0, picture.a) == (0.0, 0.0, 1.0)
    effect = renditions.effect_of(lane.pictures.filter(rung__iso=400).first())
    # White noise through a blur of 1 px keeps 1/(2√π) of its spread; interpolation had made it less than white.
    assert 0.2 < effect["luma"].value / effect["luma_as_is"].value < 0.6
    assert effect["chroma"].value < 0.7 * effect["chroma_as_is"].value
    assert effect["colour_de00"].value < 1.5
    assert "no texture" in effect["detail_kept"].reason


def test_without_a_name_settings_and_then_the_noise_tell(ladder):
    lane = renditions.create_lane(ladder, "finish", "nameless")
    frame = light(ladder, 400)[1]
    exif = Image.Exif()
    exif.get_ifd(0x8769)[0x8827] = 200
    exif.get_ifd(0x8769)[0x829A] = 1 / 15
    by_settings = as_file(developed(light(ladder, 200)[0], ladder), "a.jpg", "JPEG", quality=95, exif=exif)
    by_noise = as_file(developed(frame, ladder), "b.png")
    # Another scene, shot at a setting of the ladder: where its noise stands on the axis is told by its ISO.
    exif.get_ifd(0x8769)[0x829A] = 1 / 400
    everyday = np.random.default_rng(5).integers(0, 255, (300, 400, 3), dtype=np.uint8)
    renditions.add_pictures(lane, [by_settings, by_noise, as_file(everyday, "c.jpg", "JPEG", exif=exif)])
    found = {picture.file_name: picture for picture in lane.pictures.select_related("rung")}
    assert (found["a.jpg"].rung.iso, found["a.jpg"].matched_by) == (200, "by ISO and exposure time")
    assert (found["b.png"].frame, found["b.png"].matched_by) == (frame, "by its noise")
    assert (found["c.jpg"].rung.iso, found["c.jpg"].frame, found["c.jpg"].matched_by) == (200, None, "by its ISO alone")
    assert "shown by its own middle" in found["c.jpg"].remark


def test_a_turned_and_a_smaller_picture_are_placed_and_said(ladder):
    lane = renditions.create_lane(ladder, "converter", "half")
    one, other = light(ladder, 100)
    turned = np.rot90(developed(one, ladder))
    small = np.asarray(Image.fromarray(developed(other, ladder)).resize((320, 224), Image.Resampling.BOX))
    renditions.add_pictures(lane, [as_file(turned, f"{stem(one)}.png"), as_file(small, f"{stem(other)}.png")])
    a, b = lane.pictures.order_by("file_name")
    assert "was turned" in a.remark
    assert (a.width, a.height) == (640, 448)
    assert a.quarter_turns in (1, 3)
    assert "0.5 of the frame's pixels" in b.remark
    assert b.place.scale == pytest.approx(0.5, rel=0.01)


def test_sixteen_bits_and_heif_are_read(ladder, tmp_path):
    import tifffile
    from pillow_heif import from_pillow

    lane = renditions.create_lane(ladder, "converter", "others")
    one, other = light(ladder, 100)
    path = tmp_path / "x.tif"
    tifffile.imwrite(path, developed(one, ladder).astype(np.uint16) * 257, photometric="rgb")
    heif = tmp_path / "x.heic"
    from_pillow(Image.fromarray(developed(other, ladder))).save(heif, quality=90)
    files = [
        SimpleUploadedFile(f"{stem(one)}.tif", path.read_bytes()), SimpleUploadedFile(f"{stem(other)}.heic", heif.read_bytes())
    ]  # fmt: skip
    renditions.add_pictures(lane, files)
    assert lane.pictures.count() == 2
    assert not Problem.objects.filter(path__contains="lane-").exists()


def test_what_belongs_nowhere_is_said_with_the_remedy(ladder):
    lane = renditions.create_lane(ladder, "finish", "strays")
    rng = np.random.default_rng(3)
    files = [
        as_file(rng.integers(0, 255, (448, 640, 3), dtype=np.uint8), "stray.png"),
        SimpleUploadedFile("broken.jpg", b"no picture at all"),
    ]
    job = renditions.add_pictures(lane, files)
    job.refresh_from_db()
    assert "2 not placed, see Check" in job.message
    problems = {p.file_name: p for p in Problem.objects.all()}
    assert "belongs to no frame" in problems["stray.png"].reason
    assert "Keep the frame's name" in problems["stray.png"].remedy
    assert "not a picture" in problems["broken.jpg"].reason


def test_refusals_name_the_picture_and_do_not_pile_up(ladder, client):
    """Another picture of the same name is another try: what was said of the last one goes, under the name it came with."""
    lane = renditions.create_lane(ladder, "finish", "tries")
    for n in range(3):
        renditions.add_pictures(lane, [SimpleUploadedFile("finish.jpg", b"no picture at all" + bytes([n]))])
    assert [one.file_name for one in Problem.objects.all()] == ["finish.jpg"]
    frame = light(ladder, 100)[0]
    renditions.add_pictures(lane, [as_file(developed(frame, ladder), "finish.jpg")])
    page = f"/sittings/{ladder.sitting_id}/look/lanes/"
    # Digits of a picture's own name are no mark of ours.
    renditions.add_pictures(lane, [SimpleUploadedFile("finish-20261130.jpg", b"nor this")])
    assert Problem.objects.filter(file_name="finish-20261130.jpg").exists()
    renditions.add_pictures(lane, [SimpleUploadedFile("other.jpg", b"nor this")])
    assert "other.jpg" in client.get(page).content.decode()
    client.post(f"{page}clear/")
    assert not Problem.objects.filter(path__contains="/lane-").exists()


def test_the_same_picture_is_kept_once_and_can_be_reassigned(ladder):
    lane = renditions.create_lane(ladder, "finish", "once")
    frame = light(ladder, 100)[0]
    for _ in range(2):
        renditions.add_pictures(lane, [as_file(developed(frame, ladder), f"{stem(frame)}.png")])
    picture = LanePicture.objects.get()
    rung = ladder.rungs.get(iso=400)
    renditions.assign(picture, rung)
    picture.refresh_from_db()
    assert (picture.rung, picture.frame, picture.matched_by) == (rung, None, "by hand")


@pytest.mark.parametrize(
    ("kind", "name", "words"),
    [("x", "a", "what kind"), ("finish", " ", "Name the lane"), ("finish", "there", "already")],
)
def test_lanes_that_cannot_be(ladder, kind, name, words):
    renditions.create_lane(ladder, "camera", "there")
    with pytest.raises(Refusal, match=words):
        renditions.create_lane(ladder, kind, name)


def test_files_that_are_no_pictures_are_refused_by_name(ladder):
    lane = renditions.create_lane(ladder, "finish", "raws")
    with pytest.raises(Refusal, match=r"a\.dng is none of"):
        renditions.add_pictures(lane, [SimpleUploadedFile("a.dng", b"x")])
    with pytest.raises(Refusal, match="Choose one or more"):
        renditions.add_pictures(lane, [])


def test_grades_and_limits_exist_as_is_and_with_the_finish(ladder):
    lane = renditions.create_lane(ladder, "finish", "gentle")
    use = ladder.sitting.uses.first()
    for rung, plain, finished in zip(ladder.rungs.all(), (1, 3, 5), (1, 1, 3), strict=True):
        grades.grade_rung(rung, use, "Wren", plain)
        grades.grade_rung(rung, use, "Wren", finished, lane=lane)
    usable = {
        which: next(p.graded.mark for p in proposals.proposals(ladder, which) if p.use == use and p.level == "usable")
        for which in (None, lane)
    }
    assert usable == {None: 200, lane: 400}
    assert Grade.objects.filter(lane=lane).count() == 3
    with pytest.raises(Refusal, match="was judged"):
        renditions.remove(lane)


def test_the_page_gives_and_takes(client, ladder):
    base = f"/sittings/{ladder.sitting_id}/look/lanes/"
    response = client.get(f"{base}frames.zip?which=one")
    archive = zipfile.ZipFile(io.BytesIO(b"".join(response.streaming_content)))
    names = archive.namelist()
    assert sum(name.endswith(".DNG") for name in names) == 3
    assert sum(name.endswith(".xmp") for name in names) == 3
    assert "corrections.csv" in names
    original = light(ladder, 100)[0]
    assert archive.read(original.file_name) == Path(original.path).read_bytes()
    files = [as_file(developed(original, ladder), f"{stem(original)}.png")]
    client.post(f"{base}new/", {"kind": "finish", "name": "gentle", "settings": "blur", "files": files})
    text = client.get(base).content.decode()
    assert f"{stem(original)}.png" in text
    assert "by its name" in text
    wall = client.get(f"/sittings/{ladder.sitting_id}/look/").content.decode()
    assert "gentle" in wall
    picture = LanePicture.objects.get()
    crop = client.get(f"/lanes/pictures/{picture.pk}/crop/10,10,40,30.png?f=2")
    assert Image.open(io.BytesIO(crop.content)).size == (20, 15)
    for bad in ("700,0,10,10.png", "0,0,40,30.png?f=0.1", "0,0,40,30.png?f=x"):
        assert client.get(f"/lanes/pictures/{picture.pk}/crop/{bad}").status_code == 404
    assert "no longer where" not in names
    csv_text = b"".join(client.get(f"{base}corrections.csv").streaming_content).decode()
    assert csv_text.startswith("file,rung,iso")


def test_a_blind_round_tells_what_a_finish_gains(client, ladder):
    """As shot beside the lane, either way round, on one field, equally bright, though the finish is half the size and darker."""
    lane = renditions.create_lane(ladder, "finish", "gentle")
    for frame in (light(ladder, iso)[0] for iso in (100, 400)):
        picture = Image.fromarray((softened(developed(frame, ladder)) * 0.8).astype(np.uint8)).reduce(2)
        renditions.add_pictures(lane, [as_file(np.asarray(picture), f"{stem(frame)}.png")])
    sitting, use = ladder.sitting, ladder.sitting.uses.get(name="Pixel level")
    compared = f"0-{lane.pk}"
    page = f"/sittings/{sitting.pk}/look/blind/"
    assert "Heath: as shot and gentle (2 pairs)" in " ".join(client.get(page).content.decode().split())
    data = {"use": use.pk, "person": "Wren", "wanted": "1", "kind": "pairs", "between": compared}
    client.post(page, data)
    round_ = BlindRound.objects.get()
    shown = {(trial.rung.iso, trial.lane, trial.other_lane) for trial in round_.trials.all()}
    assert shown == {(iso, *sides) for iso in (100, 400) for sides in ((None, lane), (lane, None))}
    for trial in round_.trials.all():
        answers = [client.get(f"/rounds/{round_.token}/{trial.token}/{side}.png") for side in ("left", "right")]
        assert answers[0].headers == answers[1].headers
        assert len(answers[0].content) == len(answers[1].content)
        pair = [np.asarray(Image.open(io.BytesIO(one.content)).convert("RGB")) for one in answers]
        assert pair[0].shape == pair[1].shape
        light_of = [linear_of(one).mean() for one in pair]
        assert light_of[0] == pytest.approx(light_of[1], rel=0.01)
        # The same field: what is softened follows what is not.
        assert np.corrcoef(*(linear_of(one).mean(axis=-1).ravel() for one in pair))[0, 1] > 0.8
    text = client.get(f"/rounds/{round_.token}/").content.decode()
    assert "gentle" not in text
    # The finish is preferred whichever side it stands on.
    while (trial := blind_rounds.next_trial(round_)) is not None:
        said = "2" if trial.lane_id else "-1"
        client.post(f"/rounds/{round_.token}/answer/", {"trial": trial.token, "accepted": said})
    verdicts = PairVerdict.objects.all()
    assert [(one.words, one.blind) for one in verdicts] == [
        (f"Heath ISO {iso} · gentle slightly better", True) for iso in (one.one.iso for one in verdicts)
    ]
    assert len(verdicts) == 2
    told = client.get(f"/rounds/{round_.token}/").content.decode()
    assert "Heath ISO 400 · gentle slightly better" in told
    assert "Heath ISO 400, Heath ISO 400 · gentle" in told
    with pytest.raises(Refusal, match="choose what to compare"):
        blind_rounds.begin(sitting, use, "Wren", 1.0, "pairs", between="0-999")
