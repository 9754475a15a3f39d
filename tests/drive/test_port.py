"""A drive moves for the holder of a valid token only, and lets go when he is lost."""

from __future__ import annotations

import ast
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.app.waypoints.run import drive as run_page
from crisp_compass.bench import load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.course.course import waypoints_of
from crisp_compass.course.open_points import next_bearing
from crisp_compass.drive.port import WATCHDOG_S, Token
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.record.formats import export_settings


@pytest.fixture
def drive(winch: Path) -> SimulatedDrive:
    """The winch's drive, disarmed and at rest."""
    return SimulatedDrive(load_bench(winch))


def test_nothing_moves_until_it_is_armed(drive: SimulatedDrive) -> None:
    with pytest.raises(Refusal) as refused:
        drive.run_at(Token(), 50.0)
    assert refused.value.code == "disarmed"
    drive.exchange(None, 0.2)
    assert (drive.armed, drive.speed) == (False, 0.0)


def test_an_armed_caller_runs_it_and_anybody_stops_it(drive: SimulatedDrive) -> None:
    token = drive.arm("test")
    drive.run_at(token, 50.0)
    for _ in range(20):
        telemetry = drive.exchange(token, 0.03)
    assert drive.speed == pytest.approx(50.0, rel=0.02)
    assert telemetry["speed"][-1] == pytest.approx(drive.speed, rel=1e-3)
    drive.disarm()
    with pytest.raises(Refusal, match="disarmed"):
        drive.run_at(token, 50.0)
    drive.exchange(token, 0.3)
    assert drive.speed < 49.0


def test_a_second_caller_takes_the_drive_over(drive: SimulatedDrive) -> None:
    first, second = drive.arm("one"), drive.arm("two")
    with pytest.raises(Refusal, match="disarmed"):
        drive.run_at(first, 50.0)
    drive.run_at(second, 20.0)


def test_a_lost_caller_stops_the_motor(drive: SimulatedDrive) -> None:
    """The command holds for the watchdog's time and no longer, whether silence comes in one piece or in many."""
    token = drive.arm("test")
    drive.run_at(token, 50.0)
    for _ in range(20):
        drive.exchange(token, 0.03)
    drive.exchange(None, 0.7 * WATCHDOG_S)
    assert drive.armed
    drive.exchange(token, 0.03)  # heard of in time
    drive.exchange(None, 0.7 * WATCHDOG_S)
    assert drive.armed
    late = drive.exchange(None, 0.5)
    assert not drive.armed
    pulling = late["t"][late["i_q_ref"] != 0]
    assert pulling[-1] - late["t"][0] == pytest.approx(0.3 * WATCHDOG_S, abs=2e-3)
    with pytest.raises(Refusal, match="disarmed"):
        drive.run_at(token, 50.0)


def test_a_fault_disarms_and_must_be_acknowledged(drive: SimulatedDrive) -> None:
    token = drive.arm("test")
    drive.run_at(token, 50.0)
    drive.exchange(token, 0.1)
    drive.surroundings.set_supply(2.0)
    drive.exchange(token, 0.1)
    assert (drive.fault, drive.armed) == ("under-voltage", False)
    with pytest.raises(Refusal) as refused:
        drive.arm("test")
    assert refused.value.code == "fault"
    drive.surroundings.set_supply(48.0)
    drive.acknowledge()
    assert not drive.armed
    drive.run_at(drive.arm("test"), 20.0)


def test_the_run_page_knows_no_simulation() -> None:
    """A linked drive must be able to stand where the simulated one does."""
    tree = ast.parse(Path(run_page.__file__).read_text(encoding="utf-8"))
    imported = {n.module for n in ast.walk(tree) if isinstance(n, ast.ImportFrom)}
    assert not any(m and m.startswith("crisp_compass.plant") for m in imported)


def test_a_stepper_without_a_sensor_turns_its_field(tmp_path: Path) -> None:
    """No speed loop, no commutation: the course asks for neither, and the run follows the field's ramp."""
    bench = enter(load_bench("demo/carousel/carousel.bench.json"), "sensor", {"kind": "none"})
    bench = bench.model_copy(update={"evidence": {k: v for k, v in bench.evidence.items() if k != "commutation"}})
    assert not {"commutation", "speed_loop"} & {w.key for w in waypoints_of(bench)}
    assert next_bearing(bench).waypoint == "run"
    drive = SimulatedDrive(bench)
    token = drive.arm("test")
    drive.run_at(token, 12.0)
    for _ in range(40):
        rows = drive.exchange(token, 0.02)
    assert float(np.mean(rows["speed"])) == pytest.approx(12.0, rel=0.02)
    assert not drive.fault
    header = export_settings(bench, "c-header")
    assert "CC_STEPPING_MICROSTEPS (16.0f)" in header
    assert "CC_STEPPING_CURRENT_A" in header
    for topic, change in (("stepping", {"current": 0.05}), ("run", {"i_limit": 0.07})):
        weak = SimulatedDrive(enter(bench, topic, change))
        token = weak.arm("test")
        weak.run_at(token, 12.0)
        for _ in range(40):
            rows = weak.exchange(token, 0.02)
        assert abs(float(np.mean(rows["speed"]))) < 6.0  # so little current loses its steps, and nothing says so


def test_an_overload_has_cooled_when_it_is_acknowledged(winch: Path) -> None:
    """Time stands still while the drive is off: a trip that came back at once could never be left."""
    bench = enter(load_bench(winch), "run", {"i_continuous": 0.5, "overload_time": 0.05, "i_limit": 8.0})
    port = SimulatedDrive(bench)
    assert port.surroundings is not None
    port.surroundings.set_load(0.6)
    token = port.arm("test")
    port.run_at(token, 100.0)
    for _ in range(10):
        port.exchange(token, 0.1)
    assert port.fault == "overload"
    port.acknowledge()
    port.surroundings.set_load(0.0)
    token = port.arm("test")
    port.run_at(token, 20.0)
    port.exchange(token, 0.02)
    assert not port.fault
