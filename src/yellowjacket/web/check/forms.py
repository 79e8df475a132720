"""The tester's word over a file's."""

from __future__ import annotations

from django import forms

from yellowjacket.bench.models import Body, Frame
from yellowjacket.core.exposure import notation
from yellowjacket.web.fields import ApertureField, ShutterField, TypedNumbers


class ApertureForm(forms.Form):
    """The aperture at which a whole ladder was shot."""

    whole_aperture = ApertureField(label="Aperture of every frame of this ladder", max_length=10)


class SaidForm(TypedNumbers, forms.Form):
    """ISO, time and aperture of a frame; an empty field leaves the file's own word."""

    iso = forms.IntegerField(label="ISO", required=False, min_value=1, max_value=10_000_000)
    shutter = ShutterField(label="Shutter", required=False)
    aperture = ApertureField(label="Aperture", required=False, max_length=10)

    @classmethod
    def of(cls, frame: Frame) -> SaidForm:
        """The form as it stands for a frame: what was corrected, with the file's word as a hint."""
        said = frame.overrides
        form = cls(
            auto_id=False,
            initial={
                "iso": said.get("iso"),
                "shutter": notation.shutter_label(said["exposure_s"]) if "exposure_s" in said else "",
                "aperture": f"f/{said['f_number']:g}" if "f_number" in said else "",
            },
        )
        in_file = {
            "iso": frame.iso or "not said",
            "shutter": notation.shutter_label(frame.exposure_s) if frame.exposure_s else "not said",
            "aperture": f"f/{frame.f_number:g}" if frame.f_number else "not said",
        }
        for name, value in in_file.items():
            form.fields[name].widget.attrs |= {
                "placeholder": f"file: {value}",
                "aria-label": f"{form.fields[name].label} of {frame.file_name}",
            }
        return form

    def refusals(self) -> str:
        """What is wrong with which field, in sentences."""
        return " ".join(f"{self[name].label}: {error}" for name, errors in self.errors.items() for error in errors)

    def said(self) -> dict[str, float]:
        """What was filled in, by the names frames use; call on a valid form."""
        data = self.cleaned_data
        names = {"iso": "iso", "exposure_s": "shutter", "f_number": "aperture"}
        return {name: data[field] for name, field in names.items() if data[field]}


class BodyNameForm(forms.Form):
    """Which body took files that do not say it: one of the register, or make and model of a new one."""

    body = forms.ModelChoiceField(Body.objects.all(), required=False)
    make = forms.CharField(max_length=80, required=False)
    model = forms.CharField(max_length=80, required=False)

    @property
    def problem(self) -> str:
        """What is wrong with it, in a sentence."""
        field, errors = next(iter(self.errors.items()))
        return f"{field.capitalize()}: {errors[0]}"
