"""A small night of the simulated Heath: darks along time with LENR off and on, and one light frame, measured."""

from __future__ import annotations

from datetime import date

from yellowjacket.bench.darks import measure as measure_
from yellowjacket.bench.models import Sitting, ToleranceProfile
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.bench.simulation import shoot
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.simcam.bodies import HEATH, BodyModel

WINDOW = (384, 256)
CAPPED = LadderSpec(
    "time", "capped", Exposure(800, 1.0, 8.0), picked=(1, 15, 60, 120), lenr="pairs", repeats=3, rest_s=60.0
)
SCENE = LadderSpec("time", "scene", Exposure(800, 60.0, 8.0), picked=(60,), repeats=1, darks=0)


def done(job) -> None:
    job.refresh_from_db()
    assert job.state == "done", job.message


def night(name="Night", *, room_c=20.0, ladders=(CAPPED, SCENE), body: BodyModel = HEATH, measure=True) -> Sitting:
    """Shot and, if wanted, measured. The data folder must be the test's own."""
    profile, _ = ToleranceProfile.objects.get_or_create(name="Default")
    sitting = Sitting(
        name=name, scene="trap", question="How long?", expectation="1 min", held_on=date(2026, 6, 19), profile=profile,
        temperature_c=room_c,
    )  # fmt: skip
    requests = [LadderRequest(shoot.register_simulated(body), spec) for spec in ladders]
    create_sitting(sitting, [UseSpec("Pixel level", None), UseSpec("Web", 2_000_000)], requests)
    shoot.accept_without_looking(sitting)
    for ladder in sitting.ladders.all():
        ladder.sitting.refresh_from_db()
        done(shoot.start_shooting(ladder, window=WINDOW))
    if measure:
        done(measure_.start_measuring(sitting))
    return sitting
