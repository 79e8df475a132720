"""Write THIRD-PARTY.md: everything that ships with the application or is installed for it, with its licence.

`.venv/bin/python tools/third_party.py`; with `--check` it only says whether the file is current.
"""

from __future__ import annotations

import re
import sys
from importlib.metadata import metadata
from pathlib import Path

ROOT = Path(__file__).parent.parent
FILE = ROOT / "THIRD-PARTY.md"
_STATIC = ROOT / "src/yellowjacket/web/static/web"
# What lies beside each file that ships: its own licence text.
_SHIPPED = {
    "htmx.org": ("0BSD", "vendor/htmx.min.js", "vendor/htmx.LICENSE.txt"),
    "@fontsource-variable/archivo": ("OFL-1.1", "fonts/archivo.woff2, fonts/archivo-ext.woff2", "fonts/archivo.LICENSE.txt"),
    "@fontsource-variable/spline-sans-mono": (
        "OFL-1.1", "fonts/spline-sans-mono.woff2", "fonts/spline-sans-mono.LICENSE.txt",
    ),
}  # fmt: skip
_PINNED = re.compile(r"^([A-Za-z0-9_.-]+)==([^ ;\\]+)", re.MULTILINE)
_NAMES = {
    "MIT License": "MIT", "BSD License": "BSD", "Apache Software License": "Apache-2.0", "BSD": "BSD",
}  # fmt: skip


def licence_of(name: str) -> str:
    """As the package states it: an SPDX expression, else its classifier, else a word. Raises ValueError where it says nothing."""
    said = metadata(name)
    classifiers = [one.rpartition(" :: ")[2] for one in said.get_all("Classifier", []) if one.startswith("License ::")]
    found = said.get("License-Expression") or next(iter(classifiers), "") or (said.get("License") or "").strip()
    if not found or "\n" in found:
        raise ValueError(f"{name} states no licence: look it up and add it here")
    return _NAMES.get(found, found)


def text() -> str:
    """The whole file."""
    versions = dict(line.rsplit(" ", 1) for line in (_STATIC / "vendor/VERSIONS.txt").read_text().splitlines())
    lines = [
        "# Third-party software", "",
        "Yellowjacket itself is licensed under GPL-3.0-or-later (LICENSE). Written by tools/third_party.py.", "",
        "## Shipped with it", "", "| name | version | licence | files |", "|---|---|---|---|",
    ]  # fmt: skip
    for name, (licence, files, beside) in _SHIPPED.items():
        if not (_STATIC / beside).is_file():
            raise ValueError(f"{name} ships without its licence text {beside}")
        lines.append(f"| {name} | {versions[name]} | {licence} | {files} |")
    lines += ["", "## Installed for it", "", "| package | version | licence |", "|---|---|---|"]
    pinned = _PINNED.findall((ROOT / "requirements/base.txt").read_text())
    lines += [
        f"| {name} | {version} | {licence_of(name)} |" for name, version in sorted(pinned, key=lambda one: one[0])
    ]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if FILE.is_file() and FILE.read_text() == text() else "THIRD-PARTY.md is out of date: run this tool")
    FILE.write_text(text())
