"""All addresses: the desk and the register, and one file of routes per step."""

from django.urls import include, path, register_converter


class IdConverter:
    """A number that a database can hold: longer ones name nothing, and are not found."""

    regex = "[0-9]{1,18}"

    def to_python(self, value: str) -> int:
        """The number."""
        return int(value)

    def to_url(self, value: int) -> str:
        """As it stands in an address."""
        return str(value)


register_converter(IdConverter, "id")

urlpatterns = [
    path("", include("yellowjacket.web.shared_views")),
    path("", include("yellowjacket.web.desk.urls")),
    path("", include("yellowjacket.web.plan.urls")),
    path("", include("yellowjacket.web.rounds.urls")),
    path("", include("yellowjacket.web.people.urls")),
    path("", include("yellowjacket.web.help.urls")),
    path("darks/", include("yellowjacket.web.darks.urls")),
    path("night/", include("yellowjacket.web.night.urls")),
    path("sittings/<id:sitting_id>/shoot/", include("yellowjacket.web.shoot.urls")),
    path("sittings/<id:sitting_id>/check/", include("yellowjacket.web.check.urls")),
    path("sittings/<id:sitting_id>/measure/", include("yellowjacket.web.measure.urls")),
    path("sittings/<id:sitting_id>/push/", include("yellowjacket.web.push.urls")),
    path("sittings/<id:sitting_id>/time/", include("yellowjacket.web.time.urls")),
    path("compare/", include("yellowjacket.web.compare.urls")),
    path("advice/", include("yellowjacket.web.advice.urls")),
    path("tolerance/", include("yellowjacket.web.tolerance.urls")),
    path("practice/", include("yellowjacket.web.practice.urls")),
    path("sittings/<id:sitting_id>/uses/", include("yellowjacket.web.uses.urls")),
    path("sittings/<id:sitting_id>/look/pair/", include("yellowjacket.web.pair.urls")),
    path("sittings/<id:sitting_id>/look/lanes/", include("yellowjacket.web.lanes.urls")),
    path("sittings/<id:sitting_id>/look/jury/", include("yellowjacket.web.jury.urls")),
    path("sittings/<id:sitting_id>/look/", include("yellowjacket.web.look.urls")),
    path("sittings/<id:sitting_id>/record/", include("yellowjacket.web.record.urls")),
]

handler404 = "yellowjacket.web.http.errors.not_found"
handler500 = "yellowjacket.web.http.errors.server_error"
handler403 = "yellowjacket.web.http.errors.forbidden"
handler400 = "yellowjacket.web.http.errors.bad_request"
