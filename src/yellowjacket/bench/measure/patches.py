"""Patches of a ladder: proposed, drawn, moved, laid out as a chart's grid, copied to the other bodies."""

from __future__ import annotations

from collections.abc import Sequence

from django.db import transaction

from yellowjacket.bench.intake.originals import unusable
from yellowjacket.bench.intake.problems import misfit_from
from yellowjacket.bench.jobs.executor import run_all
from yellowjacket.bench.models import Frame, Ladder, Patch, Reading, Rung
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.workers import propose_from
from yellowjacket.core.metrology.measurands import Measurand
from yellowjacket.core.patches.chart_grid import Point, grid_cells
from yellowjacket.core.patches.uniform import Proposal
from yellowjacket.core.raw.rect import Rect, even_rect
from yellowjacket.core.readings.patch import UNIFORM

# One of each at most, named by their role; proposals replace these and the fields.
SINGLES = (Patch.Role.GREY, Patch.Role.SHADOW, Patch.Role.BLACK, Patch.Role.HIGHLIGHT)
PROPOSED = (*SINGLES, Patch.Role.FIELD)
# What a tester may draw, and what a grid may lay out.
DRAWN = (*SINGLES, Patch.Role.TEXTURE, Patch.Role.COLOUR_TEXTURE, Patch.Role.OTHER)
LAID_OUT = (Patch.Role.COLOUR, Patch.Role.WEDGE)
_NAME_LENGTH = 40
# Rungs on which a mid-grey is sought before it is said that there is none.
_TRIED = 3
# Readings of a rung that go with a grid.
_OF_GRIDS: dict[str, tuple[str, ...]] = {
    Patch.Role.COLOUR: (Measurand.COLOUR_DE00, Measurand.COLOUR_SEPARATION),
    Patch.Role.WEDGE: (
        Measurand.WEDGE_SNR1,
        Measurand.WEDGE_SNR2,
        Measurand.WEDGE_SNR4,
        Measurand.WEDGE_SNR10,
        Measurand.WEDGE_START,
        Measurand.WEDGE_TOLD_APART,
        Measurand.WEDGE_FLOOR,
    ),
}


def propose(ladder: Ladder) -> Sequence[Patch]:
    """Propose patches from the reference rung's frames and store them; what was drawn by hand stays.

    Refuses when no rung has a frame, or none of it is grey.
    """
    candidates = _frames_for_proposals(ladder)
    out = unusable(ladder.sitting, [path for _, files in candidates for path in files])
    for rung, files in [one for one in candidates if not out.keys() & set(one[1])][:_TRIED]:
        outcome = next(iter(run_all(propose_from, [files])))[1]
        if isinstance(outcome, Exception):
            misfit = misfit_from(outcome)
            raise Refusal(f"{rung}: a frame {misfit.reason} {misfit.remedy}")
        if any(p.role == "grey" for p in outcome):
            return _replace_proposed(ladder, outcome)
    raise Refusal(
        f"No uniform neutral area near mid-grey was found on {candidates[0][0]}. Put a grey card into the scene, or draw the "
        "grey patch by hand on the Measure page."
    )


def _frames_for_proposals(ladder: Ladder) -> list[tuple[Rung, tuple[str, ...]]]:
    """Rungs with the files of two light frames, of one where no rung has two, the likeliest to show a mid-grey first.

    That is the reference rung; of a ladder held fixed, whose low marks are dark, the highest.
    """
    rungs = list(ladder.rungs.all())
    reference = ladder.reference_rung(rungs)
    if ladder.kind == Ladder.Kind.ISO and ladder.method == Ladder.Method.FIXED:
        reference = max(rungs, key=lambda rung: rung.iso)
    files = Frame.objects.files_of(rungs)
    ordered = sorted(rungs, key=lambda rung: abs(rung.position - reference.position))
    found = [(rung, tuple(files[rung.pk].light[:2])) for rung in ordered]
    most = max((len(pair) for _, pair in found), default=0)
    if not most:
        raise Refusal("No rung has a light frame yet: shoot or import one.")
    return [(rung, pair) for rung, pair in found if len(pair) == most]


@transaction.atomic
def _replace_proposed(ladder: Ladder, proposals: Sequence[Proposal]) -> list[Patch]:
    _take_away(ladder, PROPOSED)
    taken = set(ladder.patches.values_list("name", flat=True))
    fields = 0
    patches = []
    for proposal in proposals:
        fields += proposal.role == "field"
        name = f"field {fields}" if proposal.role == "field" else proposal.role
        if name not in taken:
            r = proposal.rect
            patches.append(Patch(ladder=ladder, name=name, role=proposal.role, x=r.x, y=r.y, w=r.w, h=r.h))
    return Patch.objects.bulk_create(patches)


def place_patch(ladder: Ladder, name: str, x: float, y: float, w: float, h: float, *, role: str = "") -> Patch:
    """Move the patch of a name, or draw a new one of a role; kept even and inside the frame.

    Grey, shadow and black are there once and named so; ``role`` of others is wanted when they are new.
    Refuses unknown roles, names that are empty or too long, and ladders without frames.
    """
    name = " ".join(name.split())
    existing = ladder.patches.filter(name=name).first()
    role = existing.role if existing else name if name in SINGLES else role
    if role not in DRAWN and existing is None:
        words = ", ".join(Patch.Role(one).label for one in DRAWN)
        raise Refusal(f"There is no patch called {name!r}. A new one is drawn as {words}.")
    if not name or len(name) > _NAME_LENGTH:
        raise Refusal(f"Give the patch a name of 1 to {_NAME_LENGTH} characters.")
    if role in SINGLES and name != role:
        raise Refusal(f"The {Patch.Role(role).label} patch is there once, and is called so. Move it instead.")
    rect = even_rect(x, y, w, h, *Frame.objects.size_of(ladder))
    if existing is None:
        return Patch.objects.create(ladder=ladder, name=name, role=role, x=rect.x, y=rect.y, w=rect.w, h=rect.h)
    existing.x, existing.y, existing.w, existing.h = rect.x, rect.y, rect.w, rect.h
    existing.save(update_fields=["x", "y", "w", "h"])
    return existing


def rename_patch(ladder: Ladder, name: str, new: str) -> Patch:
    """Give a patch drawn by hand another name. Refuses names that are taken, empty or kept for one role."""
    patch, new = _by_name(ladder, name), " ".join(new.split())
    if patch.role in PROPOSED:
        raise Refusal(f"“{patch.name}” is named by what it is for.")
    if not new or len(new) > _NAME_LENGTH or new in PROPOSED:
        raise Refusal(
            f"Give the patch a name of 1 to {_NAME_LENGTH} characters that is none of grey, shadow, black, highlight."
        )
    if ladder.patches.exclude(pk=patch.pk).filter(name=new).exists():
        raise Refusal(f"There is a patch called “{new}” already.")
    patch.name = new
    patch.save(update_fields=["name"])
    return patch


def remove_patch(ladder: Ladder, name: str) -> None:
    """Take a patch away with its readings; of a wedge or colour grid all of its patches. Refuses the grey patch."""
    patch = _by_name(ladder, name)
    if patch.role == Patch.Role.GREY:
        raise Refusal("The grey patch is the reference for everything and stays: move it instead.")
    if patch.role in LAID_OUT:
        _take_away(ladder, (patch.role,))
        Reading.objects.filter(rung__ladder=ladder, quantity__in=_OF_GRIDS[patch.role]).delete()
    else:
        _forget(ladder, [patch])
        patch.delete()


def _take_away(ladder: Ladder, roles: Sequence[str]) -> None:
    """Delete the patches of some roles with their readings."""
    patches = ladder.patches.filter(role__in=roles)
    _forget(ladder, list(patches))
    patches.delete()


def _forget(ladder: Ladder, patches: Sequence[Patch]) -> None:
    """Readings go with their patch: a patch that comes back in the same place must be measured again."""
    names = {patch.name for patch in patches}
    whole = any(patch.role in UNIFORM for patch in patches)
    for rung in ladder.rungs.all():
        rung.measured_patches = {name: digest for name, digest in rung.measured_patches.items() if name not in names}
        rung.measured_inputs = "" if whole else rung.measured_inputs
        rung.save(update_fields=["measured_patches", "measured_inputs"])


def _by_name(ladder: Ladder, name: str) -> Patch:
    patch = ladder.patches.filter(name=name).first()
    if patch is None:
        raise Refusal(f"There is no patch called “{name}” on this ladder.")
    return patch


@transaction.atomic
def lay_grid(
    ladder: Ladder, role: str, corners: Sequence[Point], rows: int, columns: int, *, step_stops: float = 1.0
) -> list[Patch]:
    """Lay the patches of a chart between its four corners, in place of an earlier grid of that role.

    A wedge's steps are named in order, lightest first as given; ``step_stops`` apart.
    Refuses roles that no grid has, corners that span none, cells too small or outside the frame.
    """
    if role not in LAID_OUT:
        raise Refusal("Choose colour patches or a wedge for the grid.")
    if not 0.05 <= step_stops <= 4:
        raise Refusal("The steps of a wedge lie 0.05 to 4 stops apart.")
    width, height = Frame.objects.size_of(ladder)
    try:
        cells = grid_cells(corners, rows, columns)
    except ValueError as error:
        raise Refusal(f"The grid cannot be laid: {error}.") from error
    if not all(cell.fits(width, height) for cell in cells):
        raise Refusal(f"The grid extends beyond the frame of {width} × {height} px: move its corners inside.")
    _take_away(ladder, (role,))
    names = _grid_names(role, rows, columns)
    return Patch.objects.bulk_create(
        Patch(ladder=ladder, name=name, role=role, x=r.x, y=r.y, w=r.w, h=r.h, step_stops=step_stops)
        for name, r in zip(names, cells, strict=True)
    )


def _grid_names(role: str, rows: int, columns: int) -> list[str]:
    if role == Patch.Role.WEDGE:
        return [f"wedge {n + 1}" for n in range(rows * columns)]
    return [f"row {row + 1} patch {column + 1}" for row in range(rows) for column in range(columns)]


@transaction.atomic
def copy_patches(ladder: Ladder) -> list[Ladder]:
    """Put this ladder's patches on every other ladder of the sitting that has frames, scaled to their size.

    Patches of theirs are replaced. Returns the ladders that got them. Refuses where there is no other.
    """
    width, height = Frame.objects.size_of(ladder)
    patches = list(ladder.patches.all())
    done = []
    for other in ladder.sitting.ladders.exclude(pk=ladder.pk):
        size = Frame.objects.filter(shot__rung__ladder=other).values_list("width", "height").first()
        if size is None:
            continue
        _take_away(other, Patch.Role.values)
        scale = size[0] / width, size[1] / height
        Patch.objects.bulk_create(_scaled(patch, other, scale, size) for patch in patches)
        done.append(other)
    if not done:
        raise Refusal("No other ladder of this sitting has frames yet.")
    return done


def _scaled(patch: Patch, ladder: Ladder, scale: tuple[float, float], size: tuple[int, int]) -> Patch:
    across, down = scale
    rect: Rect = even_rect(patch.x * across, patch.y * down, patch.w * across, patch.h * down, *size)
    return Patch(
        ladder=ladder, name=patch.name, role=patch.role, x=rect.x, y=rect.y, w=rect.w, h=rect.h,
        step_stops=patch.step_stops,
    )  # fmt: skip
