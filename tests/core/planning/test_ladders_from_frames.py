from dataclasses import replace
from datetime import datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.planning.ladders_from_frames import FoundFrame, adopt, as_ladder

BEGIN = datetime(2026, 3, 14, 20, 0)


def frames(*shots, model="Heath", size=(640, 448)):
    """Frames from (iso, seconds, dark) in the order of the clock."""
    return [
        FoundFrame(n, "Ostrel", model, "1", *size, iso, seconds, 8.0, dark, BEGIN + timedelta(seconds=5 * n))
        for n, (iso, seconds, dark) in enumerate(shots)
    ]  # fmt: skip


def frame(index, **changes):
    """One light frame at ISO 100 and 1/8 s, with changes."""
    return replace(frames((100, 1 / 8, False))[0], index=index, **changes)


def test_an_uneven_iso_ladder_with_its_darks_is_found():
    shots = [(iso, 12.5 / iso, dark) for dark in (False, True) for iso in (100, 400, 500, 6400) for _ in range(2)]
    found = adopt(frames(*shots))
    (ladder,) = found.ladders
    assert (ladder.kind, [rung.iso for rung in ladder.rungs]) == ("iso", [100, 400, 500, 6400])
    assert [(len(rung.light), len(rung.darks)) for rung in ladder.rungs] == [(2, 2)] * 4
    assert (found.singles, found.unsaid, found.guesses) == ((), (), ())


def test_an_exposure_ladder_is_told_from_an_iso_ladder():
    shots = [(100, 2.0**n, False) for n in range(-5, 4)] + [(iso, 25 / iso, False) for iso in (200, 400, 800)]
    found = adopt(frames(*shots))
    assert [(ladder.kind, len(ladder.rungs)) for ladder in found.ladders] == [("exposure", 9), ("iso", 3)]
    assert found.ladders[0].metered.exposure_s == 0.5
    assert "ISO 100 was shot at 9 exposure times" in found.guesses[0]


def test_crossed_ladders_become_one_exposure_ladder_per_iso():
    found = adopt(frames(*[(iso, seconds, False) for iso in (100, 800) for seconds in (0.25, 0.5, 1.0)]))
    assert [(ladder.kind, ladder.metered.iso) for ladder in found.ladders] == [("exposure", 100), ("exposure", 800)]
    assert "they cross" in found.guesses[0]


def test_long_darks_are_a_time_ladder():
    found = adopt(frames(*[(800, seconds, True) for seconds in (1.0, 2.0, 4.0, 30.0) for _ in range(2)]))
    assert [(ladder.kind, ladder.method) for ladder in found.ladders] == [("time", "capped")]


def test_bodies_and_raw_modes_are_kept_apart():
    shots = [(iso, 12.5 / iso, False) for iso in (100, 200, 400)]
    heath, tarn, small = frames(*shots), frames(*shots, model="Tarn"), frames(*shots, size=(320, 224))
    joined = [
        FoundFrame(n, *[getattr(f, s) for s in FoundFrame.__slots__[1:]]) for n, f in enumerate(heath + tarn + small)
    ]
    assert [(ladder.model, ladder.size) for ladder in adopt(joined).ladders] == [
        ("Heath", (640, 448)), ("Tarn", (640, 448)), ("Heath", (320, 224)),
    ]  # fmt: skip


def test_everyday_pictures_are_singles_and_a_pair_is_a_rung():
    found = adopt(frames((100, 1 / 250, False), (400, 1 / 60, False)))
    assert (found.ladders, found.singles) == ((), (0, 1))
    found = adopt(frames((100, 1 / 8, False), (100, 1 / 8, False)))
    assert [len(rung.light) for rung in found.ladders[0].rungs] == [2]


def test_printed_and_exact_times_are_one_rung():
    found = adopt(frames((100, 1 / 60, False), (100, 1 / 64, False)))
    assert len(found.ladders[0].rungs) == 1


_SHOTS = st.tuples(
    st.sampled_from([None, 100, 200, 400, 800]), st.sampled_from([None, 1 / 60, 1 / 8, 1.0, 8.0]), st.booleans()
)


@given(st.lists(_SHOTS, max_size=40))
def test_no_frame_is_ever_lost_or_doubled(shots):
    found = adopt(frames(*shots))
    places = [index for ladder in found.ladders for rung in ladder.rungs for index in (*rung.light, *rung.darks)]
    assert sorted([*places, *found.singles, *found.unsaid]) == list(range(len(shots)))


def test_frames_become_a_ladder_at_a_persons_word():
    found = [frame(n, iso=iso, exposure_s=1 / 8) for n, iso in enumerate((100, 400, 3200))]
    ladder = as_ladder("iso", found)
    assert [rung.iso for rung in ladder.rungs] == [100, 400, 3200]
    assert [rung.light for rung in ladder.rungs] == [(0,), (1,), (2,)]
    timed = as_ladder("time", [frame(n, iso=800, exposure_s=t, dark=True) for n, t in enumerate((1.0, 8.0))])
    assert (timed.kind, timed.method) == ("time", "capped")


@pytest.mark.parametrize(
    ("kind", "changes", "words"),
    [
        ("iso", [{"iso": 100, "exposure_s": 1.0}, {"iso": 100, "exposure_s": 2.0}], "one time at each ISO"),
        ("exposure", [{"iso": 100}, {"iso": 200}], "stands at one ISO"),
        ("iso", [{"model": "Fen"}, {}], "one body"),
        ("iso", [{"iso": None}, {}], "do not say"),
        ("iso", [{"dark": True}], "only a time ladder"),
    ],
)
def test_frames_that_are_no_ladder_are_refused_with_the_reason(kind, changes, words):
    with pytest.raises(ValueError, match=words):
        as_ladder(kind, [frame(n, **one) for n, one in enumerate(changes)])
