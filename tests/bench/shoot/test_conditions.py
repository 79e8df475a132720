"""What is noted on the day: kept as values, undone like anything else, and put to use in later plans."""

from datetime import timedelta

import pytest
from django.utils import timezone

from yellowjacket.bench.check import audit, remedies
from yellowjacket.bench.models import Conditions, Shot, SittingEvent
from yellowjacket.bench.plan.sittings import planned_ladders, schedule_of
from yellowjacket.bench.refusal import Refusal
from yellowjacket.bench.shoot import conditions, undo_log
from yellowjacket.bench.shoot import shots as shots_
from yellowjacket.bench.simulation import shoot
from yellowjacket.core.planning.ladder import Exposure
from yellowjacket.simcam.bodies import HEATH

pytestmark = pytest.mark.django_db
METERED = Exposure(400, 1.0, 8.0)


@pytest.fixture
def run(make_sitting, data_folder):
    """A time ladder of four minutes' frames."""
    return make_sitting(kind="time", method="capped", metered=METERED, shortest_s=240.0, longest_s=240.0, repeats=6)


def noted(sitting, body, **values):
    return conditions.note(Conditions(sitting=sitting, body=body, **values))


def take_all(sitting, *, minutes_each=5.0):
    """Say that every shot was taken, one every so many minutes, ending now."""
    shots = shots_.due(sitting)
    for n, shot in enumerate(shots):
        shots_.take(shot)
        taken = timezone.now() - timedelta(minutes=minutes_each * (len(shots) - 1 - n))
        Shot.objects.filter(pk=shot.pk).update(taken_at=taken)
    return shots


def test_levels_noted_on_the_day_replace_the_assumed_minutes(run, body):
    body.battery_minutes = 500
    body.save()
    first = noted(run, body, battery_percent=100)
    Conditions.objects.update(at=timezone.now() - timedelta(hours=1))
    take_all(run)
    noted(run, body, battery_percent=80)
    # Six exposures of 4 min took a fifth of the charge.
    measured = conditions.batteries_of([body])[body]
    assert measured.value == pytest.approx(6 * 4 * 5)
    assert conditions.supplies_of(conditions.batteries_of([body]))[body].battery_minutes == measured.value
    planned = planned_ladders(run)
    assert schedule_of(planned).entries[-1].battery_share == pytest.approx(0.8)
    assert "battery 100 %" in first.text


def test_nothing_noted_leaves_the_register_in_force(run, body):
    body.battery_minutes = 500
    assert conditions.supplies_of(conditions.batteries_of([body]))[body].battery_minutes == 500
    assert conditions.warmths_of([body])[body] is None
    assert conditions.expected_rises(planned_ladders(run), schedule_of(planned_ladders(run))) == []


def test_an_empty_note_is_refused_and_a_note_can_be_undone(run, body):
    with pytest.raises(Refusal, match="nothing to note"):
        noted(run, body)
    noted(run, body, warmth="warm", room_c=21.0)
    assert str(Conditions.objects.get()) == "room 21 °C, body warm"
    undo_log.undo(run)
    assert not Conditions.objects.exists()


def test_the_simulated_body_teaches_its_battery_and_its_warmth(body, make_sitting, data_folder):
    body.simulated_as, body.serial, body.frame_mb = HEATH.key, HEATH.serial, 100
    body.save()
    sitting = make_sitting(kind="time", method="capped", metered=METERED, shortest_s=120.0, longest_s=120.0, repeats=8)
    shoot.accept_without_looking(sitting)
    shoot.start_shooting(sitting.ladders.get())
    assert Conditions.objects.filter(source="instrument").count() == 8
    measured = conditions.batteries_of([body])[body]
    assert measured.low <= HEATH.true_battery_minutes <= measured.high
    planned = planned_ladders(sitting)
    (rise,) = conditions.expected_rises(planned, schedule_of(planned))
    # Eight times two minutes of work and a few seconds between: close to endless work for a quarter of an hour.
    assert rise.warmest.low < HEATH.heat_rise_c * (1 - 2.718 ** (-1024 / HEATH.heat_constant_s)) < rise.warmest.high
    assert rise.begins.value == 0
    # The sensor warmed by more than two degrees over the ladder, which Check tells.
    assert "temperature" in {finding.code for finding in audit.audit(sitting.ladders.get()).findings}


@pytest.mark.parametrize(("why", "left"), [("battery", "battery empty"), ("heat", "too hot")])
def test_a_stop_ends_an_endurance_run_and_can_be_undone(body, make_sitting, why, left):
    sitting = make_sitting(kind="time", method="endurance", metered=METERED, shortest_s=30.0, repeats=20)
    ladder = sitting.ladders.get()
    for _ in range(3):
        shots_.take(shots_.due(sitting)[0])
    event = conditions.stop(ladder, why)
    assert event.kind == SittingEvent.Kind.STOPPED
    assert "17 shots not taken" in event.text
    assert Shot.objects.filter(skipped=left).count() == 17
    assert Conditions.objects.filter(battery_percent=0).count() == (1 if why == "battery" else 0)
    undo_log.undo(sitting)
    assert len(shots_.due(sitting)) == 17
    assert not Conditions.objects.exists()


def test_a_stop_on_another_ladder_skips_nothing(run, body):
    conditions.stop(run.ladders.get(), "heat")
    assert len(shots_.due(run)) == 6
    with pytest.raises(Refusal, match="battery, heat"):
        conditions.stop(run.ladders.get(), "rain")


def test_the_simulated_endurance_run_ends_with_its_battery(body, make_sitting, data_folder):
    body.simulated_as, body.serial = HEATH.key, HEATH.serial
    body.save()
    # Half an hour a shot: the battery ends it after a handful.
    sitting = make_sitting(kind="time", method="endurance", metered=METERED, shortest_s=1800.0, repeats=12)
    shoot.accept_without_looking(sitting)
    job = shoot.start_shooting(sitting.ladders.get())
    job.refresh_from_db()
    assert job.message.endswith("then the body stopped")
    assert not shots_.due(sitting)
    assert SittingEvent.objects.filter(kind="stopped").count() == 1


def test_a_drift_is_told_once_and_can_be_let_be(run, body):
    for degrees, shot in zip((20.0, 21.0, 25.0, 24.0), take_all(run), strict=False):
        Conditions.objects.create(sitting=run, body=body, shot=shot, sensor_c=degrees)
    ladder = run.ladders.get()
    (finding,) = [one for one in audit.audit(ladder).findings if one.code == "temperature"]
    assert finding.short == "+5.0 °C"
    remedies.let_be(finding.rung, "temperature")
    ladder.refresh_from_db()
    assert "temperature" not in {one.code for one in audit.audit(ladder).findings}
    undo_log.undo(run)
    ladder.refresh_from_db()
    assert "temperature" in {one.code for one in audit.audit(ladder).findings}
    with pytest.raises(Refusal, match="its own remedy"):
        remedies.let_be(finding.rung, "missing")
