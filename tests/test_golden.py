"""Stored results know the version of their method: numbers that change without it would stand beside old ones unseen."""

import json

import pytest

from tests import golden


@pytest.mark.parametrize("what", ["readings", "darks"])
def test_numbers_change_with_their_version_only(what, tmp_path):
    stored, now = json.loads(golden.PATH.read_text())[what], golden.made(tmp_path)[what]
    assert now["version"] == stored["version"], "write the numbers anew: python -m tests.golden"
    assert now["values"].keys() == stored["values"].keys(), "raise METHOD_VERSION, then python -m tests.golden"
    for name, values in stored["values"].items():
        for new, old in zip(now["values"][name], values, strict=True):
            # The last digit may differ between processors.
            same = new is old if new is None or old is None else new == pytest.approx(old, rel=3e-6)
            assert same, f"{name}: raise METHOD_VERSION, then python -m tests.golden"


def test_there_is_something_to_compare():
    stored = json.loads(golden.PATH.read_text())
    known = [name for name, values in stored["readings"]["values"].items() if values[0] is not None]
    for quantity in (
        "gain_e_per_dn",
        "read_noise_e",
        "saturation_e",
        "range_snr1",
        "shadow_snr",
        "noise_chroma",
    ):
        assert any(quantity in name for name in known), quantity
    assert stored["darks"]["values"]["noise"][0] is not None
