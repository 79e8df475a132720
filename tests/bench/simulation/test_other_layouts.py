"""A sitting of bodies with other filters: pushed, timed, judged blind, compared, as one with a 2×2 mosaic is."""

from datetime import date

import pytest

from yellowjacket.bench.darks import measure
from yellowjacket.bench.decoding import mosaic_of
from yellowjacket.bench.look import blind_pictures, blind_rounds
from yellowjacket.bench.measure import patches, run
from yellowjacket.bench.models import BlindRound, Problem, Reading, Sitting, ToleranceProfile
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.bench.push import latitude
from yellowjacket.bench.simulation import shoot
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.notes import Missing
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.core.rendering.develop import develop_at_use
from yellowjacket.simcam.bodies import HOLT, WOLD

pytestmark = pytest.mark.django_db
METERED = Exposure(160, 1 / 13, 8.0)
DARKS = LadderSpec(
    "time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15, 60, 240), repeats=2, rest_s=45.0, lenr="off"
)
WINDOW = (912, 608)


@pytest.fixture(params=[HOLT, WOLD], ids=lambda body: body.key)
def sitting(request, data_folder):
    """An exposure ladder of the whole scene, an ISO ladder, and darks along time of a part of the sensor; measured."""
    profile, _ = ToleranceProfile.objects.get_or_create(name="Default")
    found = Sitting(
        name="Other", scene="drawer", question="q", expectation="e", held_on=date(2026, 4, 11), profile=profile
    )
    body = shoot.register_simulated(request.param)
    specs = (
        LadderSpec("exposure", "shutter", METERED, under=2.0, over=1.0, darks=0),
        LadderSpec("iso", "shutter", METERED, picked=(160, 2500, 40000), darks=0), DARKS,
    )  # fmt: skip
    create_sitting(found, [UseSpec("Web", 200_000)], [LadderRequest(body, spec) for spec in specs])
    shoot.accept_without_looking(found)
    for ladder in found.ladders.all():
        ladder.sitting.refresh_from_db()
        shoot.start_shooting(ladder, window=WINDOW if ladder.capped else None)
        if not ladder.capped:
            patches.propose(ladder)
    run.start_measuring(found)
    measure.start_measuring(found)
    assert not Problem.objects.exists(), list(Problem.objects.all())
    return found, request.param


def test_the_whole_way_of_a_body_with_other_filters(sitting):
    found, body = sitting
    exposed, _, dark = found.ladders.all()
    use = found.uses.get()
    # Steps and push: by the sensor's own numbers.
    steps = [
        one.value
        for one in Reading.objects.filter(rung__ladder=exposed, quantity="step_stops").order_by("rung__position")
    ]
    assert steps == pytest.approx([-2, -1, 0, 1], abs=0.01)
    push = latitude.recovery(latitude.exposed(exposed, use), Profile("Default")).push
    assert push["emergency"].stops >= push["usable"].stops >= push["clean"].stops > 0
    casts = {one.result.has(Missing.NO_COLOUR_FILTERS) for one in Reading.objects.filter(quantity="cast_de00")}
    assert casts == {body is WOLD}
    # Darks: current and hot pixels against the truth.
    whole = measure.measured(dark).whole
    truth = body.dark_current_e_per_s * 2 ** ((whole.reference_c - 20) / 6)
    assert whole.current.current.value == pytest.approx(truth, rel=0.1)
    shares = [one.pixels.of(("hot",)).size / (WINDOW[0] * WINDOW[1]) for one in whole.off if one.pixels is not None]
    assert shares[-1] == pytest.approx(body.hot_pixel_share, rel=0.35)
    # A blind round draws on its frames, and the pictures are developed from them.
    round_ = blind_rounds.begin(found, use, "Wren Halloway", 0.5, BlindRound.Kind.LINE)
    trial = blind_rounds.next_trial(round_)
    shown = blind_pictures.shown_of(trial, "left")
    picture = develop_at_use(mosaic_of(shown.frame), shown.rect, shown.how, shown.factor)
    assert picture.std() > 0
