"""The wall, its switches, pairs and verdicts, people, uses, practice, jury and guests."""

import io
import re
from datetime import timedelta
from itertools import pairwise

import pytest
from django.contrib.messages import get_messages
from django.utils import timezone
from PIL import Image

from tests.growing import grow, queries
from yellowjacket.bench.look import blind_results, blind_rounds, blind_stimuli, grades, pair_verdicts, renditions
from yellowjacket.bench.models import (
    BlindRound,
    Frame,
    Grade,
    JurySheet,
    Ladder,
    MarkedSpot,
    PairVerdict,
    Placement,
    Reading,
    Record,
    Rung,
    Shot,
    Sitting,
)
from yellowjacket.bench.models.queries.readings import Spoken
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db


def said(response) -> str:
    return " ".join(str(m) for m in get_messages(response.wsgi_request))


def images(text):
    return re.findall(r'<img src="([^"]+crop[^"]+)"', text)


@pytest.fixture
def look(measured):
    return f"/sittings/{measured.pk}/look"


@pytest.fixture
def two(measured, body):
    """The measured sitting with its ladder once more under another body: the same frames, a stop noisier by readings."""
    from yellowjacket.bench.models import Body, Reading, Shot

    first = measured.ladders.get()
    Body.objects.filter(pk=body.pk).update(model="Heath")
    other = Body.objects.get(pk=body.pk)
    other.pk, other.model, other.serial = None, "Moor", "QM-1"
    other.save()
    ladder = Ladder.objects.get(pk=first.pk)
    ladder.pk, ladder.body, ladder.position = None, other, 1
    ladder.save()
    for rung in first.rungs.all():
        old = rung.pk
        rung.pk, rung.ladder = None, ladder
        rung.save()
        for frame in Frame.objects.filter(shot__rung=old, shot__kind="light").order_by("shot__repeat"):
            shot = Shot.objects.create(rung=rung, kind="light", repeat=frame.shot.repeat)
            frame.pk, frame.shot, frame.sha256 = None, shot, frame.sha256[:-1] + "x"
            frame.save()
        for reading in Reading.objects.filter(rung=old, quantity="shadow_snr"):
            reading.pk, reading.rung = None, rung
            for name in ("value", "low", "high"):
                setattr(reading, name, getattr(reading, name) / 2**0.5)
            reading.save()
    return measured


def test_beside_the_counts_of_a_ladder_stand_those_of_its_sitting(client, two, look):
    first, other = two.ladders.all()
    other.rungs.filter(iso=400).update(measured_inputs="")
    Grade.objects.create(rung=first.rungs.get(iso=100), use=two.uses.first(), person="Wren", grade=1)
    record = Record.objects.create(ladder=other, version=1, signed_by="Wren", signed_at=timezone.now())
    text = client.get(f"{look}/?ladder={first.pk}").content.decode()
    for told in (
        "12 of 12, all ladders 18 of 18", "3 of 3 rungs, all ladders 5 of 6", "1 of 6 graded, all ladders 1 of 12",
        "open, 1 of 2 ladders signed",
    ):  # fmt: skip
        assert told in text
    record.delete()
    # What was taken back, and what was said of a lane, counts neither for the ladder nor for all.
    Grade.objects.create(rung=first.rungs.get(iso=100), use=two.uses.first(), person="Wren", grade=None)
    lane = renditions.create_lane(other, "finish", "gentle")
    Grade.objects.create(rung=other.rungs.get(iso=100), use=two.uses.first(), person="Wren", grade=2, lane=lane)
    assert "0 of 6 graded, all ladders 0 of 12" in client.get(f"{look}/?ladder={first.pk}").content.decode()
    assert "0 of 2 ladders signed" in client.get(f"{look}/?ladder={other.pk}").content.decode()


# The wall


def test_every_cell_says_what_was_done_to_it(client, look):
    text = client.get(f"{look}/?rung=200&push=1").content.decode()
    assert len(images(text)) >= 3
    assert "ISO 200 · " in text
    assert "push +1" in text
    assert "no sharpening, no noise reduction" in text


SWITCHED = (
    "", "size=use", "size=300", "size=print", "brightness=as-shot", "balance=file", "push=-2", "developer=gradient",
    "aligned=yes", "rows=spots", "rows=ladders&slide=1&alike=yes", "size=nonsense&push=x&slide=999&developer=zz",
)  # fmt: skip


def test_every_switch_gives_pictures(client, two, look):
    for query in SWITCHED:
        response = client.get(f"{look}/?{query}")
        assert response.status_code == 200, query
        found = images(response.content.decode())
        assert found, query
        for url in {found[0], found[-1]}:
            picture = client.get(url.replace("&amp;", "&"))
            assert picture.status_code == 200, url
            assert Image.open(io.BytesIO(picture.content)).size[0] > 1


def test_a_spot_that_was_put_before_any_frame_is_in_is_no_stumbling_block(client, sitting):
    sitting.ladders.update(spot_x=120, spot_y=80)
    for rows in ("one", "ladders", "spots"):
        response = client.get(f"/sittings/{sitting.pk}/look/?rows={rows}")
        assert response.status_code == 200, rows
        assert images(response.content.decode()) == []
    pair = client.get(f"/sittings/{sitting.pk}/look/pair/")
    assert pair.status_code == 200
    assert "has no frame" in pair.content.decode()


def test_a_switch_changes_the_picture_and_its_address(client, look):
    def first(query):
        return images(client.get(f"{look}/?{query}").content.decode())[-1].replace("&amp;", "&")

    addresses = [first(query) for query in ("", "push=1", "developer=gradient", "balance=file")]
    assert len(set(addresses)) == 4
    bytes_ = {client.get(url).content for url in addresses[:3]}
    assert len(bytes_) == 3
    # Pushed by a stop every gain doubles.
    gains = [[float(g) for g in re.search(r"g=([\d.,e-]+)", url)[1].split(",")] for url in addresses[:2]]
    assert gains[1] == pytest.approx([2 * g for g in gains[0]], rel=1e-4)


def test_addresses_that_no_page_makes_find_nothing(client, measured):
    frame = Frame.objects.filter(shot__kind="light").first()
    for query in (
        "",
        "g=1,1",
        "g=0,1,1",
        "g=nan,1,1",
        "g=1,1,1&d=magic",
        "g=1,1,1&f=0.5",
        "g=1,1,1&s=500,0",
        "g=a,b,c",
    ):
        assert client.get(f"/frames/{frame.pk}/crop/0,0,40,40.png?{query}").status_code == 404, query


def test_two_bodies_stand_on_one_axis_and_can_be_slid(client, two, look):
    text = client.get(f"{look}/?rows=ladders").content.decode()
    assert text.count('<section class="wall-row') == 2
    assert text.count('class="gap"') == 0
    slid = client.get(f"{look}/?rows=ladders&slide=1").content.decode()
    # Three rungs each, a stop apart: four columns, a gap in either row.
    assert slid.count('class="gap"') == 2
    assert "not laid on one another yet" in text


def _match(one, other, use):
    spoken = Spoken.of(Reading.objects.of_limits([*one.rungs.all(), *other.rungs.all()]).said())
    return pair_verdicts.match_of(one, other, use, spoken)


def test_the_matched_rung_finder_sees_the_stop(client, two, look):
    one, other = two.ladders.all()
    found = _match(other, one, two.uses.get(name="Pixel level"))
    assert found.one == one
    known = [rung.ahead_stops.value for rung in found.measured if rung.ahead_stops.value is not None]
    # √2 in SNR is a stop where light makes the noise; the test scene's shadow is near that.
    assert known
    assert all(-1.3 < ahead < -0.6 for ahead in known)
    assert "Moor is worse than Heath: " in client.get(f"{look}/?rows=ladders").content.decode()


def test_sliding_to_match_moves_the_other_ladder(client, two, look):
    """What the button says is what happens, from either side; where no other rungs match better, there is no button."""

    def page(**state):
        return client.get(f"{look}/", {"rows": "ladders"} | state).content.decode()

    text = page()
    (to,) = re.findall(r'data-slide-to="([^"]+)"', text)
    assert float(to) == -1.0
    assert "Slide to match: −1.00 stop" in " ".join(text.split())
    slid = page(slide=to)
    assert "data-slide-to" not in slid
    assert "No other rungs match better" in slid
    other = two.ladders.last()
    (back,) = re.findall(r'data-slide-to="([^"]+)"', page(ladder=other.pk))
    assert float(back) == 1.0
    # Dials with half marks have rungs half a stop apart.
    assert "+0.50" in page(slide="0.5")


def test_the_desk_names_each_body_of_a_sitting_once(client, two):
    """Also where ladders of one body stand before and after another's."""
    third = two.ladders.first()
    third.pk, third.position = None, 2
    third.save()
    desk = client.get("/").content.decode().partition('id="sittings"')[2]
    assert "14 Mar 2026, Ostrel Heath, Ostrel Moor</span>" in desk


def test_every_raw_mode_of_a_ladder_has_its_row(client, measured, look):
    """Crossed with raw modes a ladder has two rungs of every ISO: none hides the other."""
    ladder = measured.ladders.get()
    for rung in ladder.rungs.all():
        old = rung.pk
        Rung.objects.filter(pk=old).update(value="full")
        rung.pk, rung.value, rung.key, rung.position = None, "half", f"{rung.key} half", rung.position + 10
        rung.save()
        for frame in Frame.objects.filter(shot__rung=old, shot__kind="light", shot__repeat=1):
            shot = Shot.objects.create(rung=rung, kind="light", repeat=1)
            frame.pk, frame.shot, frame.sha256 = None, shot, frame.sha256[:-1] + "y"
            frame.save()
    text = client.get(f"{look}/").content.decode()
    assert re.findall(r'<section class="wall-row[^"]*" aria-label="([^"]+)"', text) == [
        "Ostrel Heath · full",
        "Ostrel Heath · half",
    ]
    assert len(re.findall(r'<li class="(?:now)?" data-rung', text)) == 6
    assert "no frame" not in text


def test_spots_are_rows_and_presets_are_found(client, measured, look):
    client.post(f"{look}/mark/?spot=60,60", {"name": "wedge", "note": "darkest step"})
    spot = MarkedSpot.objects.get()
    assert (spot.x, spot.y, spot.note) == (60, 60, "darkest step")
    text = client.get(f"{look}/?rows=spots").content.decode()
    assert text.count('<section class="wall-row') == 2
    assert "darkest step" in text
    found = client.get(f"{look}/spots/").content.decode()
    assert "deepest shadow" in found
    assert client.get(f"{look}/spots/").content.decode() == found


def test_a_spot_outside_a_frame_says_so(client, measured, look):
    assert "the spot lies outside this frame" in client.get(f"{look}/?spot=9000,9000").content.decode()


def test_a_spot_from_nowhere_breaks_nothing(client, measured, look):
    for spot in ("9" * 30 + ",5", "-1,4", "a,b", "5", ""):
        assert client.get(f"{look}/wall/?spot={spot}").status_code == 200
        assert client.post(f"{look}/spot/?spot={spot}").status_code == 204


def test_a_rung_without_a_frame_leaves_a_gap(client, two, look):
    other = two.ladders.last()
    Frame.objects.filter(shot__rung=other.rungs.first()).delete()
    assert client.get(f"{look}/?rows=ladders").content.decode().count('class="gap"') == 1


def test_without_a_grey_patch_the_file_is_believed(client, measured, look):
    measured.ladders.get().patches.filter(role="grey").delete()
    assert images(client.get(f"{look}/").content.decode())
    Frame.objects.update(neutral=None)
    assert images(client.get(f"{look}/?balance=file").content.decode())


def test_bodies_are_laid_on_one_another_by_marked_spots(client, two, look):
    one, other = two.ladders.all()
    for ladder, dx in ((one, 0), (other, 10)):
        for name, x, y in (("pin", 40, 50), ("label", 400, 300)):
            MarkedSpot.objects.create(sitting=two, body=ladder.body, name=name, x=x + dx, y=y)
    response = client.post(f"{look}/place/", {"by": "marked"})
    assert "lies on" in said(response)
    place = Placement.objects.get(ladder=other).place
    assert place.at((100.0, 100.0)) == pytest.approx((110.0, 100.0))
    text = client.get(f"{look}/?rows=ladders&spot=200,200").content.decode()
    rects = re.findall(r"crop/(\d+),(\d+),", text)
    assert int(rects[-1][0]) - int(rects[0][0]) == 10
    MarkedSpot.objects.all().delete()
    assert "Mark two spots or more" in said(client.post(f"{look}/place/", {"by": "marked"}))


def test_the_wall_asks_few_queries_whatever_its_size(client, two, look):
    path = f"{look}/wall/?rows=ladders"
    client.get(path)
    before = queries(client, path)
    assert before <= 30
    for ladder in two.ladders.all():
        grow(ladder)
    # What Check found is kept between requests; the first one after a change works it out.
    client.get(path)
    assert queries(client, path) <= before


def test_the_screen_is_remembered_and_checked(client, measured, look):
    assert "30 to 1000" in said(client.post(f"{look}/screen/", {"screen_ppi": "5", "screen_cm": "60"}))
    client.post(f"{look}/screen/", {"screen_ppi": "220", "screen_cm": "40,5"})
    assert 'value="220"' in client.get(f"{look}/?size=print").content.decode()
    assert 'value="40.5"' in client.get(f"{look}/?size=print").content.decode()


# Grades


def test_a_grade_keeps_its_view_and_is_marked_when_the_correction_changes(client, measured, look):
    client.post(f"{look}/person/", {"person": "Wren"})
    client.post(f"{look}/grade/?size=use&push=1&developer=gradient&rows=ladders", {"grade": "3", "rung": "200"})
    grade = Grade.objects.get()
    assert (grade.size_percent, grade.push_stops, grade.developer, grade.seen) == (0, 1.0, "gradient", "beside")
    assert grade.moved_stops is not None
    assert "look again" not in client.get(f"{look}/").content.decode()
    Grade.objects.update(moved_stops=grade.moved_stops + 0.4)
    assert "look again" in client.get(f"{look}/").content.decode()


def test_the_coarse_scale_maps_on_to_the_fine_one(client, measured, look):
    client.post(f"{look}/person/", {"person": "Wren"})
    for key, letter in (("1", "B"), ("2", "D"), ("3", "E")):
        client.post(f"{look}/grade/?steps=3", {"grade": key, "rung": "200"})
        assert (Grade.objects.last().letter, Grade.objects.last().steps) == (letter, 3)
    assert "A grade is 1 to 3" in client.post(f"{look}/grade/?steps=3", {"grade": "4", "rung": "200"}).content.decode()
    assert "if I must" in client.get(f"{look}/?steps=3").content.decode()


def test_undo_puts_back_what_was_and_keeps_the_history(client, measured, look):
    client.post(f"{look}/person/", {"person": "Wren"})
    for word in ({"grade": "2"}, {"note": "grain in the felt"}, {"grade": "4"}, {"grade": "undo"}):
        client.post(f"{look}/grade/", {**word, "rung": "200"})
    ladder = measured.ladders.get()
    use, rung = measured.uses.first(), ladder.rungs.get(iso=200)
    current = Grade.objects.current(ladder)[rung.pk, use.pk]
    assert (current.letter, current.note) == ("B", "grain in the felt")
    assert Grade.objects.count() == 4
    client.post(f"{look}/person/", {"person": "Ash"})
    assert "There is no grade to undo" in client.post(f"{look}/grade/", {"grade": "undo"}).content.decode()


def test_two_people_side_by_side(client, measured, look):
    ladder, use = measured.ladders.get(), measured.uses.first()
    assert "Nobody has graded" in client.get(f"{look}/people/").content.decode()
    for person, letters in (("Ash", (1, 2, 4)), ("Wren", (1, 3, 4))):
        for rung, grade in zip(ladder.rungs.all(), letters, strict=True):
            grades.grade_rung(rung, use, person, grade)
    text = client.get(f"{look}/people/").content.decode()
    assert "B against C" in text
    found = grades.agreement(ladder, use, "Ash", "Wren")
    assert found.kappa.n == 3
    assert 0.7 < found.kappa.value < 1


# Pairs


def test_a_pair_by_default_is_the_other_body_at_the_same_iso(client, two, look):
    text = client.get(f"{look}/pair/?rung=200").content.decode()
    assert "Heath ISO 200" in text
    assert "Moor ISO 200" in text
    assert len(images(text)) == 2


def test_a_verdict_is_kept_the_same_way_round_whichever_side(client, two, look):
    client.post(f"{look}/person/", {"person": "Wren"})
    one, other = (Rung.objects.get(ladder=ladder, iso=200) for ladder in two.ladders.all())
    client.post(f"{look}/pair/verdict/?a={other.pk}&b={one.pk}", {"score": "-2"})
    verdict = PairVerdict.objects.get()
    assert (verdict.one, verdict.other, verdict.score) == (one, other, 2)
    assert verdict.words == "Heath ISO 200 clearly better"
    client.post(f"{look}/pair/verdict/?a={other.pk}&b={one.pk}", {"reason": "blacks"})
    assert PairVerdict.objects.last().reason == "blacks"
    found = _match(*two.ladders.all(), two.uses.first())
    assert found.verdict_words == "Heath better throughout, clearly at ISO 200"


@pytest.mark.parametrize(
    ("data", "words"), [({"score": "7"}, "Say which is better"), ({"reason": "grain"}, "Say which is better first")]
)
def test_verdicts_that_cannot_be(client, two, look, data, words):
    client.post(f"{look}/person/", {"person": "Wren"})
    assert words in said(client.post(f"{look}/pair/verdict/", data))
    assert not PairVerdict.objects.exists()


def test_a_verdict_needs_a_name_and_two_rungs(client, two, look):
    one = Rung.objects.filter(ladder=two.ladders.first()).first()
    assert "Say who is judging" in said(client.post(f"{look}/pair/verdict/", {"score": "0"}))
    client.post(f"{look}/person/", {"person": "Wren"})
    same = client.post(f"{look}/pair/verdict/?a={one.pk}&b={one.pk}", {"score": "0"})
    assert "the same picture" in said(same)


def test_the_developers_of_one_frame_differ_by_a_stated_amount(client, measured, look):
    rung = Rung.objects.get(ladder__sitting=measured, iso=400)
    words = client.get(f"{look}/pair/apart/?a={rung.pk}@plain&b={rung.pk}@gradient").content.decode()
    assert re.match(r"ΔE00 here: half of the pixels under \d+\.\d", words)
    same = client.get(f"{look}/pair/apart/?a={rung.pk}@plain&b={rung.pk}@plain").content.decode()
    assert "under 0.0, 19 of 20 under 0.0" in same


# Uses


def test_a_use_is_more_than_a_size(client, measured):
    url = f"/sittings/{measured.pk}/uses/"
    use = measured.uses.get(name="Web")
    fields = {"name": "Wall", "megapixels": "0.02", "crop_percent": "50", "print_width_cm": "60", "viewing_cm": "100"}
    data = {f"{use.pk}-{key}": value for key, value in fields.items()} | {"which": use.pk, f"{use.pk}-monochrome": "on"}
    assert "measure again" in said(client.post(url, data))
    use.refresh_from_db()
    assert (use.name, use.crop_share, use.monochrome, use.whole_frame_pixels) == ("Wall", 0.5, True, 40_000)
    assert "half the frame" in client.get(url).content.decode()
    from yellowjacket.bench.measure import staleness

    assert staleness.unmeasured(measured.ladders.get())


@pytest.mark.parametrize(
    ("changes", "words"),
    [({"name": ""}, "required"), ({"crop_percent": "0"}, "greater than"),
     ({"print_width_cm": "60", "megapixels": ""}, "A print needs"),
     ({"name": "pixel level"}, "already")],
)  # fmt: skip
def test_uses_that_cannot_be(client, measured, changes, words):
    fields = {"name": "Wall", "megapixels": "2", "crop_percent": "100"} | changes
    data = {f"new-{key}": value for key, value in fields.items()} | {"which": "new"}
    response = client.post(f"/sittings/{measured.pk}/uses/", data)
    assert words in response.content.decode() + said(response)
    assert measured.uses.count() == 2


def test_black_and_white_shows_no_colour_and_asks_for_none(client, measured, look):
    from yellowjacket.bench.record import proposals

    use = measured.uses.get(name="Pixel level")
    use.monochrome = True
    use.save()
    url = images(client.get(f"{look}/?use={use.pk}&balance=file").content.decode())[-1].replace("&amp;", "&")
    picture = Image.open(io.BytesIO(client.get(url).content)).convert("RGB")
    red, green, blue = picture.split()
    assert red.tobytes() == green.tobytes() == blue.tobytes()
    doubts = [d for p in proposals.proposals(measured.ladders.get()) if p.use == use for d in p.measured.doubts]
    assert not any("chroma" in doubt for doubt in doubts)


# Blind pairs, practice, guests


def finish(client, round_, answer):
    while (trial := blind_rounds.next_trial(round_)) is not None:
        client.post(f"/rounds/{round_.token}/answer/", {"trial": trial.token, "accepted": answer(trial)})
    round_.refresh_from_db()


def test_blind_pairs_become_verdicts_and_leak_nothing(client, two):
    use = two.uses.first()
    data = {"use": use.pk, "person": "Wren", "wanted": "1", "kind": "pairs"}
    client.post(f"/sittings/{two.pk}/look/blind/", data)
    round_ = BlindRound.objects.get()
    assert round_.trials.count() == 6
    text = client.get(f"/rounds/{round_.token}/").content.decode()
    for secret in ("Heath", "Moor", "ISO", "frames/", "rung="):
        assert secret not in text
    first = blind_rounds.next_trial(round_)
    sides = [client.get(f"/rounds/{round_.token}/{first.token}/{side}.png").content for side in ("left", "right")]
    assert all(side.startswith(b"\x89PNG") for side in sides)
    assert (
        "Say which is better"
        in client.post(f"/rounds/{round_.token}/answer/", {"trial": first.token, "accepted": "yes"}).content.decode()
    )
    # The Heath is always preferred, clearly on one side and slightly on the other: slightly is what is left.
    heath = two.ladders.first().pk
    finish(client, round_, lambda trial: "2" if trial.rung.ladder_id == heath else "-1")
    kept = PairVerdict.objects.all()
    assert [(v.score, v.blind) for v in kept] == [(1, True)] * 3
    assert "slightly better" in client.get(f"/rounds/{round_.token}/").content.decode()


@pytest.mark.parametrize("use_name", ["Pixel level", "Web"])
@pytest.mark.parametrize("scale", [1.0, 0.7])
def test_nothing_but_the_picture_tells_the_sides_of_a_blind_pair_apart(client, two, use_name, scale):
    """Another number of pixels in the register, another scale of the pictures, another brightness: equal field, pixels,
    brightness and bytes all the same."""
    import numpy as np

    from yellowjacket.bench.models import Body

    other = two.ladders.last()
    Body.objects.filter(pk=other.body_id).update(pixel_width=900, pixel_height=630)
    Placement.objects.create(ladder=other, a=scale, b=0.0, x0=20.0, y0=10.0, points=2, found_by="marked")
    use = two.uses.get(name=use_name)
    round_ = blind_rounds.begin(two, use, "Wren", 1.0, "pairs")
    for trial in list(round_.trials.all())[:2]:
        answers = [client.get(f"/rounds/{round_.token}/{trial.token}/{side}.png") for side in ("left", "right")]
        assert answers[0].headers == answers[1].headers
        assert len(answers[0].content) == len(answers[1].content)
        pair = [Image.open(io.BytesIO(one.content)) for one in answers]
        assert pair[0].size == pair[1].size
        assert min(pair[0].size) > 20
        linear = [np.asarray(one, np.float64) / 255 for one in pair]
        means = [float(np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4).mean()) for v in linear]
        assert means[0] == pytest.approx(means[1], rel=0.01)


def test_a_blind_pair_shows_the_same_spot_of_both_bodies(two):
    one, other = two.ladders.all()
    Placement.objects.create(ladder=other, a=1.0, b=0.0, x0=12.0, y0=-5.0, points=2, found_by="marked")
    round_ = blind_rounds.begin(two, two.uses.first(), "Wren", 1.0, "pairs")
    for trial in round_.trials.select_related("rung__ladder", "other__ladder"):
        x, y = blind_stimuli.spot_on(trial, "right")
        sign = 1 if trial.rung.ladder_id == one.pk else -1
        assert (x - trial.x, y - trial.y) == (12 * sign, -5 * sign)
        assert blind_stimuli.spot_on(trial, "left") == (trial.x, trial.y)


def test_pictures_alone_make_a_wall(client, two, look, data_folder):
    """Two bodies' own JPEGs without a raw file: a lane each, found by the ISO in the name, on the pixels of the sensor."""
    import numpy as np
    from django.core.files.uploadedfile import SimpleUploadedFile

    Frame.objects.all().delete()
    rng = np.random.default_rng(1)
    for ladder in two.ladders.all():
        lane = renditions.create_lane(ladder, "camera", "own JPEG", "sharpening 0, noise reduction 0")
        files = []
        for iso in (100, 200, 400):
            buffer = io.BytesIO()
            Image.fromarray(rng.integers(0, 255, (224, 320, 3), dtype=np.uint8)).save(buffer, "JPEG")
            files.append(SimpleUploadedFile(f"x_iso{iso}.jpg", buffer.getvalue()))
        renditions.add_pictures(lane, files)
        assert {p.matched_by for p in lane.pictures.all()} == {"by the ISO in its name"}
    text = client.get(f"{look}/?rows=ladders&spot=320,224").content.decode()
    assert len(images(text)) == 6
    assert "own JPEG" in text
    for url in images(text)[::5]:
        assert client.get(url.replace("&amp;", "&")).status_code == 200
    client.post(f"{look}/person/", {"person": "Wren"})
    lane = two.ladders.first().lanes.get()
    client.post(f"{look}/grade/?lane={lane.pk}", {"grade": "3", "rung": "200"})
    assert Grade.objects.get().lane == lane
    # Verdicts between the JPEGs of both bodies are kept as such, and tell nothing of their raw frames.
    (one, first), (other, second) = (
        (Rung.objects.get(ladder=ladder, iso=200), ladder.lanes.get()) for ladder in two.ladders.all()
    )
    pair = f"a={other.pk}~{second.pk}&b={one.pk}~{first.pk}"
    assert "Moor ISO 200 · own JPEG" in client.get(f"{look}/pair/?{pair}").content.decode()
    client.post(f"{look}/pair/verdict/?{pair}", {"score": "1"})
    client.post(f"{look}/pair/verdict/?{pair}", {"reason": "grain"})
    verdict = PairVerdict.objects.last()
    assert (verdict.one, verdict.one_lane, verdict.other_lane, verdict.score, verdict.reason) == (
        one, first, second, -1, "grain",
    )  # fmt: skip
    assert verdict.words == "Moor ISO 200 · own JPEG slightly better"
    assert pair_verdicts.in_force(*two.ladders.all(), two.uses.first()) == []
    # Blind, they can be compared as well, on the pixels of the sensor where there is no frame.
    (compared,) = blind_stimuli.comparisons(two)
    assert (compared.words, len(compared.pairs)) == ("Heath: own JPEG and Moor: own JPEG", 3)
    round_ = blind_rounds.begin(two, two.uses.first(), "Wren", 1.0, "pairs", between=compared.key)
    trial = round_.trials.first()
    left, right = (client.get(f"/rounds/{round_.token}/{trial.token}/{side}.png") for side in ("left", "right"))
    assert (left.status_code, right.status_code) == (200, 200)
    assert left.headers == right.headers
    with pytest.raises(Refusal, match="blind round that is not finished"):
        renditions.remove(second)
    round_.delete()
    assert "Moor ISO 200 · own JPEG slightly better" in client.get(f"{look}/people/").content.decode()
    with pytest.raises(Refusal, match="was judged"):
        renditions.remove(second)


@pytest.mark.parametrize("kind", ["higher", "same"])
def test_practice_is_counted_exactly(client, measured, kind):
    use = measured.uses.first()
    data = {"sitting": measured.pk, "use": use.pk, "apart": "1", "person": "Wren", "kind": kind}
    client.post("/practice/", data)
    round_ = BlindRound.objects.get()
    assert round_.trials.count() == blind_rounds.PRACTICE_TRIALS
    assert "ISO 2" not in client.get(f"/rounds/{round_.token}/").content.decode()

    def right(trial):
        yes = trial.rung_id == trial.other_id if kind == "same" else trial.rung.iso > trial.other.iso
        return "yes" if yes else "no"

    finish(client, round_, right)
    found = blind_results.practised(round_)
    assert (found.right, found.trials) == (20, 20)
    # All of twenty by guessing: one in 2²⁰ (binomial).
    assert found.chance == pytest.approx(2.0**-20)
    text = client.get(f"/rounds/{round_.token}/").content.decode()
    assert "you can tell them apart" in text
    assert "20 of 20" in client.get("/practice/").content.decode()


def test_the_iso_is_guessed_and_the_error_told_in_stops(client, measured):
    use = measured.uses.first()
    data = {"sitting": measured.pk, "use": use.pk, "person": "Wren", "kind": "guess"}
    client.post("/practice/", data)
    round_ = BlindRound.objects.get()
    address = f"/rounds/{round_.token}/"
    page = client.get(address).content.decode()
    assert "Which ISO is it?" in page
    assert re.findall(r'"accepted": "(\d+)"', page) == ["100", "200", "400"]
    shown = [trial.rung.iso for trial in round_.trials.select_related("rung")]
    assert len(shown) == blind_rounds.PRACTICE_TRIALS
    assert all(one != other for one, other in pairwise(shown))
    assert min(shown.count(iso) for iso in (100, 200, 400)) >= 5
    trial = blind_rounds.next_trial(round_)
    for wrong in ("yes", "300", "", "1e3"):
        told = client.post(f"{address}answer/", {"trial": trial.token, "accepted": wrong}).content.decode()
        assert "Name one of the ISO settings" in told
    # Always one mark too high, but at the top.
    finish(client, round_, lambda trial: str(min(400, 2 * trial.rung.iso)))
    errors = [float(iso < 400) for iso in shown]
    found = blind_results.guessed(BlindRound.objects.get()).found
    assert found.bias.value == pytest.approx(sum(errors) / 20, abs=0.01)
    assert found.miss.value == pytest.approx((sum(errors) / 20) ** 0.5, abs=0.01)
    text = client.get(address).content.decode()
    assert "you say too high" in text
    assert f"{found.right} of 20 exactly right" in text
    assert "ISO guessed, round by round" in client.get("/practice/").content.decode()


def test_what_iso_it_was_is_told_after_every_guess_and_then_stands(client, measured):
    data = {"sitting": measured.pk, "use": measured.uses.first().pk, "person": "Wren", "kind": "guess"}
    client.post("/practice/", data)
    round_ = BlindRound.objects.get()
    trial = blind_rounds.next_trial(round_)
    address = f"/rounds/{round_.token}/"
    told = client.post(f"{address}answer/", {"trial": trial.token, "accepted": "200"}).content.decode()
    assert f"The last one was <b>ISO {trial.rung.iso}</b>; you said 200" in told
    assert "can no longer be undone" in client.post(f"{address}back/").content.decode()


def test_same_or_different_never_shows_one_file_twice(client, measured):
    client.post(
        "/practice/",
        {"sitting": measured.pk, "use": measured.uses.first().pk, "apart": "1", "person": "W", "kind": "same"},
    )
    for trial in BlindRound.objects.get().trials.all():
        left, right = (blind_stimuli.frame_of(trial, side) for side in ("left", "right"))
        assert left.pk != right.pk


@pytest.mark.parametrize(
    ("changes", "words"),
    [({"apart": "9"}, "how far apart"), ({"kind": "x"}, "what to practise"), ({"person": ""}, "who is judging"),
     ({"apart": "3"}, "No two rungs")],
)  # fmt: skip
def test_practice_that_cannot_be(client, measured, changes, words):
    data = {
        "sitting": measured.pk,
        "use": measured.uses.first().pk,
        "apart": "1",
        "person": "W",
        "kind": "same",
    } | changes
    assert words in said(client.post("/practice/", data))
    assert not BlindRound.objects.exists()


def chosen_of(client, name, response=None):
    """What a select of the practice page stands at, and what it offers."""
    text = (response or client.get("/practice/")).content.decode()
    select = re.search(rf'<select name="{name}".*?</select>', text)[0]
    return re.findall(r'value="(\w+)" selected', select), re.findall(r'value="(\w+)"', select)


def test_practice_offers_what_is_there_and_begins_with_the_easiest(client, measured):
    # ISO 100, 200 and 400: no rungs are three stops apart.
    assert chosen_of(client, "apart") == (["2"], ["1", "2"])
    assert "Begin with rungs 2 stops apart" in client.get("/practice/").content.decode()
    use = measured.uses.last().pk
    data = {"sitting": measured.pk, "use": use, "apart": "1", "person": "W", "kind": "same"}
    client.post("/practice/", data)
    finish(client, BlindRound.objects.get(), lambda trial: "yes")
    # The next one as the last one was.
    assert chosen_of(client, "apart")[0] == ["1"]
    text = client.get("/practice/").content.decode()
    assert "1 stop apart: " in text
    assert "1 stops" not in text
    # What was chosen is still chosen where a round is refused.
    refused = client.post("/practice/", data | {"apart": "2", "kind": "x"})
    assert chosen_of(client, "apart", refused)[0] == ["2"]
    assert chosen_of(client, "use", refused)[0] == [str(use)]


def test_of_rungs_that_stand_no_whole_stops_apart_none_are_compared(client, measured):
    Rung.objects.exclude(iso=100).delete()
    text = client.get("/practice/").content.decode()
    assert 'name="apart"' not in text
    assert "higher ISO?" not in text
    assert "Shot or predicted?" in text


def test_practice_without_frames_says_what_to_do(client, sitting):
    assert "nothing to practise on yet" in client.get("/practice/").content.decode()


def test_a_guest_needs_no_account_and_comes_too_late_after_the_last_day(client, measured):
    use = measured.uses.first()
    url = f"/sittings/{measured.pk}/look/blind/"
    client.post(url, {"use": use.pk, "wanted": "1", "guest": "1", "days": "3"})
    round_ = BlindRound.objects.get()
    assert f"/rounds/{round_.token}/" in client.get(f"{url}?use={use.pk}").content.decode()
    page = client.get(f"/rounds/{round_.token}/").content.decode()
    assert "Please judge some pictures" in page
    # Nothing else is shown: no way into the sitting.
    assert "/sittings/" not in page
    assert 'href="/"' not in page
    assert "Type your name" in client.post(f"/rounds/{round_.token}/", {"person": " "}).content.decode()
    client.post(f"/rounds/{round_.token}/", {"person": "Sorrel"})
    finish(client, round_, lambda trial: "yes" if trial.catch or trial.rung.iso < 400 else "no")
    end = client.get(f"/rounds/{round_.token}/").content.decode()
    assert "Thank you, Sorrel" in end
    assert "SNR" not in end
    assert "Sorrel accepts" in client.get(f"/sittings/{measured.pk}/look/blind/{round_.pk}/").content.decode()
    BlindRound.objects.update(open_until=timezone.now() - timedelta(seconds=1))
    late = client.get(f"/rounds/{round_.token}/")
    assert late.status_code == 410
    assert "This link has expired" in late.content.decode()
    trial = round_.trials.first()
    assert client.get(f"/rounds/{round_.token}/{trial.token}.png").status_code == 404


def test_a_guests_link_is_not_open_for_ever(client, measured):
    data = {"use": measured.uses.first().pk, "wanted": "1", "guest": "1", "days": "400"}
    assert "30 days at most" in said(client.post(f"/sittings/{measured.pk}/look/blind/", data))


def test_a_profile_can_be_taken_for_the_sitting_at_once(client, measured):
    use = measured.uses.first()
    client.post(f"/sittings/{measured.pk}/look/blind/", {"use": use.pk, "person": "Wren", "wanted": "0.5"})
    round_ = BlindRound.objects.get()
    finish(client, round_, lambda trial: "yes" if trial.catch or trial.rung.iso < 400 else "no")
    client.post(f"/sittings/{measured.pk}/look/blind/{round_.pk}/profile/", {"name": "Wren's line", "use_it": "1"})
    assert Sitting.objects.get(pk=measured.pk).profile.name == "Wren's line"


# Jury


def test_a_jury_sheet_tells_nothing_and_its_marks_become_grades(client, measured):
    url = f"/sittings/{measured.pk}/look/jury/"
    use = measured.uses.get(name="Pixel level")
    client.post(f"{url}?use={use.pk}")
    sheet = JurySheet.objects.get()
    pdf = client.get(f"{url}{sheet.token}/sheet.pdf")
    assert pdf.content.startswith(b"%PDF")
    for secret in (b"ISO 100", b"ISO 400", b"Heath", b"Ostrel", measured.name.encode()):
        assert secret not in pdf.content
    svg = client.get(f"{url}{sheet.token}/sheet.svg?page=1").content.decode()
    assert 'width="210mm" height="297mm"' in svg
    for slip in sheet.slips:
        assert f">{slip['code']}   " in svg
    assert "ISO" not in re.sub(r"base64,[^\"]+", "", svg)
    marks = {slip["code"]: "ABCDE"[n] for n, slip in enumerate(sheet.slips)}
    client.post(f"{url}{sheet.token}/marks/", {"person": "Sorrel", **marks})
    for n, slip in enumerate(sheet.slips):
        grade = Grade.objects.get(rung=slip["rung"])
        assert (grade.grade, grade.seen, grade.person) == (n + 1, "paper", "Sorrel")
    wrong = client.post(f"{url}{sheet.token}/marks/", {"person": "Sorrel", sheet.slips[0]["code"]: "Z"})
    assert f"{sheet.slips[0]['code']}: Z is not a grade" in said(wrong)
    assert "Whose marks" in said(client.post(f"{url}{sheet.token}/marks/", marks))
    assert client.get(f"{url}{sheet.token}/sheet.svg?page=9").status_code == 404


def test_a_jury_needs_frames(client, sitting):
    url = f"/sittings/{sitting.pk}/look/jury/"
    assert "two rungs with frames" in said(client.post(url))
