"""Blind rounds: nothing leaks, answers count once, the line comes at the end and becomes a profile."""

import io
import json
import re

import pytest
from PIL import Image

from yellowjacket.bench.look import blind_results, blind_rounds, grades
from yellowjacket.bench.models import BlindRound, BlindTrial, Frame, Reading, ToleranceProfile
from yellowjacket.bench.record.proposals import proposals
from yellowjacket.core.limits.tolerance import profile_from
from yellowjacket.core.limits.tolerance_file import profile_document, read_profile

pytestmark = pytest.mark.django_db


@pytest.fixture
def round_(client, measured):
    use = measured.uses.get(name="Pixel level")
    response = client.post(
        f"/sittings/{measured.pk}/look/blind/", {"use": use.pk, "person": "Wren Halloway", "wanted": "0.5"}
    )
    made = BlindRound.objects.get()
    assert response.headers["Location"] == f"/rounds/{made.token}/"
    return made


def say(client, round_, word):
    trial = blind_rounds.next_trial(round_)
    return client.post(f"/rounds/{round_.token}/answer/", {"trial": trial.token, "accepted": word}).content.decode()


def profile_of(round_):
    return f"/sittings/{round_.sitting_id}/look/blind/{round_.pk}/profile/"


def finish(client, round_, accepts):
    """Answer to the end; ``accepts`` of an ISO says whether it is good enough."""
    text = ""
    while (trial := blind_rounds.next_trial(round_)) is not None:
        text = say(client, round_, "yes" if trial.catch or accepts(trial.rung.iso) else "no")
    round_.refresh_from_db()
    return text


def test_the_page_of_a_round_tells_nothing(client, measured, round_):
    for _ in range(6):
        text = client.get(f"/rounds/{round_.token}/").content.decode()
        trial = blind_rounds.next_trial(round_)
        frame = Frame.objects.filter(shot__rung=trial.rung, shot__kind="light").first()
        for secret in (
            f"ISO {trial.rung.iso}", trial.rung.label, frame.file_name, frame.sha256, "Heath", "Ostrel", f"/frames/{frame.pk}",
            f"rung={trial.rung.key}", measured.name,
        ):  # fmt: skip
            assert secret not in text, secret
        # Addresses hold tokens only.
        assert re.findall(r'src="(/rounds/[^"]+)"', text) == [f"/rounds/{round_.token}/{trial.token}.png"] * (
            1 + trial.catch
        )
        response = client.get(f"/rounds/{round_.token}/{trial.token}.png")
        assert "Content-Disposition" not in response
        picture = Image.open(io.BytesIO(response.content))
        assert picture.info == {}
        assert str(trial.rung.iso).encode() not in response.content[:60]
        say(client, round_, "yes")


def test_a_round_has_repeats_and_catches_in_no_order(round_):
    trials = list(round_.trials.all())
    assert len(trials) >= 20
    assert sum(one.catch for one in trials) >= 2
    isos = [one.rung.iso for one in trials]
    assert isos != sorted(isos)
    assert {isos.count(iso) for iso in set(isos)} <= {len(trials) // 3, len(trials) // 3 + 1}
    assert len({one.token for one in trials}) == len(trials)


def test_an_answer_counts_once_and_can_be_taken_back(client, round_):
    first = blind_rounds.next_trial(round_)
    say(client, round_, "no")
    again = client.post(f"/rounds/{round_.token}/answer/", {"trial": first.token, "accepted": "yes"}).content.decode()
    assert "already answered" in again
    first.refresh_from_db()
    assert first.accepted is False
    client.post(f"/rounds/{round_.token}/back/")
    first.refresh_from_db()
    assert first.accepted is None
    assert "no answer to undo" in client.post(f"/rounds/{round_.token}/back/").content.decode()
    assert (
        "Say yes or no"
        in client.post(f"/rounds/{round_.token}/answer/", {"trial": first.token, "accepted": "maybe"}).content.decode()
    )
    # Left and come back to, it goes on where it was.
    assert "1 of" in client.get(f"/rounds/{round_.token}/").content.decode()


def test_the_line_comes_at_the_end_and_becomes_a_profile(client, measured, round_):
    assert "Your limit" not in client.get(f"/rounds/{round_.token}/").content.decode()
    with pytest.raises(blind_rounds.Refusal, match="at the end"):
        blind_results.result_of(round_)
    text = finish(client, round_, lambda iso: iso <= 200)
    assert "Your limit" in text
    found = blind_results.result_of(round_)
    shadows = {
        row.rung.iso: row.value
        for row in Reading.objects.filter(rung__ladder__sitting=measured, quantity="shadow_snr", use=None)
    }
    # Between the SNR of the last that was accepted and of the first that was not.
    assert shadows[400] < found.snr.value < shadows[200]
    assert found.catches_passed == found.catches > 0
    assert found.threshold.consistency.value == 1.0
    # What is shown follows from the answers: the two on either side of the line are always among it.
    answers = {(rung.iso, said == shown) for rung, _, said, shown in found.answers}
    assert {(200, True), (400, False)} <= answers <= {(100, True), (200, True), (400, False)}
    kept = client.post(profile_of(round_), {"name": "Wren’s own"}, follow=True).content.decode()
    assert "can now be chosen as the tolerance" in kept
    profile = ToleranceProfile.objects.get(name="Wren’s own")
    by_key = {one.key: one for one in profile.criteria.criteria}
    clean, usable, emergency = by_key["shadow_snr"].thresholds
    assert usable == pytest.approx(found.snr.value, rel=2e-3)
    assert clean > usable > emergency
    # Every criterion comes from the rung at the line; what nobody could look at is dropped.
    assert set(by_key) == {"grey_snr", "shadow_snr", "chroma_noise"} | ({"neutral_drift"} & set(by_key))
    use = round_.use
    measured.profile = profile
    measured.save()
    limits = {one.level: one.measured for one in proposals(measured.ladders.get()) if one.use == use}
    assert limits["usable"].mark == 200
    taken = client.post(profile_of(round_), {"name": "Wren’s own"}, follow=True).content.decode()
    assert "choose another name" in taken
    assert "it is over" not in taken
    assert "can no longer be changed" in client.post(f"/rounds/{round_.token}/back/").content.decode()


def test_somebody_who_accepts_everything_is_limited_by_no_default(client, measured, round_):
    text = finish(client, round_, lambda iso: True)
    assert "accepts everything that was shown" in text
    client.post(profile_of(round_), {"name": "All of it", "use_it": "1"}, follow=True)
    measured.refresh_from_db()
    limits = {one.level: one.measured for one in proposals(measured.ladders.get()) if one.use == round_.use}
    assert (limits["usable"].mark, limits["usable"].at_least) == (400, True)


def test_somebody_who_accepts_nothing_has_no_line(client, round_):
    assert "nothing was accepted" in finish(client, round_, lambda iso: False)
    refused = client.post(profile_of(round_), {"name": "x"}, follow=True).content.decode()
    assert "gives no threshold" in refused


def test_earlier_grades_on_the_other_side_of_the_line_are_named(client, measured, round_):
    rung = measured.ladders.get().rungs.get(iso=200)
    grades.grade_rung(rung, round_.use, round_.person, 5)
    assert "ISO 200 of the Heath was graded E, which this line accepts" in finish(
        client, round_, lambda iso: iso <= 200
    )


def test_a_profile_that_drops_a_criterion_comes_back_from_its_file():
    thresholds = {"detail": None, "grey_snr": [50.0, 20.0, 5.0]}
    document = profile_document(profile_from("Own", thresholds))
    assert "detail" in document["without"]
    name, read = read_profile(json.loads(json.dumps(document)))
    assert profile_from(name, read) == profile_from("Own", thresholds)


@pytest.mark.parametrize(
    ("typed", "words"),
    [({"person": ""}, "type a name"), ({"wanted": "much"}, "how precisely"), ({"wanted": "9"}, "between 0.1 and 3")],
)
def test_a_round_that_cannot_begin_says_why(client, measured, typed, words):
    values = {"person": "Wren", "wanted": "0.5"} | typed
    text = client.post(f"/sittings/{measured.pk}/look/blind/", values).content.decode()
    assert words in text
    assert not BlindTrial.objects.exists()


def test_an_unmeasured_sitting_has_nothing_to_show(client, sitting):
    assert (
        "A round needs at least three measured rungs"
        in client.get(f"/sittings/{sitting.pk}/look/blind/").content.decode()
    )
    text = client.post(f"/sittings/{sitting.pk}/look/blind/", {"person": "Wren", "wanted": "0.5"}).content.decode()
    assert "there are 0" in text


def test_strange_addresses_are_not_found(client, round_):
    trial = blind_rounds.next_trial(round_)
    assert client.get("/rounds/nothing/").status_code == 404
    assert client.get(f"/rounds/{round_.token}/other.png").status_code == 404
    assert client.get(f"/rounds/other/{trial.token}.png").status_code == 404
