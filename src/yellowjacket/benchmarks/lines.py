"""What every part of the benchmark prints: a figure, its goal, and whether it is met."""

from __future__ import annotations

from collections.abc import Callable


def line(report: Callable[[str], None], what: str, value: float, goal: float, unit: str) -> bool:
    """Report a figure that must not exceed its goal; whether it does not."""
    met = value <= goal
    report(f"{what}: {value:.2f} {unit} (goal {goal:g} {unit}, {'met' if met else 'missed'})")
    return met
