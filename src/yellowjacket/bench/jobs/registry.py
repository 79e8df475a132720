"""Which function does which kind of job."""

from __future__ import annotations

from yellowjacket.bench.darks.masters import make_masters
from yellowjacket.bench.darks.measure import measure_darks
from yellowjacket.bench.intake.adopt import adopt_files
from yellowjacket.bench.intake.importing import import_files
from yellowjacket.bench.jobs.queue import Work
from yellowjacket.bench.look.renditions import match_pictures
from yellowjacket.bench.measure.run import measure_sitting
from yellowjacket.bench.models import Job
from yellowjacket.bench.simulation.shoot import shoot_remaining

WORK: dict[str, Work] = {
    Job.Kind.ADOPT: adopt_files,
    Job.Kind.IMPORT: import_files,
    Job.Kind.SHOOT: shoot_remaining,
    Job.Kind.MEASURE: measure_sitting,
    Job.Kind.DARKS: measure_darks,
    Job.Kind.MASTER: make_masters,
    Job.Kind.LANE: match_pictures,
}
