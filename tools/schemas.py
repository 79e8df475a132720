"""Writes the schemas of plans, profiles and sittings in docs/ from the types that read and write them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from yellowjacket.bench.exchange.document_types import SittingDocument
from yellowjacket.core.limits.tolerance_file import ProfileDocument
from yellowjacket.core.planning.plan_file import PlanDocument


def schema_of(document: Any, title: str) -> dict[str, Any]:
    """The JSON schema of a document (draft 2020-12), as its files in docs/ say."""
    made = _plain(TypeAdapter(document).json_schema())
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **made}


def _plain(part: Any) -> Any:
    """A schema without the titles that repeat what the fields are called; objects have no fields but those named."""
    if isinstance(part, list):
        return [_plain(one) for one in part]
    if not isinstance(part, dict):
        return part
    closed = {"additionalProperties": False} if part.get("type") == "object" and "properties" in part else {}
    return closed | {name: _plain(one) for name, one in part.items() if name != "title" or not isinstance(one, str)}


DOCS = Path(__file__).parents[1] / "docs"
SCHEMAS = {
    "plan.schema.json": schema_of(PlanDocument, "A Yellowjacket plan"),
    "sitting.schema.json": schema_of(SittingDocument, "A Yellowjacket sitting"),
    "tolerance.schema.json": schema_of(ProfileDocument, "A Yellowjacket tolerance profile"),
}

if __name__ == "__main__":
    for name, schema in SCHEMAS.items():
        (DOCS / name).write_text(json.dumps(schema, indent=1, ensure_ascii=False) + "\n")
