"""Names that nothing uses: functions, classes, methods and properties of the application.

What templates, settings and Django itself ask for by name counts as used; a field of a record may be there for archives.
Exits 1, with a line each, when there are any.
"""

from __future__ import annotations

import keyword
import re
import sys
from pathlib import Path

from vulture import Vulture

ROOT = Path(__file__).parents[1]
SRC = ROOT / "src/yellowjacket"
# What frameworks call by name, or find by a decorator; and which decoders are idle, which tests ask before they kill one.
BY_NAME = [
    "idle",
    "Meta",
    "Command",
    "prepare_value",
    "value_from_datadict",
    "clean_*",
    "process_view",
    "handle",
    "ordering",
    "verbose_name*",
    "indexes",
    "constraints",
    "default_auto_field",
    "name",
    "label",
    "help",
    "widgets",
    "fields",
    "labels",
    "field_order",
    "regex",
    "urlpatterns",
    "app_name",
    "handler*",
    "application",
    "BenchConfig",
    "WebConfig",
    "to_url",
    "not_found",
    "bad_request",
    "forbidden",
    "server_error",
    "media_type",
    "default_renderer",
    "use_required_attribute",
    "validate_unique",
    "extendMarkdown",
]
BY_DECORATOR = ["@handles*", "@register.*", "@receiver*", "@hookimpl*", "@njit*", "@guvectorize*", "@field_validator*"]


def main() -> int:
    """Look through the application."""
    found = Vulture(ignore_names=BY_NAME, ignore_decorators=BY_DECORATOR)
    found.scavenge([SRC], exclude=["*/migrations/*", "*/settings/*"])
    found.scan(
        "\n".join(f"_.{name}" for name in sorted(_asked_for_in_words()) if not keyword.iskeyword(name)),
        filename=Path("asked-for"),
    )
    unused = [one for one in found.get_unused_code(min_confidence=60) if one.typ not in ("variable", "attribute")]
    for one in unused:
        print(f"{one.filename.relative_to(ROOT)}:{one.first_lineno}: nothing uses the {one.typ} {one.name}")
    return 1 if unused else 0


def _asked_for_in_words() -> set[str]:
    """Identifiers in the tags of templates, in the settings, and in the settings of the tests."""
    names: set[str] = set()
    for template in SRC.rglob("*.html"):
        for tag in re.findall(r"\{[{%](.*?)[%}]\}", template.read_text(), re.S):
            names |= set(re.findall(r"[A-Za-z_]\w*", tag))
    for module in (SRC / "settings").glob("*.py"):
        names |= set(re.findall(r"[A-Za-z_]\w*", module.read_text()))
    return names


if __name__ == "__main__":
    sys.exit(main())
