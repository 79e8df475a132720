"""What pictures are for: size, part of the frame, paper and distance, black and white."""

from __future__ import annotations

from typing import Any

from django import forms
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from yellowjacket.bench.models import Use
from yellowjacket.bench.plan import uses
from yellowjacket.web.fields import TypedNumbers
from yellowjacket.web.refusals import carried_out
from yellowjacket.web.sitting_page import SittingPage


class UseForm(TypedNumbers, forms.ModelForm[Use]):
    """One use of a sitting."""

    megapixels = forms.FloatField(label="Size, MP", min_value=0.01, max_value=2000, required=False)
    crop_percent = forms.FloatField(label="Part of the frame, %", min_value=1, max_value=100)

    class Meta:
        model = Use
        fields = ("name", "print_width_cm", "viewing_cm", "monochrome")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        use = self.instance
        self.fields["megapixels"].initial = f"{use.output_pixels / 1e6:g}" if use.output_pixels else None
        self.fields["megapixels"].widget.attrs["placeholder"] = "each pixel"
        self.fields["crop_percent"].initial = f"{100 * use.crop_share:g}"
        for name in ("print_width_cm", "viewing_cm"):
            self.fields[name].widget.attrs.update(min=1, max=2000, step="any")
        self.order_fields(("name", "megapixels", "crop_percent", "print_width_cm", "viewing_cm", "monochrome"))

    def clean(self) -> dict[str, Any]:
        """Sizes are positive, and paper needs pixels."""
        data = super().clean() or {}
        for name in ("print_width_cm", "viewing_cm"):
            if data.get(name) is not None and not 1 <= data[name] <= 2000:
                self.add_error(name, "From 1 to 2000 cm.")
        if data.get("print_width_cm") and not data.get("megapixels") and "megapixels" not in self.errors:
            self.add_error("megapixels", "A print needs its size in megapixels; each pixel is for the screen.")
        return data

    def used(self) -> Use:
        """The use as typed, not stored."""
        use = self.instance
        data = self.cleaned_data
        use.output_pixels = round(data["megapixels"] * 1e6) if data["megapixels"] else None
        use.crop_share = data["crop_percent"] / 100
        return use


def page(request: HttpRequest, sitting_id: int) -> HttpResponse:
    """Every use as a row; on POST one of them is changed or a new one is added."""
    sitting_page = SittingPage(request, sitting_id, "look")
    sitting = sitting_page.sitting
    own = list(sitting.uses.all())
    rows = [UseForm(instance=use, prefix=str(use.pk)) for use in own]
    new = UseForm(instance=Use(sitting=sitting), prefix="new")
    if request.method == "POST":
        which = request.POST.get("which", "")
        form = next((row for row in [*rows, new] if row.prefix == which), new)
        bound = UseForm(request.POST, instance=form.instance, prefix=form.prefix)
        if bound.is_valid():
            before = Use.objects.filter(pk=form.instance.pk).first()

            def keep() -> None:
                changed = uses.keep(bound.used(), before)
                again = " Its readings are out of date: measure again." if changed else ""
                messages.success(request, f"“{form.instance.name}” is kept.{again}")

            if carried_out(request, keep):
                return redirect("uses:page", sitting_id=sitting.pk)
        rows = [bound if row.prefix == which else row for row in rows]
        new = bound if which == "new" else new
    return render(request, "uses/page.html", sitting_page.context(rows=rows, new=new))
