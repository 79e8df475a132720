import pytest

from yellowjacket.core.planning.checklist import items_for
from yellowjacket.core.planning.ladder import Exposure, LadderSpec

METERED = Exposure(100, 1 / 8, 8)


def texts(*ladders, light=""):
    return [item.text for item in items_for([LadderSpec(k, m, METERED, **more) for k, m, more in ladders], light)]


def has(found, *words):
    return all(any(word in text for text in found) for word in words)


def test_what_every_sitting_needs_is_always_there():
    for ladder in (("iso", "shutter", {}), ("exposure", "shutter", {}), ("time", "capped", {})):
        assert has(texts(ladder), "Manual exposure", "Self-timer", "Raw, lossless", "White balance", "temperature")


@pytest.mark.parametrize(
    ("ladder", "there", "absent"),
    [
        (("iso", "shutter", {}), ["Auto ISO off", "LENR off."], ["Filters clean", "Lamp warmed up"]),
        (("iso", "lamp", {}), ["Lamp warmed up", "Electrical set-ups"], ["Filters clean"]),
        (("iso", "nd", {}), ["Filters clean"], ["Lamp warmed up"]),
        (
            ("time", "capped", {"lenr": "pairs"}),
            ["LENR as the list says", "too hot to hold"],
            ["Auto ISO", "First frame"],
        ),
        (
            ("setting", "noise_reduction", {"values": ("off", "high")}),
            ["noise reduction as the ladder says"],
            ["Auto ISO"],
        ),
    ],
)
def test_items_fit_the_ladders_of_the_plan(ladder, there, absent):
    found = texts(ladder)
    assert has(found, *there)
    assert not any(has(found, word) for word in absent)


# Common practice, no source: the usual care, wherever somebody shoots under lamps or at night.
def test_cautions_are_there_where_they_apply():
    everywhere = items_for([LadderSpec("iso", "shutter", METERED)])
    cautions = [item.text for item in everywhere if item.caution]
    assert has(cautions, "sun or a laser", "keep clearance", "trip hazard")
    assert not has(cautions, "swollen battery")
    night = [item.text for item in items_for([LadderSpec("time", "scene", METERED)]) if item.caution]
    assert has(night, "swollen battery", "maker's temperature limits", "somebody knows where you are")
