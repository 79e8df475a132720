"""What every page of a sitting has: the steps, the ladder, the current rung, the use, the person.

All of it lives in the URL (``ladder``, ``iso``, ``use``, ``spot``), except the person, who stays from
page to page.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from urllib.parse import urlencode

from django.conf import settings
from django.db.models import Prefetch, prefetch_related_objects
from django.http import Http404, HttpRequest
from django.urls import reverse

from yellowjacket.bench.check.how_far import HowFar, LadderDone
from yellowjacket.bench.check.open_count import open_count
from yellowjacket.bench.development import Developing
from yellowjacket.bench.models import (
    Frame,
    Grade,
    Job,
    Ladder,
    Lane,
    MarkedSpot,
    Patch,
    Problem,
    Reading,
    Rung,
    Shot,
    Sitting,
    Use,
)
from yellowjacket.bench.models.queries.grades import Grades
from yellowjacket.bench.models.queries.readings import ReadingQuerySet, Said
from yellowjacket.bench.shoot.shots import of_ladders
from yellowjacket.bench.typed import whole
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.limits.output_size import use_noise_factor

_PERSON_KEY = "person"
_WIDEST_PX = 1_000_000
# What goes along from step to step.
CARRIED = ("ladder", "rung", "use", "spot", "size", "rows")


@dataclass(frozen=True, slots=True)
class Step:
    """A step in the left column: where it leads, how much is done (0–1), what wants attention."""

    key: str
    name: str
    url: str
    status: str
    share: float
    attention: int
    current: bool

    @property
    def bar(self) -> int:
        """Width of its progress line out of 100."""
        return round(100 * self.share)


class NoLadders(Http404):
    """A sitting that is being adopted, or of which nothing came: what was found is told on a page of its own."""

    def __init__(self, sitting_id: int) -> None:
        super().__init__()
        self.sitting_id = sitting_id


class SittingPage:
    """A sitting as asked for by a request. Raises Http404 for what does not exist, NoLadders where there is nothing to show."""

    # What is left out of the shots: the report is forty times the rest of a frame.
    deferred: tuple[str, ...] = ("frame__report",)

    def __init__(self, request: HttpRequest, sitting_id: int, step: str) -> None:
        self.request, self.step = request, step
        whole = Ladder.objects.select_related("body", "placement", "sitting__profile", "sitting__lens_used")
        self.ladders = list(whole.filter(sitting=sitting_id))
        if not self.ladders:
            raise NoLadders(sitting_id) if Sitting.objects.filter(pk=sitting_id).exists() else Http404
        self.sitting: Sitting = self.ladders[0].sitting
        # Its ladders know this very sitting, with its profile and uses.
        for ladder in self.ladders:
            ladder.sitting = self.sitting
        prefetch_related_objects([self.sitting], "uses")
        # Setting ladders have effects and no limits; what people ask for first is the highest ISO.
        limited = [ladder for ladder in self.ladders if ladder.kind != Ladder.Kind.SETTING]
        limited.sort(key=lambda ladder: ladder.kind != Ladder.Kind.ISO)
        exposed = [ladder for ladder in self.ladders if ladder.kind != Ladder.Kind.TIME]
        # Exposure ladders first: pushing is what the page is about.
        exposed.sort(key=lambda ladder: ladder.kind != Ladder.Kind.EXPOSURE)
        timed = [ladder for ladder in self.ladders if ladder.kind == Ladder.Kind.TIME]
        self._tabbed = {"record": limited, "push": exposed, "time": timed}.get(step, []) or self.ladders
        self.ladder = self._chosen(self._tabbed, "ladder")
        self.uses: Sequence[Use] = list(self.sitting.uses.all())
        self.use = self._chosen(self.uses, "use")

    def _chosen(self, items: Sequence[Any], name: str) -> Any:
        """The item whose id the URL names, else the first."""
        wanted = self.request.GET.get(name) or self.request.POST.get(name)
        return next((item for item in items if str(item.pk) == wanted), items[0])

    @cached_property
    def rungs(self) -> Sequence[Rung]:
        """Rungs of the ladder, in order; who asks the ladder for them gets the same."""
        prefetch_related_objects([self.ladder], "rungs")
        return list(self.ladder.rungs.all())

    def switch_to(self, ladder_id: int) -> None:
        """Go to another ladder of the sitting before anything of this one was asked for."""
        self.ladder = next(ladder for ladder in self.ladders if ladder.pk == ladder_id)

    def switch_rungs(self, rungs: Sequence[Rung]) -> None:
        """Show only some rungs, before the current one was asked for."""
        self.rungs = list(rungs)
        self.__dict__.pop("rung", None)

    @cached_property
    def rung(self) -> Rung:
        """The current rung: by its key in the URL, else the metered one."""
        wanted = self.request.GET.get("rung") or self.request.POST.get("rung")
        named = next((rung for rung in self.rungs if rung.key == wanted), None)
        return named or min(self.rungs, key=lambda rung: (abs(rung.at_stops), rung.position))

    @property
    def asked_spot(self) -> tuple[int, int] | None:
        """The spot that the address names, in raw pixels; no sensor is wider than what is let through."""
        parts = [whole(part) for part in self.request.GET.get("spot", "").split(",")]
        if len(parts) != 2 or parts[0] is None or parts[1] is None:
            return None
        return min(parts[0], _WIDEST_PX), min(parts[1], _WIDEST_PX)

    @property
    def lane_id(self) -> int | None:
        """The lane of the current ladder that is judged, None as is."""
        return whole(self.request.GET.get("lane") or self.request.POST.get("lane"))

    @property
    def size_use(self) -> Use | None:
        """The use at whose size readings are shown; None per pixel: asked for, or a use no smaller than the picture."""
        if self.request.GET.get("level") == "pixel" or self.request.POST.get("level") == "pixel":
            return None
        factor, _ = use_noise_factor(self.ladder.body.pixels, self.use.whole_frame_pixels)
        return self.use if factor > 1.0 else None

    @property
    def size_words(self) -> str:
        """At which size readings are shown."""
        return f"at {self.use.name.lower()} size" if self.size_use else "per pixel"

    @property
    def size_short(self) -> str:
        """The same where there is little room: 24 MP."""
        return self.use.size_text if self.size_use else "per pixel"

    @property
    def offers_pixel_level(self) -> bool:
        """Whether showing readings per pixel must be offered beside the uses: none of them is pixel level."""
        return all(use.output_pixels is not None for use in self.uses)

    @property
    def several_bodies(self) -> bool:
        """Whether bodies are compared here, so that what is held equal between them must be said."""
        return len({ladder.body_id for ladder in self.ladders}) > 1

    @property
    def person(self) -> str:
        """Who is judging: as typed, else the account."""
        account = self.request.user.get_username() if settings.SIGN_IN else ""
        return str(self.request.session.get(_PERSON_KEY) or account)

    @person.setter
    def person(self, name: str) -> None:
        self.request.session[_PERSON_KEY] = name.strip()[:80]

    @cached_property
    def every_shot(self) -> Sequence[Shot]:
        """Shots of the ladder with their frames, in order of repeat: one query."""
        return sorted(of_ladders([self.ladder], self.deferred), key=lambda shot: shot.repeat)

    @cached_property
    def frames(self) -> dict[tuple[int, str], list[Frame]]:
        """Frames by (rung id, kind), in order of repeat."""
        found: dict[tuple[int, str], list[Frame]] = {}
        for shot in self.every_shot:
            if (frame := getattr(shot, "frame", None)) is not None:
                found.setdefault((shot.rung_id, shot.kind), []).append(frame)
        return found

    @property
    def every_frame(self) -> list[Frame]:
        """Of the ladder."""
        return [frame for frames in self.frames.values() for frame in frames]

    def light(self, rung: Rung) -> list[Frame]:
        """Light frames of a rung."""
        return self.frames.get((rung.pk, Shot.Kind.LIGHT), [])

    @cached_property
    def widest_px(self) -> int:
        """Width of the ladder's largest frames: spots are told in their pixels. 1 without frames."""
        return max((frame.width for frame in self.every_frame), default=1)

    @cached_property
    def grades_by_lane(self) -> Mapping[int | None, Grades]:
        """Grades of the ladder that are in force, whoever spoke last, by the id of their lane, None as is."""
        there = any(self.so_far.has_of(kind, self.ladder) for kind in ("grades", "lanes"))
        return Grade.objects.by_lane([self.ladder]) if there else {}

    @property
    def grades(self) -> Grades:
        """Those as is."""
        return self.grades_by_lane.get(None, {})

    @cached_property
    def patches(self) -> Sequence[Patch]:
        """Patches of the ladder; who asks the ladder for them gets the same."""
        prefetch_related_objects([self.ladder], "patches")
        return list(self.ladder.patches.all())

    @cached_property
    def shots(self) -> Mapping[tuple[int, str], int]:
        """How many shots are planned by (rung id, kind)."""
        return Counter((shot.rung_id, shot.kind) for shot in self.every_shot)

    @cached_property
    def spots(self) -> Sequence[MarkedSpot]:
        """Marked spots on the frames of the ladder's body; who asks the sitting for its spots gets the same."""
        marked = MarkedSpot.objects.all() if self.so_far.has("spots") else MarkedSpot.objects.none()
        prefetch_related_objects([self.sitting], Prefetch("marked_spots", marked))
        return [spot for spot in self.sitting.marked_spots.all() if spot.body_id == self.ladder.body_id]

    @cached_property
    def problems(self) -> Sequence[Problem]:
        """Files of the sitting that were not used, or are no longer what they were; who asks the sitting gets the same."""
        noted = Problem.objects.all() if self.so_far.has("problems") else Problem.objects.none()
        prefetch_related_objects([self.sitting], Prefetch("problems", noted))
        return list(self.sitting.problems.all())

    def fetch_lanes(self, ladders: Sequence[Ladder], *also: str) -> None:
        """Have ladders know their lanes, and ``also`` what belongs to these; the database is asked where there are any."""
        there = any(self.so_far.has_of("lanes", ladder) for ladder in ladders)
        lanes = Lane.objects.prefetch_related(*also) if there else Lane.objects.none()
        prefetch_related_objects(ladders, Prefetch("lanes", lanes))

    @cached_property
    def so_far(self) -> HowFar:
        """How far the sitting is."""
        return HowFar.of(self.sitting)

    @cached_property
    def job(self) -> Job | None:
        """The newest job of the sitting, where it has to be told of."""
        return self.sitting.jobs.last() if self.so_far.job_has_to_be_told else None

    def url(self, step: str, **changes: object) -> str:
        """Address of a step with the state carried along."""
        state: dict[str, object] = {key: value for key, value in self.request.GET.items() if key in CARRIED}
        state.update(changes)
        query = urlencode(state)
        return reverse(f"{step}:page", args=[self.sitting.pk]) + (f"?{query}" if query else "")

    @property
    def ladder_tabs(self) -> list[dict[str, object]]:
        """The ladders of the sitting with their addresses on this step; the spot stays, the rung may not exist."""
        return [
            {"ladder": ladder, "name": name, "url": self.url(self.step, ladder=ladder.pk, rung=self.rung.key)}
            for ladder, name in zip(self._tabbed, told_apart(self._tabbed), strict=True)
        ]

    @cached_property
    def steps(self) -> list[Step]:
        """The left column."""
        done, every = self.so_far.ladders[self.ladder.pk], [self.so_far.ladders[ladder.pk] for ladder in self.ladders]
        problems = open_count(self.sitting, self.so_far)
        taken_in_all, measured_in_all, graded_in_all, signed_in_all = _in_all(every, len(self.uses))
        wanted = done.rungs * len(self.uses)
        rows = [
            ("plan", "Plan", counted(done.planned, "shot"), 1.0, 0),
            ("shoot", "Shoot", f"{done.taken} of {done.planned}{taken_in_all}", _share(done.taken, done.planned), 0),
            ("check", "Check", f"{problems} to decide" if problems else "nothing to decide" if done.taken else "no frames yet",
             1.0 if done.taken and not problems else 0.0, problems),
            ("measure", "Measure", f"{done.measured} of {done.lit} rungs{measured_in_all}" if done.lit else "no frames yet",
             _share(done.measured, done.lit), 0),
            ("push", "Push", *self._push_status(), 0),
            ("time", "Time", *self._time_status(), 0),
            ("look", "Look", f"{done.graded} of {wanted} graded{graded_in_all}" if done.lit else "no frames yet",
             _share(done.graded, wanted), 0),
            ("record", "Record", f"{_record_status(done)}{signed_in_all}", 1.0 if done.signed else 0.0, 0),
        ]  # fmt: skip
        return [
            Step(key, name, self.url(key), status, share, attention, key == self.step)
            for key, name, status, share, attention in rows
        ]

    @cached_property
    def developing(self) -> Developing:
        """What the crops of the ladder are developed by."""
        self.ask({})
        return self.developing

    def ask(self, asked: dict[str, ReadingQuerySet]) -> dict[str, list[Said]]:
        """Answers to questions about readings; what the crops of the ladder are developed by comes with them, in one query."""
        rests_on = Developing.asked_of(self.ladder) if self.so_far.has_of("read", self.ladder) else {}
        said = Reading.objects.in_one(rests_on | asked)
        self.developing = Developing.told(self.ladder, said, self.rungs)
        return said

    @property
    def to_measure(self) -> bool:
        """Whether light frames of the ladder wait to be measured."""
        done = self.so_far.ladders[self.ladder.pk]
        return done.measured < done.lit

    def _of_kind(self, kind: Ladder.Kind) -> list[LadderDone]:
        return [self.so_far.ladders[ladder.pk] for ladder in self.ladders if ladder.kind == kind]

    def _push_status(self) -> tuple[str, float]:
        """What the Push step says of itself: ladders that are measured of those that can be pushed."""
        exposed = self._of_kind(Ladder.Kind.EXPOSURE)
        if not exposed:
            return "no exposure ladder", 0.0
        measured = sum(bool(done.measured) for done in exposed)
        return f"{measured} of {counted(len(exposed), 'ladder')}", measured / len(exposed)

    def _time_status(self) -> tuple[str, float]:
        """What the Time step says of itself: rungs of time ladders whose darks are measured."""
        timed = self._of_kind(Ladder.Kind.TIME)
        if not timed:
            return "no time ladder", 0.0
        shot, measured = sum(done.dark for done in timed), sum(done.darks_measured for done in timed)
        return (f"{measured} of {shot} rungs", measured / shot) if shot else ("no darks yet", 0.0)

    def context(self, **more: object) -> dict[str, object]:
        """Template context of the frame of the page."""
        return {
            "page": self, "sitting": self.sitting, "ladder": self.ladder, "rung": self.rung, "use": self.use,
            "uses": self.uses, "steps": self.steps, "step": self.step, "job": self.job, "person": self.person, **more,
        }  # fmt: skip


def told_apart(ladders: Sequence[Ladder]) -> list[str]:
    """Names of a sitting's ladders: where several have one name, with the ISO they stand at, else with a number."""
    names = [str(ladder) for ladder in ladders]
    if len(set(names)) < len(names):
        names = [
            f"{name}, ISO {ladder.metered_iso}" if names.count(name) > 1 and ladder.kind != Ladder.Kind.ISO else name
            for name, ladder in zip(names, ladders, strict=True)
        ]
    return [f"{name} ({names[:n].count(name) + 1})" if names.count(name) > 1 else name for n, name in enumerate(names)]


def _in_all(every: Sequence[LadderDone], uses: int) -> tuple[str, str, str, str]:
    """Beside the counts of a ladder those of its whole sitting: shots, rungs measured, grades, ladders signed."""
    if len(every) < 2:
        return "", "", "", ""
    return (
        f", all ladders {sum(done.taken for done in every)} of {sum(done.planned for done in every)}",
        f", all ladders {sum(done.measured for done in every)} of {sum(done.lit for done in every)}",
        f", all ladders {sum(done.graded for done in every)} of {sum(done.rungs for done in every) * uses}",
        f", {sum(done.ever_signed for done in every)} of {counted(len(every), 'ladder')} signed",
    )


def _share(done: int, of: int) -> float:
    return done / of if of else 0.0


def _record_status(done: LadderDone) -> str:
    if not done.version:
        return "open"
    return f"signed by {done.signed_by}" if done.signed else f"version {done.version} open"
