"""Accuracy and coverage against simulated truth: every estimator that limits rest on, on fresh bodies whose numbers are known."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from yellowjacket import __version__, last_checks
from yellowjacket.benchmarks.truths import darks, judging, ladders, noise, practice
from yellowjacket.benchmarks.truths.row import Row

_SEED = 20260314
# Every check with what starts its chance. Whole: only where nothing less tells anything.
_CHECKS: Sequence[Callable[[np.random.Generator, float], Iterator[Row]]] = (
    noise.noise_at_size, noise.lines_and_levels, noise.bands_of_lines, ladders.second_bases, judging.graders_with_a_line,
    noise.noise_as_seen, noise.smoothed_noise, ladders.exposure_steps, ladders.equal_light, darks.showing, darks.hits,
    darks.longest_exposures, practice.limits_of_testers,
)  # fmt: skip


def rows(share: float = 1.0) -> Iterator[Row]:
    """All checks, one after the other. ``share``: of the bodies, frames and graders of the whole run."""
    for n, check in enumerate(_CHECKS):
        yield from check(np.random.default_rng([_SEED, n]), share)


def table(found: Sequence[Row]) -> str:
    """The rows as Markdown."""
    head = ["| Quantity | Condition | Goal | Found | |", "| --- | --- | --- | --- | --- |"]
    body = [
        f"| {r.what} | {r.condition} | {r.goal} | {r.found} | {'holds' if r.holds else '**missed**'} |" for r in found
    ]
    return "\n".join([*head, *body])


def run(share: float, report: Callable[[str], None], folder: Path) -> int:
    """Report the table, and keep it in the data folder ``folder`` where there is one; 1 where something is missed."""
    found = list(rows(share))
    report(table(found))
    lines = [
        {"what": r.what, "condition": r.condition, "goal": r.goal, "found": r.found, "holds": "yes" if r.holds else ""}
        for r in found
    ]
    looked = last_checks.Looked(datetime.now(UTC), __version__, share >= 1, lines)
    last_checks.keep(folder, last_checks.ACCURACY, looked)
    return 0 if all(one.holds for one in found) else 1
