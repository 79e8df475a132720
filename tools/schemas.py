"""Writes the schemas of plans and profiles in docs/ from the types that read them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from yellowjacket.core.limits.tolerance_file import ProfileDocument
from yellowjacket.core.planning.plan_file import PlanDocument


def schema_of(model: type[BaseModel], title: str) -> dict[str, Any]:
    """The JSON schema of a document (draft 2020-12), as its files in docs/ say."""
    made = _untitled(model.model_json_schema())
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **made}


def _untitled(part: Any) -> Any:
    """A schema without the titles that repeat what the fields are called."""
    if isinstance(part, list):
        return [_untitled(one) for one in part]
    if not isinstance(part, dict):
        return part
    return {name: _untitled(one) for name, one in part.items() if name != "title" or not isinstance(one, str)}


DOCS = Path(__file__).parents[1] / "docs"
SCHEMAS = {
    "plan.schema.json": schema_of(PlanDocument, "A Yellowjacket plan"),
    "tolerance.schema.json": schema_of(ProfileDocument, "A Yellowjacket tolerance profile"),
}

if __name__ == "__main__":
    for name, schema in SCHEMAS.items():
        (DOCS / name).write_text(json.dumps(schema, indent=1, ensure_ascii=False) + "\n")
