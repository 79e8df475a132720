"""Bodies from what their own frames say."""

from __future__ import annotations

import tempfile
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db.models import ProtectedError

from yellowjacket.bench.models import Body, Sitting
from yellowjacket.bench.refusal import Refusal
from yellowjacket.core.exposure.notation import counted
from yellowjacket.core.raw.first_look import inspect_file
from yellowjacket.core.raw.frame import FrameError


def body_values_from(upload: UploadedFile) -> dict[str, object]:
    """Form values for a body as one of its frames describes it. The upload is not kept. Refuses unusable files."""
    if (upload.size or 0) > settings.UPLOAD_MAX_BYTES:
        raise Refusal(f"{upload.name} is larger than {settings.UPLOAD_MAX_BYTES // 1024**2} MB. Choose another frame.")
    suffix = Path(upload.name or "").suffix[:8]
    with tempfile.NamedTemporaryFile(dir=settings.HOME / "cache", suffix=suffix) as file:
        for chunk in upload.chunks():
            file.write(chunk)
        file.flush()
        try:
            facts = inspect_file(file.name)
        except FrameError as error:
            raise Refusal(f"{upload.name} {error.reason} {error.remedy}") from error
    data = facts.metadata
    if not data.model:
        raise Refusal(f"{upload.name} does not say which body made it. Fill in the form by hand.")
    bits = max(8, int(facts.white_dn).bit_length())
    return {
        "make": data.make, "model": data.model, "serial": data.serial, "pixel_width": facts.width,
        "pixel_height": facts.height, "frame_mb": round(facts.size_bytes / 1e6, 1),
        "raw_modes": f"full {facts.width}×{facts.height} {bits}",
        "firmware": f"{data.firmware} {data.captured_at.date().isoformat()}" if data.firmware and data.captured_at else "",
    }  # fmt: skip


def delete(body: Body) -> None:
    """Delete a body that nothing belongs to. Refuses one that sittings or master darks are of."""
    sittings = Sitting.objects.filter(ladders__body=body).distinct().count()
    if sittings:
        raise Refusal(f"{body} is in {counted(sittings, 'sitting')}. Delete {'them' if sittings > 1 else 'it'} first.")
    try:
        body.delete()
    except ProtectedError as error:
        raise Refusal(f"{body} has master darks. Delete them on the Darks page first.") from error
