"""Plans out and in: as documents, as templates, and fitted to the bodies of the register."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date

from yellowjacket.bench.models import Body, PlanTemplate, Sitting
from yellowjacket.bench.plan.sittings import LadderRequest, UseSpec, create_sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.planning.body_limits import PlanError
from yellowjacket.core.planning.plan import plan_ladder
from yellowjacket.core.planning.plan_file import PlanFileError, PlannedFor, plan_document, read_plan, spec_from
from yellowjacket.core.planning.refit import fit_to_body

LARGEST_BYTES = 1_000_000


@dataclass(frozen=True, slots=True)
class FittedPlan:
    """A plan ready to be stored. ``differences``: a sentence for all that was re-fitted."""

    name: str
    held_equal: str
    ladders: tuple[LadderRequest, ...]
    differences: tuple[str, ...]


def document_of(sitting: Sitting) -> dict[str, object]:
    """The plan of a sitting as a document, see docs/plans.md."""
    ladders = [
        PlannedFor(ladder.body.make, ladder.body.model, ladder.body.serial, spec_from(ladder.spec))
        for ladder in sitting.ladders.select_related("body")
    ]
    return plan_document(sitting.name, ladders, sitting.held_equal)


def save_template(sitting: Sitting, name: str) -> PlanTemplate:
    """Keep the plan of a sitting under a name; the same name replaces what was kept before."""
    if not name.strip():
        raise Refusal("Give the template a name.")
    template, _ = PlanTemplate.objects.update_or_create(
        name=name.strip()[:80], defaults={"document": document_of(sitting)}
    )
    return template


def parse_document(data: bytes) -> object:
    """The JSON of an uploaded plan. Refuses what is too large or no JSON."""
    if len(data) > LARGEST_BYTES:
        raise Refusal("This file is larger than a plan can be (1 MB).")
    try:
        return json.loads(data)
    except (ValueError, RecursionError) as error:
        raise Refusal(
            f"This is not a plan file: it is not JSON ({str(error)[:100]}). Export one from a Plan page to see the form."
        ) from error


def fit_plan(document: object, body: Body | None) -> FittedPlan:
    """Read a plan and fit every ladder to ``body``, or to the body it names when None.

    Refuses unknown versions, unknown bodies and ladders that cannot be, saying which.
    """
    try:
        name, held_equal, planned = read_plan(document)
    except PlanFileError as error:
        raise Refusal(str(error)) from error
    requests, differences = [], []
    for n, one in enumerate(planned, start=1):
        target = body or _named_body(one)
        spec, changed = fit_to_body(one.spec, target.limits)
        differences += [f"Ladder {n} on {target}: {text}." for text in changed]
        try:
            plan_ladder(spec, target.limits)
        except PlanError as error:
            raise Refusal(f"Ladder {n} cannot be shot with {target}: {error.reason}") from error
        requests.append(LadderRequest(target, spec))
    valid = Sitting.HeldEqual.values
    return FittedPlan(name, held_equal if held_equal in valid else valid[0], tuple(requests), tuple(differences))


def repeat(sitting: Sitting, body: Body | None, held_on: date) -> tuple[Sitting, FittedPlan]:
    """The same plan as a new sitting: question, light, lens, uses and profile carried over.

    Fitted to ``body``, or to the bodies it names when None. Refuses as fit_plan does.
    """
    fitted = fit_plan(document_of(sitting), body)
    name = f"{sitting.name}, {'again' if body is None else body.model}"[:120]
    carried = (
        "scene", "question", "expectation", "lens", "held_equal", "mains_hz", "modulation", "tripod", "starts_at",
        "lens_used", "light", "temperature_c", "profile",
    )  # fmt: skip
    again = Sitting(name=name, held_on=held_on, **{field: getattr(sitting, field) for field in carried})
    uses = [UseSpec.of(use) for use in sitting.uses.all()]
    return create_sitting(again, uses, fitted.ladders), fitted


def _named_body(planned: PlannedFor) -> Body:
    found = Body.objects.filter(make=planned.make, model=planned.model)
    body = found.filter(serial=planned.serial).first() or found.first()
    if body is None:
        raise Refusal(
            f"The plan is for {planned.make} {planned.model}, which is not in the register. Add that body, or choose "
            "another one to fit the plan to."
        )
    return body
