"""Sensor temperatures from a table of files."""

from __future__ import annotations

import csv
from pathlib import Path


def read_temperatures(path: Path) -> dict[str, float]:
    """°C by file name from a CSV with the columns file and temperature_c. Raises ValueError, naming the line."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise ValueError(f"{path.name} is not UTF-8 text: export it as CSV") from error
    return temperatures_of(text, path.name)


def temperatures_of(text: str, name: str) -> dict[str, float]:
    """°C by file name from the text of a table called ``name``, whatever its line ends. Raises ValueError, naming the line."""
    # Split here: line ends of old systems, and several kinds in one file, are no reason to fail.
    rows = csv.DictReader(text.splitlines())
    found: dict[str, float] = {}
    try:
        if not {"file", "temperature_c"} <= set(rows.fieldnames or ()):
            raise ValueError(f"{name} needs the columns file and temperature_c")
        for row in rows:
            said = str(row["temperature_c"] or "").strip()
            if not row["file"]:
                raise ValueError(f"{name}, line {rows.line_num}: names no file")
            try:
                celsius = float(said.replace(",", ".").replace("−", "-"))
            except ValueError as error:
                raise ValueError(f"{name}, line {rows.line_num}: {said[:40]!r} is not a temperature in °C") from error
            if not -60 <= celsius <= 100:
                raise ValueError(f"{name}, line {rows.line_num}: {celsius:g} °C is not a plausible camera temperature")
            found[Path(row["file"]).name] = celsius
    except csv.Error as error:
        raise ValueError(f"{name}, line {rows.line_num}: cannot be read as CSV ({error})") from error
    return found
