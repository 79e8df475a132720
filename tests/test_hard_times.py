"""A part of what runs long by hand: random kills, and damaged files of every kind."""

from tests.chaos import run_chaos
from tests.mutants import run_mutants


def test_nothing_is_lost_when_things_are_killed(tmp_path):
    done = run_chaos(tmp_path, kills=2, seed=5)
    assert sum(done.values()) >= 2


def test_damaged_files_are_each_a_clear_line(tmp_path, recwarn):
    found = run_mutants(tmp_path, count=240, seed=5)
    assert not [kind for kind in found if kind.endswith("unexpected")]
    assert found["raw read"] > 10
    assert found["raw truncated"] > 3
    assert found["picture read"] > 10
