"""A first test with the simulated camera: one click from an empty desk to frames that are being shot."""

from __future__ import annotations

from collections.abc import Sequence

from django.utils import timezone

from yellowjacket.bench.models import Body, Sitting, ToleranceProfile
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.bench.simulation import shoot
from yellowjacket.core.planning.ladder import Exposure, LadderSpec
from yellowjacket.simcam.bodies import HEATH
from yellowjacket.simcam.scene import EYE_SPOT

_METERED = Exposure(100, 1 / 8, 8.0)
# Full stops from base ISO to where every use has failed.
_ISOS = (100, 200, 400, 800, 1600, 3200, 6400, 12800, 25600, 51200)


def body() -> Body:
    """The simulated camera in the register."""
    return shoot.register_simulated(HEATH)


def begin(uses: Sequence[UseSpec], profile: str) -> Sitting:
    """Plan an ISO ladder of the simulated camera and have it shot."""
    simulated = body()
    today = timezone.localdate()
    tolerance, _ = ToleranceProfile.objects.get_or_create(name=profile)
    sitting = Sitting(
        name=f"Simulated {simulated.model}, {today:%-d %b}", scene="simulated specimen drawer",
        question="What is the highest usable ISO?", expectation="", held_on=today, profile=tolerance,
    )  # fmt: skip
    create_sitting(sitting, uses, [LadderRequest(simulated, LadderSpec("iso", "shutter", _METERED, picked=_ISOS))])
    # Where there is something to look at: an eye-spot on the first moth.
    sitting.ladders.update(spot_x=EYE_SPOT[0], spot_y=EYE_SPOT[1])
    shoot.accept_without_looking(sitting)
    shoot.start_shooting(sitting.ladders.get())
    return sitting
