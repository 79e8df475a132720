"""All records, by room: what is tested, the sitting, its frames, what was found, what was judged, work."""

from yellowjacket.bench.models.conditions import Conditions
from yellowjacket.bench.models.darks import MasterDark, RungDarks
from yellowjacket.bench.models.findings import Patch, Reading
from yellowjacket.bench.models.foreign import ForeignCurve
from yellowjacket.bench.models.frames import Frame, NamedKind, Problem, SeenFile
from yellowjacket.bench.models.jobs import Job
from yellowjacket.bench.models.judgement import Decision, Grade, OtherDecision, PairVerdict, Record, RememberedLimit
from yellowjacket.bench.models.lanes import Lane, LanePicture, Placement
from yellowjacket.bench.models.people import PhonePass, TrailEntry
from yellowjacket.bench.models.preparation import CheckItem, MarkedSpot, PlanTemplate, SittingEvent
from yellowjacket.bench.models.register import Body, Firmware, Lens, ToleranceProfile
from yellowjacket.bench.models.rounds import BlindRound, BlindTrial, JurySheet
from yellowjacket.bench.models.sittings import Ladder, Rung, Shot, Sitting, Use

__all__ = [
    "BlindRound", "BlindTrial", "Body", "CheckItem", "Conditions", "Decision", "Firmware", "ForeignCurve", "Frame",
    "Grade", "Job", "JurySheet", "Ladder", "Lane", "LanePicture", "Lens", "MarkedSpot", "MasterDark", "NamedKind",
    "OtherDecision", "PairVerdict", "Patch", "PhonePass", "Placement", "PlanTemplate", "Problem", "Reading", "Record",
    "RememberedLimit",
    "Rung", "RungDarks", "SeenFile", "Shot", "Sitting", "SittingEvent", "ToleranceProfile", "TrailEntry", "Use",
]  # fmt: skip
