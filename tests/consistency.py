"""Whether pages, papers and documents of a sitting give the same answer to the same question.

``python -m tests.consistency FOLDER`` walks every sitting of a data folder, the demo's for one.
"""

from __future__ import annotations

import csv
import html
import io
import json
import re
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import jsonschema
from pypdf import PdfReader

from yellowjacket.web.graphics.typeface import plain

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "sitting.schema.json").read_text())


def text_of(client, address: str) -> str:
    """What a page says, tags off, every white space one space."""
    response = client.get(address)
    if response.status_code != 200:
        return ""
    return re.sub(r"\s+", " ", html.unescape(re.sub(r"<[^>]*>", " ", response.content.decode())))


def pdf_text(client, address: str) -> str:
    """The same of a PDF."""
    pages = PdfReader(io.BytesIO(client.get(address).content)).pages
    return re.sub(r"\s+", " ", " ".join(page.extract_text() for page in pages))


def _spaced(words: str) -> str:
    return words.replace("\u2009", " ").replace("\u00a0", " ")


def differences(client, sitting) -> Iterator[str]:
    """Every contradiction found, in words; nothing where all agree."""
    base = f"/sittings/{sitting.pk}"
    document = json.loads(client.get(f"{base}/record/sitting.json").content)
    for error in jsonschema.Draft202012Validator(SCHEMA).iter_errors(document):
        yield f"{sitting}: sitting.json, {list(error.absolute_path)}: {error.message[:100]}"
    papers = {"report.html": text_of(client, f"{base}/record/report.html"),
              "report.pdf": pdf_text(client, f"{base}/record/report.pdf")}  # fmt: skip
    uses = list(sitting.uses.all())
    yield from _listed(client, sitting, document)
    for ladder, told in zip(sitting.ladders.select_related("body"), document["ladders"], strict=True):
        yield from _limits(client, ladder, told, uses, papers)
        yield from _advised(client, ladder, uses)
        if ladder.kind == "exposure":
            yield from _pushed(client, ladder, uses)
        if ladder.kind == "time":
            yield from _long(client, ladder, uses)


def _listed(client, sitting, document) -> Iterator[str]:
    """Readings as CSV and as JSON: the same rows with the same numbers."""
    answer = client.get(f"/sittings/{sitting.pk}/record/readings.csv")
    rows = list(csv.DictReader(io.StringIO(b"".join(answer.streaming_content).decode())))

    def number(text):
        return None if text == "" else round(float(text), 9)

    listed = Counter((one["patch"] or None, one["channel"], one["quantity"], number(one["value"])) for one in rows)
    told = Counter(
        (one["patch"], one["channel"], one["quantity"], None if one["value"] is None else round(one["value"], 9))
        for ladder in document["ladders"]
        for rung in ladder["rungs"]
        for one in rung["readings"]
    )
    if listed != told:
        yield f"{sitting}: CSV and JSON differ in {len((listed - told) + (told - listed))} readings"


def _limits(client, ladder, told, uses, papers) -> Iterator[str]:
    """Highest ISO on page, print, reports, JSON and card: the mark of every use and level beside its level."""
    from yellowjacket.bench.models import Record
    from yellowjacket.bench.record.standing import newest_signed, standing_of

    signed = newest_signed(ladder)
    standing = standing_of(signed or Record(ladder=ladder, version=1), uses)
    version = f"&version={signed.version}" if signed else ""
    about = f"?ladder={ladder.pk}{version}"
    base = f"/sittings/{ladder.sitting_id}/record/"
    pages = {"record": text_of(client, base + about), "print": text_of(client, f"{base}print/{about}"), **papers}
    for one in standing.proposals:
        mark = one.measured.words.replace("–", "[–-]")
        for name, text in pages.items():
            if not re.search(rf"{re.escape(one.level)} (?:(?:none|open|ISO \d+) )?{mark}", text):
                yield f"{ladder}, {one.use.name}, {one.level}: {name} does not say {one.measured.words}"
    if not signed:
        live = {(row["use"], row["level"]): row["measured"] for row in told["proposals"]}
        for one in standing.proposals:
            kept = live[one.use.name, one.level]
            if (kept["mark"], kept["criterion"]) != (one.measured.mark, one.measured.criterion):
                yield f"{ladder}, {one.use.name}, {one.level}: sitting.json differs from the record"
    for row in standing.others:
        for name, text in pages.items():
            # No typeface of the PDF has every sign: it puts what they lack plainly.
            number = plain(row.limit.text) if name == "report.pdf" else row.limit.text
            if row.limit.text != "–" and _spaced(number) not in _spaced(text):
                yield f"{ladder}, {row.limit.what}, {row.limit.use}: {name} does not say {row.limit.text}"
    if signed:
        lines = client.get(f"{base}card.txt{about}").content.decode()
        for (use, level), decided in standing.decided.items():
            line = next((one for one in lines.splitlines() if one.startswith(use)), "")
            if decided.words.removeprefix("ISO ") not in line:
                yield f"{ladder}, {use}, {level}: the card does not say {decided.words}"
    for iso, reason in standing.mark_advice:
        if f"ISO {iso}: {reason}" not in pages["record"]:
            yield f"{ladder}, ISO {iso}: the record does not say {reason}"


def _advised(client, ladder, uses) -> Iterator[str]:
    """Advice at each mark as metered: the grade the record's limits give it, and a word where it is to be avoided."""
    from yellowjacket.bench.advise import exposure
    from yellowjacket.bench.record.evidence import mark_advice
    from yellowjacket.bench.record.proposals import proposals
    from yellowjacket.core.exposure import dial
    from yellowjacket.core.limits.exposure_advice import NOT_USABLE, Asked, option_at
    from yellowjacket.core.limits.tolerance import LEVELS

    if ladder.kind != "iso" or exposure.ladder_of(ladder.body) != ladder:
        return
    avoided = {iso for iso, reason in mark_advice(ladder) if reason != "second base"}
    for use in uses:
        known = exposure.known_of(ladder, use)
        limits = {one.level: one.measured for one in proposals(ladder) if one.use == use}
        for mark in known.findings.marks:
            asked = Asked(known.profile, known.limits)
            told = option_at(known.findings, mark.iso, mark.mark, dial.exact_iso(mark.mark), asked)
            held = [level for level in LEVELS if limits[level].mark is not None and mark.mark <= limits[level].mark]
            if told.level != (held[0] if held else NOT_USABLE):
                yield f"{ladder}, {use}, ISO {mark.mark}: advice says {told.level}, the record {held[:1] or 'none'}"
            if bool(told.avoid) != (mark.mark in avoided):
                yield f"{ladder}, ISO {mark.mark}: advice and record differ on whether it is to be avoided"


def _pushed(client, ladder, uses) -> Iterator[str]:
    from yellowjacket.bench.record import other_limits

    found = {(one.what, one.use): one for one in other_limits.of_ladder(ladder, uses)}
    # A ladder that is not measured yet has nothing to contradict.
    for use in uses if found else ():
        for level in ("clean", "usable", "emergency"):
            address = f"/sittings/{ladder.sitting_id}/push/?ladder={ladder.pk}&use={use.pk}&level_of={level}"
            text = text_of(client, address)
            for what in ("push", "pull"):
                one = found[f"{what}, {level}", use.name]
                number = re.search(r"[\d.]+ stops", one.text)
                if number and number[0] not in text:
                    yield f"{ladder}, {use}, {what}, {level}: the Push page does not say {one.text}"


def _long(client, ladder, uses) -> Iterator[str]:
    from yellowjacket.bench.record import other_limits

    found = {(one.what, one.use): one for one in other_limits.of_ladder(ladder, uses)}
    for use in uses:
        text = text_of(client, f"/sittings/{ladder.sitting_id}/time/?ladder={ladder.pk}&use={use.pk}&level_of=usable")
        yield from _verdict(ladder, use, text)
        for (what, name), one in found.items():
            if name == use.name and what.count(",") == 1 and one.text != "none" and one.text not in text:
                yield f"{ladder}, {use}, {what}: the Time page does not say {one.text}"


def _verdict(ladder, use, text) -> Iterator[str]:
    """Whether LENR pays: Advice rests on the newest darks of a body, and says of them what the Time page says."""
    from yellowjacket.bench.advise import exposure
    from yellowjacket.bench.darks import measure
    from yellowjacket.core.limits.output_size import use_noise_factor

    newest = measure.of_body(ladder.body)
    if newest is None or not set(newest.by_rung) & set(ladder.rungs.values_list("pk", flat=True)):
        return
    factor, _ = use_noise_factor(ladder.body.pixels, use.whole_frame_pixels)
    long = exposure.long_of(measure.of_body(ladder.body), "usable", factor, None)
    if long is not None and long.verdict is not None and long.verdict.words not in text:
        yield f"{ladder}, {use}: advice says of LENR {long.verdict.words!r}, the Time page does not"


def main(folder: Path) -> int:
    """Walk the sittings of a data folder; returns how many contradictions there are."""
    import os

    from yellowjacket import data_folder

    os.environ[data_folder.HOME_VARIABLE] = str(folder)
    data_folder.set_up_django()
    from django.conf import settings
    from django.test import Client

    from yellowjacket.bench.models import Sitting

    settings.ALLOWED_HOSTS = ["testserver"]
    said = [line for sitting in Sitting.objects.all() for line in differences(Client(), sitting)]
    print("\n".join(said) or f"{Sitting.objects.count()} sittings: no contradiction")
    return len(said)


if __name__ == "__main__":
    sys.exit(min(main(Path(sys.argv[1])), 100))
