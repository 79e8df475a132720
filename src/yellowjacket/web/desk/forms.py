"""Forms of the desk: bodies and lenses."""

from __future__ import annotations

import re
from datetime import date
from typing import Any

from django import forms

from yellowjacket.bench.models import Body, Firmware, Lens
from yellowjacket.bench.typed import whole
from yellowjacket.web.fields import ShutterField, TypedNumbers

# name width×height bits: full 8832×5888 14
_RAW_MODE = re.compile(r"^(?P<name>\S+)\s+(?P<width>\d+)\s*[×x]\s*(?P<height>\d+)(?:\s+(?P<bits>\d+))?$")
_RAW_BITS = 14
_MOST_ISO = 100_000_000


class RawModesField(forms.CharField):
    """Raw modes as ``name width×height bits``, separated by semicolons, the full one first."""

    def clean(self, value: object) -> list[dict[str, object]]:
        """Modes as plain values, or a sentence that shows the form."""
        modes = []
        for text in (part.strip() for part in super().clean(value).split(";")):
            if not text:
                continue
            found = _RAW_MODE.match(text)
            if not found:
                raise forms.ValidationError(f"{text!r} is not a raw mode; write name, size, bits: full 8832×5888 14")
            modes.append({"name": found["name"], "width": int(found["width"]), "height": int(found["height"]),
                          "bits": int(found["bits"] or _RAW_BITS)})  # fmt: skip
        if len({mode["name"] for mode in modes}) < len(modes):
            raise forms.ValidationError("Two raw modes have the same name.")
        return modes

    def prepare_value(self, value: object) -> object:
        """Plain values back to text."""
        if not isinstance(value, list):
            return value
        return "; ".join(f"{mode['name']} {mode['width']}×{mode['height']} {mode['bits']}" for mode in value)


class IsoListField(forms.CharField):
    """ISO marks separated by commas or spaces."""

    def clean(self, value: object) -> list[int]:
        """Rising marks without repeats."""
        words = super().clean(value).replace(",", " ").split()
        marks = {whole(word, 1, _MOST_ISO) for word in words}
        if None in marks:
            raise forms.ValidationError("Write ISO marks as numbers: 100, 125, 160")
        return sorted(mark for mark in marks if mark is not None)

    def prepare_value(self, value: object) -> object:
        """A list back to text."""
        return ", ".join(str(iso) for iso in value) if isinstance(value, list) else value


class FirmwareField(forms.CharField):
    """Firmware versions as ``version date``, separated by semicolons."""

    def clean(self, value: object) -> list[tuple[str, date]]:
        """(version, since) pairs, or a sentence that shows the form."""
        found = []
        for text in (part.strip() for part in super().clean(value).split(";")):
            if not text:
                continue
            version, _, since = text.rpartition(" ")
            try:
                found.append((version.strip()[:80], date.fromisoformat(since)))
            except ValueError as error:
                raise forms.ValidationError(f"{text!r}: write version and date: 1.10 2026-01-31") from error
            if not version.strip():
                raise forms.ValidationError(f"{text!r}: write version and date: 1.10 2026-01-31")
        return found


class BodyForm(TypedNumbers, forms.ModelForm):
    """A body's name plate, dial, sensor, supply and standing."""

    fastest_shutter_s = ShutterField(label="Fastest shutter, mechanical", initial="1/8000")
    slowest_shutter_s = ShutterField(label="Slowest shutter", initial="30 s")
    electronic_fastest_s = ShutterField(label="Fastest, electronic", required=False)
    lenr_from_s = ShutterField(label="LENR from", required=False, initial="1 s")
    raw_modes = RawModesField(label="Raw modes", required=False, max_length=400)
    iso_list = IsoListField(label="ISO settings, if not in regular steps", required=False, max_length=600)
    firmware = FirmwareField(label="Firmware and since when", required=False, max_length=600)

    # Fields by the group they stand in.
    groups = (
        ("Name plate", ("make", "model", "serial", "nickname", "firmware")),
        ("Sensor and raw", ("sensor", "pixel_width", "pixel_height", "sensor_width_mm", "sensor_height_mm", "raw_modes",
                            "frame_mb")),
        ("ISO dial", ("lowest_iso", "native_lowest_iso", "native_highest_iso", "highest_iso", "iso_step", "iso_list")),
        ("Shutter and long-exposure noise reduction (LENR)",
         ("fastest_shutter_s", "electronic_fastest_s", "slowest_shutter_s", "bulb", "lenr_from_s", "lenr_switchable")),
        ("Battery", ("battery_minutes", "battery_frames", "setting_notes")),
        ("Standing", ("ownership", "production_unit", "price", "weight_g")),
    )  # fmt: skip

    class Meta:
        model = Body
        fields = (
            "make", "model", "serial", "nickname", "sensor", "pixel_width", "pixel_height", "sensor_width_mm", "sensor_height_mm",
            "raw_modes", "frame_mb", "lowest_iso", "native_lowest_iso", "native_highest_iso", "highest_iso", "iso_step",
            "iso_list", "fastest_shutter_s", "electronic_fastest_s", "slowest_shutter_s", "bulb", "lenr_from_s",
            "lenr_switchable", "battery_minutes", "battery_frames", "setting_notes", "ownership", "production_unit",
            "price", "weight_g",
        )  # fmt: skip
        labels = {
            "pixel_width": "Pixels across", "pixel_height": "Pixels down", "lowest_iso": "Lowest ISO",
            "native_lowest_iso": "Lowest native ISO", "native_highest_iso": "Highest native ISO",
            "highest_iso": "Highest ISO", "iso_step": "Dial has", "bulb": "Has bulb", "lenr_switchable": "LENR can be switched",
            "battery_minutes": "Minutes of exposure", "battery_frames": "or frames", "setting_notes": "How settings are reached",
            "production_unit": "Production unit", "ownership": "Owned",
        }  # fmt: skip
        help_texts = {
            "serial": "Leave empty to accept frames of any serial number.",
            "lowest_iso": "Including extended settings.",
        }
        widgets = {"setting_notes": forms.Textarea(attrs={"rows": 3})}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        if self.instance.pk:
            versions = self.instance.firmware_versions.all()
            self.initial["firmware"] = "; ".join(f"{one.version} {one.since.isoformat()}" for one in versions)

    @property
    def fieldsets(self) -> list[tuple[str, list[forms.BoundField]]]:
        """Groups with their fields, as the template draws them."""
        return [(title, [self[name] for name in names]) for title, names in self.groups]

    def clean(self) -> dict[str, Any]:
        """Marks that are listed must be there when the dial is said to have only those."""
        data = super().clean() or self.cleaned_data
        if data.get("iso_step") == Body.IsoStep.EVERY and not data.get("iso_list"):
            self.add_error("iso_list", "List the marks of the dial, or choose full stops or thirds.")
        return data

    def save(self, commit: bool = True) -> Body:
        """The body with its firmware versions."""
        body: Body = super().save(commit)
        wanted = dict(self.cleaned_data["firmware"])
        body.firmware_versions.exclude(version__in=wanted).delete()
        for version, since in wanted.items():
            Firmware.objects.update_or_create(body=body, version=version, defaults={"since": since})
        return body


class LensForm(TypedNumbers, forms.ModelForm):
    """A lens, as far as aperture limits and contacts matter."""

    class Meta:
        model = Lens
        fields = ("name", "focal_length_mm", "widest_f", "narrowest_f", "contacts")

    def clean(self) -> dict[str, Any]:
        """Wider comes first."""
        data = super().clean() or self.cleaned_data
        widest, narrowest = data.get("widest_f"), data.get("narrowest_f")
        if widest and narrowest and widest >= narrowest:
            self.add_error("narrowest_f", f"f/{narrowest:g} is not narrower than f/{widest:g}.")
        return data
