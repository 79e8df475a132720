from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellowjacket.core.planning.frame_to_shot import Candidate, LadderFacts, Matcher, Misfit, Slot, find_slot

LADDER = LadderFacts("Ostrel", "Heath", "OH-1", (640, 448))
FRAME = Candidate("Ostrel", "Heath", "OH-1", 200, 1 / 15, 8.0, False, 640, 448)
SLOTS = [
    Slot(10 * position + repeat + (5 if dark else 0), iso, seconds, 8.0, dark, False)
    for position, (iso, seconds) in enumerate([(100, 1 / 8), (200, 1 / 15), (400, 1 / 30)])
    for dark in (False, True)
    for repeat in (1, 2)
]


def test_a_frame_goes_to_the_first_free_shot_of_its_settings():
    assert find_slot(FRAME, LADDER, SLOTS) == SLOTS[4]


@pytest.mark.parametrize("reported", [1 / 15, 1 / 16])
def test_printed_and_exact_times_are_one_setting(reported):
    assert isinstance(find_slot(replace(FRAME, exposure_s=reported), LADDER, SLOTS), Slot)


@pytest.mark.parametrize(
    ("changes", "code", "words"),
    [
        ({"model": "Fen"}, "body", "comes from Ostrel Fen"),
        ({"serial": "OH-2"}, "body", "serial OH-2"),
        ({"width": 320}, "size", "is 320 × 448 px, the ladder has 640 × 448 px"),
        ({"iso": None}, "metadata", "does not say its ISO"),
        ({"exposure_s": None}, "metadata", "does not say its exposure time"),
        ({"iso": 800}, "iso", "was shot at ISO 800"),
        ({"exposure_s": 1 / 60}, "shutter", "was exposed for 1/60 s; ISO 200 is planned at 1/15 s"),
        ({"f_number": 5.6}, "aperture", "was shot at f/5.6; the ladder is planned at f/8"),
    ],
)
def test_what_does_not_fit_is_told_by_its_most_telling_difference(changes, code, words):
    found = find_slot(replace(FRAME, **changes), LADDER, SLOTS)
    assert isinstance(found, Misfit)
    assert found.code == code
    assert words in found.reason
    assert found.remedy


def test_a_lens_that_reports_no_aperture_fits():
    assert isinstance(find_slot(replace(FRAME, f_number=None), LADDER, SLOTS), Slot)


def test_a_maker_that_repeats_its_name_in_the_model_is_recognised():
    assert isinstance(find_slot(replace(FRAME, model="Ostrel Heath"), LADDER, SLOTS), Slot)


def test_a_frame_too_many_is_said_to_be_one():
    taken = [replace(slot, taken=slot.iso == 200 and not slot.dark) for slot in SLOTS]
    found = find_slot(FRAME, LADDER, taken)
    assert isinstance(found, Misfit)
    assert found.code == "complete"


@given(
    st.lists(st.sampled_from([(100, 1 / 8), (200, 1 / 15), (400, 1 / 30), (800, 1 / 60)]), max_size=20), st.booleans()
)
def test_no_two_frames_ever_share_a_shot_and_none_is_lost(shots, dark):
    slots, given_to, refused = list(SLOTS), [], 0
    for iso, seconds in shots:
        found = find_slot(replace(FRAME, iso=iso, exposure_s=seconds, dark=dark), LADDER, slots)
        if isinstance(found, Misfit):
            refused += 1
            continue
        given_to.append(found.key)
        slots = [replace(slot, taken=slot.taken or slot.key == found.key) for slot in slots]
    assert len(set(given_to)) == len(given_to)
    assert len(given_to) + refused == len(shots)


def test_a_frame_of_another_bit_depth_is_told():
    found = find_slot(replace(FRAME, bits=12), replace(LADDER, bits=14), SLOTS)
    assert (found.code, "12 bits" in found.reason) == ("bits", True)
    assert isinstance(find_slot(replace(FRAME, bits=14), replace(LADDER, bits=14), SLOTS), Slot)


def test_raw_modes_are_told_apart_by_size_and_depth():
    varied = LadderFacts("Ostrel", "Heath", "OH-1", None)
    full = replace(SLOTS[4], key=1, size=(640, 448), bits=14)
    reduced = replace(SLOTS[4], key=2, size=(320, 224), bits=14)
    assert find_slot(replace(FRAME, width=320, height=224, bits=14), varied, [full, reduced]).key == 2
    assert find_slot(replace(FRAME, bits=14), varied, [full, reduced]).key == 1
    found = find_slot(replace(FRAME, width=200, height=100), varied, [full, reduced])
    assert (found.code, "200 × 100 px" in found.reason) == ("mode", True)


@given(st.permutations(range(24)), st.integers(0, 23), st.lists(st.integers(0, 11), max_size=6))
def test_the_matcher_finds_what_a_search_over_all_shots_finds(order, missing, doubled):
    """Shuffled, missing and doubled frames: each shot once, in the same order, and never a frame lost."""
    slots = [replace(slot, key=n) for n, slot in enumerate([*SLOTS, *SLOTS])]
    wanted = [slots[n] for n in order if n != missing] + [slots[n] for n in doubled]
    matcher, taken = Matcher(LADDER, slots), set()
    for slot in wanted:
        frame = replace(FRAME, iso=slot.iso, exposure_s=slot.exposure_s, dark=slot.dark)
        expected = find_slot(frame, LADDER, [replace(one, taken=one.key in taken) for one in slots])
        found = matcher.find(frame)
        if isinstance(expected, Misfit):
            assert found == expected
        else:
            assert found.key == expected.key
            matcher.take(found.key)
            taken.add(found.key)
