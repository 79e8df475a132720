"""Every address of the application, taken from its own list, with things of a sitting to fill them in."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import URLPattern, get_resolver

from yellowjacket.bench.compare import foreign_curves
from yellowjacket.bench.look import blind_rounds, contact_sheets, renditions
from yellowjacket.bench.models import (
    BlindRound,
    Body,
    CheckItem,
    ForeignCurve,
    Frame,
    JurySheet,
    Lane,
    LanePicture,
    MarkedSpot,
    MasterDark,
    PhonePass,
    Problem,
    Rung,
    Sitting,
    ToleranceProfile,
)
from yellowjacket.bench.record import record


@dataclass
class Things:
    """Numbers and words that exist, by the name an address has for them."""

    known: dict[str, object] = field(default_factory=dict)

    def path(self, route: str, replaced: dict[str, str] | None = None) -> str:
        """The address of a route; ``replaced``: other values for some names."""
        values = {name: str(value) for name, value in self.known.items()} | (replaced or {})
        return "/" + re.sub(r"<(?:\w+:)?(\w+)>", lambda match: values.get(match.group(1), "1"), route)


def routes(resolver=None, prefix: str = "") -> Iterator[tuple[str, URLPattern]]:
    """Every route and its pattern."""
    for one in (resolver or get_resolver()).url_patterns:
        route = prefix + str(one.pattern)
        if isinstance(one, URLPattern):
            yield route, one
        else:
            yield from routes(one, route)


def names_in(route: str) -> list[str]:
    """What an address is filled in with."""
    return re.findall(r"<(?:\w+:)?(\w+)>", route)


def things_of(sitting: Sitting) -> Things:
    """One of everything that an address can name."""
    ladder, use = sitting.ladders.get(), sitting.uses.first()
    record.open_record(ladder)
    round_ = blind_rounds.begin(sitting, use, "Wren", 1.0)
    finished = blind_rounds.begin(sitting, use, "Wren", 1.0)
    for _ in range(400):
        trial = blind_rounds.next_trial(finished)
        if trial is None:
            break
        blind_rounds.answer(finished, trial.token, "yes")
    contact_sheets.make_sheet(sitting, use)
    lane = renditions.create_lane(ladder, "finish", "gentle median", "", "Wren")
    rung = ladder.rungs.first()
    frame = Frame.objects.filter(shot__rung=rung, shot__kind="light").first()
    picture = LanePicture.objects.create(
        lane=lane, rung=rung, frame=frame, file_name="a.jpg", path="/nowhere/a.jpg", sha256="0" * 64, width=640, height=448,
        matched_by="name",
    )  # fmt: skip
    spot = MarkedSpot.objects.create(sitting=sitting, body=ladder.body, name="eye", x=100, y=100)
    problem = Problem.objects.create(
        sitting=sitting, file_name="a.txt", code="not-raw", reason="is no raw file.", remedy="-"
    )
    curve = foreign_curves.take_in(
        b"ISO,range (stops)\n100,11\n200,10.5\n", "a.csv", name="Heath", quantity="range", unit="", output_pixels=0,
        source="a leaflet",
    )  # fmt: skip
    master = MasterDark.objects.create(
        file_name="m.fits", body=ladder.body, iso=800, exposure_s=60.0, temperature_c=20.0, frames=4, left_out=0, sigma_dn=3.0,
        black_dn=512.0, width=640, height=448, firmware="", held_on=sitting.held_on, origin="x", sha256="0" * 64,
    )  # fmt: skip
    known: dict[str, object] = {
        "sitting_id": sitting.pk, "ladder_id": ladder.pk, "rung_id": rung.pk, "frame_id": frame.pk, "use_id": use.pk,
        "body_id": Body.objects.first().pk, "profile_id": ToleranceProfile.objects.first().pk, "round_id": finished.pk,
        "lane_id": Lane.objects.first().pk, "picture_id": picture.pk, "spot_id": spot.pk, "problem_id": problem.pk,
        "curve_id": ForeignCurve.objects.get(pk=curve.pk).pk, "master_id": master.pk, "token": round_.token,
        "trial": blind_rounds.next_trial(round_).token, "item_id": CheckItem.objects.filter(sitting=sitting).first().pk,
        "sheet_id": JurySheet.objects.first().pk, "x": 10, "y": 10, "w": 64, "h": 64, "kind": "iso", "side": "left",
        "what": "difference", "phone_id": getattr(PhonePass.objects.first(), "pk", 1), "reading_id": reading_of(rung),
        "record_id": ladder.records.first().pk, "which": "a",
    }  # fmt: skip
    assert isinstance(round_, BlindRound)
    return Things(known)


def reading_of(rung: Rung) -> int:
    """A reading of the rung."""
    return rung.readings.first().pk


def upload(name: str = "a.zip", content: bytes = b"x") -> SimpleUploadedFile:
    """A file as a browser sends it."""
    return SimpleUploadedFile(name, content)
