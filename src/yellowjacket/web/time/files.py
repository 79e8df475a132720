"""Outstanding pixels in open formats: CSV, FITS table, defect list, masks as FITS and PNG."""

from __future__ import annotations

import csv
import io

import numpy as np
from django.http import Http404, HttpRequest, HttpResponse
from django.utils.text import slugify
from django.views.decorators.http import require_GET
from PIL import Image

from yellowjacket.bench.darks import measure
from yellowjacket.core.darks.hot_pixels import KINDS, TRANSIENT, PixelTable
from yellowjacket.core.export.fits import MASK_BITS, Header, image_bytes, mask_of, table_bytes
from yellowjacket.web.sitting_page import SittingPage

CSV_COLUMNS = (
    "x", "y", "channel", "class", "e_per_s", "excess_dn", "spreads", "exposure_s", "temperature_c", "iso", "make", "model",
    "serial",
)  # fmt: skip


class _Pixels:
    """The pixels of the current rung, or of the longest time when its own darks are too few."""

    def __init__(self, request: HttpRequest, sitting_id: int) -> None:
        self.page = SittingPage(request, sitting_id, "time")
        found = measure.measured(self.page.ladder)
        if found is None:
            raise Http404
        one = found.by_rung.get(self.page.rung.pk)
        if one is None or one.pixels is None:
            one = next((other for other in reversed(found.whole.off) if other.pixels is not None), None)
        if one is None or one.pixels is None:
            raise Http404
        self.findings, self.table = one, one.pixels
        self.rates = found.whole.rates_e_per_s(one)

    @property
    def header(self) -> Header:
        """What the pixels were told from."""
        body, group = self.page.ladder.body, self.findings.group
        return {
            "INSTRUME": (str(body), "camera body"), "SERIAL": (body.serial, "of the body"),
            "ISO": (self.page.ladder.metered_iso, "as set"), "EXPTIME": (group.exposure_s, "[s] of the darks"),
            "CCD-TEMP": (group.temperature_c, "[C] sensor"), "DATE-OBS": (self.page.sitting.held_on.isoformat(), ""),
        }  # fmt: skip

    def attachment(self, data: bytes | str, kind: str, ending: str) -> HttpResponse:
        """The file with a name that says what it is."""
        body, group = self.page.ladder.body, self.findings.group
        name = f"{slugify(str(body))}-iso{self.page.ladder.metered_iso}-{group.exposure_s:g}s-{ending}"
        response = HttpResponse(data, content_type=kind)
        response["Content-Disposition"] = f'attachment; filename="{name}"'
        return response


def _lasting(table: PixelTable) -> np.ndarray:
    """Rows without what struck one frame only."""
    return table.rows[table.rows["kind"] != KINDS.index(TRANSIENT)]


@require_GET
def pixels_csv(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Every outstanding pixel, one row each; coordinates in the full raw frame."""
    found = _Pixels(request, sitting_id)
    group, body = found.findings.group, found.page.ladder.body
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(CSV_COLUMNS)
    where = (f"{group.exposure_s:g}", "" if group.temperature_c is None else f"{group.temperature_c:.2f}",
             found.page.ladder.metered_iso, body.make, body.model, body.serial)  # fmt: skip
    for one, rate in zip(found.table.pixels(), found.rates, strict=True):
        told = ("" if rate is None else f"{rate:.4g}", f"{one.excess_dn:.4g}", f"{one.spreads:.3g}")
        writer.writerow((one.x, one.y, one.channel, one.kind, *told, *where))
    return found.attachment(buffer.getvalue(), "text/csv; charset=utf-8", "pixels.csv")


@require_GET
def pixels_fits(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The same as a FITS binary table."""
    found = _Pixels(request, sitting_id)
    rows = found.table.rows
    rates = np.array([np.nan if rate is None else rate for rate in found.rates], np.float32)
    data = table_bytes(
        [
            ("X", "J", "pixel", rows["x"].astype(np.int32)), ("Y", "J", "pixel", rows["y"].astype(np.int32)),
            ("CHANNEL", "2A", "", np.array(found.table.channels)[rows["channel"]]),
            ("CLASS", "9A", "", np.array(KINDS)[rows["kind"]]),
            ("RATE", "E", "electron/s", rates), ("EXCESS", "E", "adu", rows["excess_dn"]),
            ("SPREAD", "E", "adu", rows["spread_dn"]),
        ],
        found.header,
    )  # fmt: skip
    return found.attachment(data, "application/fits", "pixels.fits")


@require_GET
def defects(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A plain defect list: x and y of everything that lasts, one pixel a line, counted from 0."""
    found = _Pixels(request, sitting_id)
    width, height = found.table.size
    lines = [f"# defective pixels of {found.page.ladder.body} {found.page.ladder.body.serial}, {width} x {height}, "
             "x y counted from 0 at the upper left"]  # fmt: skip
    lines += [f"{row['x']} {row['y']}" for row in np.sort(_lasting(found.table), order=("y", "x"))]
    return found.attachment("\n".join(lines) + "\n", "text/plain; charset=utf-8", "defects.txt")


def _mask(found: _Pixels) -> np.ndarray:
    rows = _lasting(found.table)
    return mask_of(found.table.size, rows["x"], rows["y"], [KINDS[kind] for kind in rows["kind"]])


@require_GET
def mask_fits(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """A mask of the frame: 0 good, else the bits of the classes, which the header names."""
    found = _Pixels(request, sitting_id)
    bits = {f"BIT{n}": (kind, f"value {bit}") for n, (kind, bit) in enumerate(MASK_BITS.items())}
    return found.attachment(image_bytes(_mask(found), {**found.header, **bits}), "application/fits", "mask.fits")


@require_GET
def mask_png(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """The mask as a picture: white where a pixel is bad."""
    found = _Pixels(request, sitting_id)
    buffer = io.BytesIO()
    Image.fromarray(np.where(_mask(found) > 0, 255, 0).astype(np.uint8)).save(buffer, "PNG")
    return found.attachment(buffer.getvalue(), "image/png", "mask.png")
