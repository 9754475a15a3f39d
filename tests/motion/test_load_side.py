"""What moves behind the shaft: handbook relations, velocities typed into fields of a speed, and the bench's load."""

from __future__ import annotations

import math
from pathlib import Path

import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.bridge import typed_motor
from crisp_compass.course.load_side import as_load, moved, velocity_text
from crisp_compass.errors import Refusal
from crisp_compass.motion.load_side import GRAVITY, LoadSide, screw, wheel
from crisp_compass.typed import Motor, equivalents, read


def test_relations_of_the_handbook() -> None:
    """Screw m·(lead/2π)², gear 1/i² (any machine handbook); energy in is energy out over the efficiency."""
    side = LoadSide(screw(5e-3, 2.0), 0.8)
    assert side.reflected(40.0) == pytest.approx(40.0 * (5e-3 / 2 / math.pi) ** 2 / 4)
    turned = 7.3  # rad of the shaft
    assert side.driving(300.0) * turned == pytest.approx(300.0 * side.travel * turned / 0.8)
    hung = LoadSide(wheel(0.2, 10.0, 2), 0.5)
    assert hung.travel == pytest.approx(0.005)
    assert hung.driven(500.0) == 0.0  # holds by itself
    assert LoadSide(0.01).driven(100.0) == LoadSide(0.01).driving(100.0) == pytest.approx(1.0)
    # ten metres a minute at a rope on a drum of 100 mm behind 25:1 are 796 rpm
    assert LoadSide(wheel(0.1, 25.0)).shaft_speed(10 / 60) * 60 / 2 / math.pi == pytest.approx(10 / (math.pi * 0.1) * 25)


@pytest.mark.parametrize(("text", "velocity"), [("10 m/min", 10 / 60), ("250 mm/s", 0.25), ("0.5m/s", 0.5), ("60 ft/min", 60 * 0.3048 / 60), ("3,6 km/h", 1.0), ("4 in/s", 4 * 0.0254)])
def test_speeds_are_typed_as_velocities(text: str, velocity: float) -> None:
    motor = Motor(4.0, 300.0, 0.003, "m/min")
    assert read(text, "rpm", motor=motor) == pytest.approx(velocity / 0.003)
    with pytest.raises(Refusal, match="what the shaft moves"):
        read(text, "rpm", motor=Motor(4.0, 300.0))


def test_other_units_stay_what_they_are() -> None:
    motor = Motor(4.0, 300.0, 0.003, "m/min")
    assert read("1000 rpm/s", "rad/s²", motor=motor) == pytest.approx(1000 * 2 * math.pi / 60)
    assert read("50 Hz", "rpm", motor=motor) == pytest.approx(2 * math.pi * 50 / 4)
    assert read("12m", "N·m") == pytest.approx(0.012)
    assert read("12 mm", "m") == pytest.approx(0.012)
    assert read("2 kgf", "N") == pytest.approx(2 * GRAVITY)
    assert equivalents(100.0, "rpm", motor) == "63.7 Hz, 18.0 m/min"
    assert equivalents(100.0, "A", motor) == equivalents(0.0, "rpm", motor) == ""


def winch(**fields: object) -> Bench:
    return enter(load_bench(Path("demo/winch/winch.bench.json")), "load_side", fields)


def test_a_bench_knows_what_hangs_on_it() -> None:
    with pytest.raises(Refusal, match="what the shaft moves"):
        moved(winch())
    with pytest.raises(Refusal, match="diameter is missing"):
        moved(winch(kind="wheel"))
    hung = winch(kind="wheel", diameter=0.12, ratio=20.0, efficiency=0.8, mass=25.0, way="vertical", velocity=0.25)
    found = moved(hung)
    assert found.up == pytest.approx(25 * GRAVITY * 0.003 / 0.8)
    assert found.down == pytest.approx(25 * GRAVITY * 0.003 * 0.75)
    assert found.speed == pytest.approx(0.25 / 0.003)
    assert found.hertz == pytest.approx(7 * 0.25 / 0.003 / 2 / math.pi)
    assert {"hangs", "inertia-ratio"} <= {f.code for f in found.findings}
    assert typed_motor(hung).travel == pytest.approx(0.003)
    loaded = as_load(hung).settings.run
    assert (loaded.load_kind, loaded.load) == ("drives", pytest.approx(found.up, rel=1e-3))
    assert velocity_text(hung, found.speed) == "15.0 m/min"
    assert velocity_text(winch(), 10.0) == ""
    fast = winch(kind="screw", lead=2e-3, velocity=3.0, force=20.0)
    assert "faster-than-top" in {f.code for f in moved(fast).findings}
    assert as_load(fast).settings.run.load_kind == "brakes"
