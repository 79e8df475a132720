"""Findings as plain values for JSON: one shape for every quantity, never a NaN or an infinity.

Described by docs/characterisation.schema.json and docs/measurement.schema.json.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from yellowjacket.core.darks.usable_exposure import AS_SHOT
from yellowjacket.core.latitude.iso_invariance import Invariance, Penalty
from yellowjacket.core.latitude.push_pull import StopLimit
from yellowjacket.core.limits.iso_limits import Limit
from yellowjacket.core.limits.tolerance import Profile
from yellowjacket.core.metrology.document import Document, quantity
from yellowjacket.core.metrology.estimate import Quantity
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.metrology.notes import Note, Remark, in_words
from yellowjacket.core.noise.banding import Banding
from yellowjacket.core.noise.smoothing import Cooked
from yellowjacket.core.photon_transfer.characterise import ChannelFindings, IsoFindings
from yellowjacket.core.photon_transfer.dynamic_range import SNR_LEVELS, dynamic_range_stops
from yellowjacket.core.photon_transfer.iso_marks import habits_of
from yellowjacket.core.raw.codes import DigitalIso
from yellowjacket.core.raw.frame import FrameError
from yellowjacket.core.survey.dark_series import FoundDarks
from yellowjacket.core.survey.exposure_ladders import FoundExposures, no_ladder
from yellowjacket.core.survey.iso_ladders import FoundIsoLimits
from yellowjacket.core.survey.sort import setting_of

CHARACTERISATION, MEASUREMENT = "yellowjacket-characterisation/1", "yellowjacket-measurement/1"


def _cooked(found: Cooked, corrected: Mapping[Measurand, Quantity]) -> Document:
    document: Document = {
        "flag": found.flag, "lag1": quantity(found.lag1), "lag2": quantity(found.lag2),
        "lag1_rows": quantity(found.lag1_rows), "lag1_columns": quantity(found.lag1_columns),
    }  # fmt: skip
    if found.notes:
        document["reason"] = in_words(found.notes)
    if corrected:
        document["corrected"] = {name: quantity(value) for name, value in corrected.items()}
    return document


def _digital(found: DigitalIso) -> Document:
    document: Document = {"flag": found.flag, "empty_share": found.empty_share, "factor": found.factor}
    if found.reason:
        document["reason"] = found.reason
    return document


def _banding(found: Banding) -> Document:
    return {
        "row_dn": quantity(found.row_dn), "column_dn": quantity(found.column_dn),
        "row_share": quantity(found.row_share), "column_share": quantity(found.column_share),
    }  # fmt: skip


def _findings(found: ChannelFindings, digital: DigitalIso, uses: Mapping[str, float]) -> Document:
    document: Document = {name: quantity(value) for name, value in found.quantities.items()}
    document["dynamic_range_stops"] = {name: quantity(value) for name, value in found.ranges.items()}
    document["cooked"] = _cooked(found.cooked, found.corrected)
    document["digital_iso"] = _digital(digital)
    document["banding"] = _banding(found.banding)
    if uses:
        parts = [
            found.quantities[name]
            for name in (Measurand.SATURATION_DN, Measurand.GAIN_E_PER_DN, Measurand.READ_NOISE_DN)
        ]
        document["uses"] = {
            name: {
                f"snr{level}": quantity(dynamic_range_stops(level, parts[0], parts[1], parts[2], use_share=share))
                for level in SNR_LEVELS
            }
            for name, share in uses.items()
        }
    return document


def body_document(
    make: str, model: str, serial: str, rungs: Sequence[IsoFindings], uses: Mapping[str, int]
) -> Document:
    """One body in one raw mode: every ISO, and what its settings say about each other.

    ``uses``: output pixels by name; a use larger than the picture is measured per pixel.
    """
    habits = habits_of([setting_of(rung) for rung in rungs])
    digital = {rung.iso: verdict for rung, verdict in zip(rungs, habits.digital, strict=True)}
    isos = []
    for rung in rungs:
        if rung.every is None:
            continue
        pixels = rung.size[0] * rung.size[1] if rung.size else 0
        shares = {name: min(1.0, output / pixels) if pixels else 1.0 for name, output in uses.items()}
        isos.append({
            "iso": rung.iso, "read_noise_source": rung.read_noise_source or None, "black_source": rung.black_source,
            "reduced_chi2": rung.reduced_chi2, "patches": rung.patches,
            "all": _findings(rung.every, digital[rung.iso], shares),
            "channels": {name: _findings(one, digital[rung.iso], {}) for name, one in rung.channels.items()},
        })  # fmt: skip
    sizes = [rung.size for rung in rungs if rung.size]
    return {
        "make": make, "model": model, "serial": serial, "width": sizes[0][0] if sizes else None,
        "height": sizes[0][1] if sizes else None, "cfa": next((rung.layout for rung in rungs if rung.layout), None),
        "isos": isos, "second_base_iso": quantity(habits.second_base),
        "avoid": [{"iso": one.iso, "advice": one.advice, "habit": one.habit.name, "reason": one.reason} for one in habits.advice],
    }  # fmt: skip


def limit_document(found: FoundIsoLimits | None, profile: Profile) -> Document:
    """Limits along ISO by use and level, the criterion that ends each and the interval of its crossing; and the profile."""
    return {
        "profile": profile.name,
        "limits": {
            use: {level: _iso_limit(limit) for level, limit in levels.items()}
            for use, levels in (found.limits.items() if found else ())
        },
    }


def _iso_limit(limit: Limit) -> Document:
    return {
        "mark": limit.mark, "crossing_iso": limit.crossing, "low": limit.low, "high": limit.high, "at_least": limit.at_least,
        "criterion": limit.criterion_key or None, "reason": limit.reason or None, "doubts": list(limit.doubts),
    }  # fmt: skip


def ladder_documents(
    exposures: FoundExposures | None, penalties: Sequence[Penalty], invariance: Invariance
) -> Document:
    """What exposure ladders and ISO ladders of one light add to a body."""
    push = exposures.push if exposures else no_ladder()
    pull = exposures.pull if exposures else no_ladder()
    return {
        "push_limit_stops": _stop_limit(push["usable"]), "pull_limit_stops": _stop_limit(pull["usable"]),
        "push_limits": {level: _stop_limit(limit) for level, limit in push.items()},
        "pull_limits": {level: _stop_limit(limit) for level, limit in pull.items()},
        "exposure_steps": [
            {"file": name, "nominal_stops": nominal, "measured_stops": quantity(measured)}
            for name, nominal, measured in (exposures.steps if exposures else ())
        ],
        "black_error_dn": {c: quantity(q) for c, q in (exposures.black_error_dn if exposures else {}).items()},
        "iso_vs_push": [
            {"shot_iso": one.shot_iso, "wanted_iso": one.wanted_iso, "level_e": one.level_e,
             "penalty_stops": quantity(one.stops), "kind": one.kind}
            for one in penalties
        ],
        "invariant_from_iso": quantity(invariance.from_iso),
    }  # fmt: skip


def dark_document(found: FoundDarks | None) -> Document:
    """Long darks of one ISO; null where there are none."""
    if found is None:
        return {"dark": None}
    whole, longest = found.whole, found.longest
    current = whole.current
    return {
        "dark": {
            "iso": found.iso, "current_e_per_s": quantity(current.current), "temperature_c": whole.reference_c,
            "hidden": current.hidden,
            "by_temperature": [
                {"temperature_c": one.temperature_c, "current_e_per_s": quantity(one.current),
                 "from_noise_e_per_s": quantity(one.from_noise)}
                for one in found.by_temperature
            ],
            "doubling_c": quantity(whole.doubling), "glow_e_per_s": quantity(current.glow),
            "hot_per_mpix": [
                {"exposure_s": one.group.exposure_s, "temperature_c": one.group.temperature_c,
                 **quantity(whole.hot_per_mpix(one))}
                for one in whole.off if one.pixels is not None
            ],
            "hot_showing_per_mpix": [
                {"exposure_s": one.group.exposure_s, "temperature_c": one.group.temperature_c,
                 **quantity(whole.showing_per_mpix(one))}
                for one in whole.off if one.pixels is not None
            ],
            "longest_usable_s": quantity(longest[AS_SHOT].quantity),
            "longest_usable": {answer: quantity(one.quantity) for answer, one in longest.items()},
            "faults": [
                {"exposure_s": one.group.exposure_s, "code": one.code, "reason": f"{one.words} {one.remedy}"}
                for one in whole.faults
            ],
        }
    }  # fmt: skip


def _stop_limit(limit: StopLimit) -> Document:
    """A limit as a quantity; its remark names the criterion, or says that the ladder ended first."""
    if limit.stops is None:
        notes = (limit.why,) if limit.why else ()
    elif limit.at_least:
        notes = (Note(Remark.LADDER_ENDS),)
    else:
        notes = (Note(Remark.LIMITED_BY, (limit.criterion,)),) if limit.criterion else ()
    return quantity(Quantity(limit.stops, limit.low, limit.high, 0, notes))


def problem(error: FrameError) -> Document:
    """A file that failed: its name, what happened, and what to do."""
    return {"file": str(error.path), "code": error.code, "reason": f"{error.reason} {error.remedy}".strip()}


def characterisation(bodies: Iterable[Document], problems: Iterable[FrameError]) -> Document:
    """The whole answer of ``yellowjacket characterise --json``."""
    return {"schema": CHARACTERISATION, "bodies": list(bodies), "problems": [problem(one) for one in problems]}
