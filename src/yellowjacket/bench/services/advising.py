"""What a body's own records say of pictures that are still to be taken."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yellowjacket.bench.models import Body, Ladder, Reading, Rung
from yellowjacket.bench.services import darks
from yellowjacket.core import stops
from yellowjacket.core.advice import BodyFindings, MarkFindings
from yellowjacket.core.quantity import Quantity, missing

_MODEL = ("read_noise_e", "saturation_e", "prnu", "flags")


@dataclass(frozen=True, slots=True)
class Known:
    """A body's findings with the ladder they come from, and in words what they rest on."""

    findings: BodyFindings
    ladder: Ladder
    words: str


def known_of(body: Body, celsius: float | None = None) -> Known | None:
    """Findings of the newest measured ISO ladder of a body, with its dark signal at a temperature; None without one.

    Ladders of which most rungs have a noise model come first; where two have the same, the newer sitting.
    """
    ladders = Ladder.objects.filter(body=body, kind=Ladder.Kind.ISO).select_related("sitting")
    models = _models([ladder.pk for ladder in ladders])
    measured = [ladder for ladder in ladders if len(models.get(ladder.pk, {})) > 0]
    if not measured:
        return None
    best = max(measured, key=lambda ladder: (min(len(models[ladder.pk]), 4), ladder.sitting.held_on, ladder.pk))
    marks = []
    for rung in Rung.objects.filter(pk__in=models[best.pk]).order_by("iso"):
        parts = models[best.pk][rung.pk]
        smoothed = "smoothed" in parts["flags"].reason if "flags" in parts else False
        nothing = missing("not measured")
        marks.append(
            MarkFindings(
                rung.iso, stops.exact_iso(rung.iso), parts.get("read_noise_e", nothing), parts.get("saturation_e", nothing),
                parts["prnu"].value or 0.0 if "prnu" in parts else 0.0, smoothed,
            )
        )  # fmt: skip
    dark, words = _dark(body, celsius)
    said = f"from {best.sitting}, {best.sitting.held_on:%-d %B %Y}, {len(marks)} ISO marks{words}"
    return Known(BodyFindings(marks, dark), best, said)


def _models(ladders: list[int]) -> Mapping[int, Mapping[int, Mapping[str, Quantity]]]:
    """Noise models by ladder and rung: one query."""
    found: dict[int, dict[int, dict[str, Quantity]]] = {}
    rows = Reading.objects.filter(
        rung__ladder__in=ladders, patch=None, use=None, channel="all", quantity__in=_MODEL
    ).select_related("rung")
    for row in rows:
        found.setdefault(row.rung.ladder_id, {}).setdefault(row.rung_id, {})[row.quantity] = row.result
    return {
        ladder: {
            pk: parts for pk, parts in rungs.items()
            if "read_noise_e" in parts and parts["read_noise_e"].value and "saturation_e" in parts and parts["saturation_e"].value
        }
        for ladder, rungs in found.items()
    }  # fmt: skip


def _dark(body: Body, celsius: float | None) -> tuple[float | None, str]:
    """Mean dark signal, e⁻/s, at a temperature, and how that is known."""
    found = darks.of_body(body)
    if found is None or found.whole.shadow is None or found.whole.shadow.current.value is None:
        return None, ""
    current, reference = found.whole.shadow.current, found.whole.reference_c
    if celsius is None or reference is None:
        return max(current.value or 0.0, 0.0), ", dark signal as measured"
    warmed = (current.value or 0.0) * 2.0 ** ((celsius - reference) / found.whole.doubling_c)
    return max(warmed, 0.0), f", dark signal of {reference:.0f} °C taken to {celsius:.0f} °C"
