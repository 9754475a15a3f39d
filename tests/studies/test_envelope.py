"""The torque–speed plane: closed forms, the simulated drive at and beyond its edge and its losses, the reasons that bind, and a limit above its reason."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.drive import build_drive, running_mode
from crisp_compass.course.envelope import above_reason, motor_on_plane, plane_of
from crisp_compass.loops.envelope import CURRENT, POWER, VOLTAGE, Losses, Motor, envelope, points
from crisp_compass.plant import state
from crisp_compass.plant.simulation import Simulation
from crisp_compass.views.envelope import contours

MAGNET = Motor("magnet", 0.4, 1e-3, 1e-3, 0.0168, 7.0, 1.5)


def demo(name: str, run: dict[str, Any] | None = None, **limits: Any) -> Bench:
    bench = load_bench(Path("demo") / name / f"{name}.bench.json")
    bench = enter(bench, "run", run) if run else bench
    return enter(bench, "limits", limits) if limits else bench


def test_edges_are_those_of_the_equations() -> None:
    """Below base speed 1.5·p·ψ·I; without current the voltage ends at V/(p·ψ); with weakening at V/(p·(ψ − Ld·I_weak)) where no resistance is."""
    speed = np.linspace(0.0, 300.0, 151)
    found = envelope(MAGNET, Losses(), speed, 24.0, 8.0)
    kt = 1.5 * 7 * 0.0168
    assert found.torque[10] == pytest.approx(kt * 8, rel=1e-6)
    assert found.binds[10] == CURRENT
    reach = speed[np.isfinite(found.torque)][-1]
    assert reach == pytest.approx(24 / (7 * 0.0168), abs=2.1)
    assert found.binds[100] == VOLTAGE
    weak = envelope(MAGNET._replace(r=0.0, weakest=4.0), Losses(), speed, 24.0, 8.0)
    assert speed[np.isfinite(weak.torque)][-1] == pytest.approx(24 / (7 * (0.0168 - 4e-3)), abs=2.1)
    # a supply of 50 W: T·ω + R·I² is 50 W on the edge
    fed = envelope(MAGNET, Losses(), speed, 24.0, 8.0, 50.0)
    k = 60
    assert fed.binds[k] == POWER
    i = fed.torque[k] / kt
    assert fed.torque[k] * speed[k] + 1.5 * 0.4 * i**2 == pytest.approx(50.0, rel=1e-4)
    p = points(MAGNET, Losses(1e-4, 0.01), np.array([0.5]), np.array([100.0]), 24.0)
    assert p.friction[0] == pytest.approx((1e-2 + 0.01) * 100.0)


@pytest.mark.parametrize(("name", "run"), [("winch", {"speed": 190.0}), ("winch", {"speed": 240.0, "weakening": 4.0}), ("hoist", {"speed": 60.0}), ("hoist", {"speed": 170.0})])
def test_the_simulated_drive_holds_what_is_inside_and_not_what_is_outside(name: str, run: dict[str, Any]) -> None:
    """A load of 0.93 of the edge is held, 1.12 of it is not."""
    bench = demo(name, run)
    torque = plane_of(bench).at(run["speed"])[0]
    held = {}
    for share in (0.93, 1.12):
        sim = Simulation(build_drive(bench))
        sim.command(running_mode(bench), speed=run["speed"])
        sim.advance(3.0, every=200)
        sim.set_load(share * torque)
        held[share] = float(np.mean(sim.advance(2.0, every=20)["speed"][-200:]))
    assert held[0.93] == pytest.approx(run["speed"], rel=0.02)
    assert held[1.12] < 0.985 * run["speed"]


@pytest.mark.parametrize(("name", "speed", "share"), [("winch", 120.0, 0.5), ("winch", 60.0, 0.9), ("hoist", 80.0, 0.6)])
def test_the_map_loses_what_the_simulated_drive_loses(name: str, speed: float, share: float) -> None:
    """What the bridge draws less what the load takes, in the mean over half a second, without the bridge's own losses."""
    bench = demo(name, {"speed": speed})
    torque = share * plane_of(bench).at(speed)[0]
    drive = build_drive(bench)
    drive = drive._replace(inverter=drive.inverter._replace(dead_voltage=0.0), sensing=drive.sensing._replace(noise=0.0))
    sim = Simulation(drive)
    sim.command(running_mode(bench), speed=speed)
    sim.advance(2.5, every=200)
    sim.set_load(torque)
    sim.advance(1.5, every=200)
    drawn = []
    for _ in range(5000):
        sim.skip(drive.control.ts)
        drawn.append(float(sim.state[state.DRAWN]))
    p = points(motor_on_plane(bench), Losses(drive.load.viscous, drive.load.coulomb), np.array([torque]), np.array([sim.speed]), 1e9)
    assert np.mean(drawn) - torque * sim.speed == pytest.approx(float(p.copper[0] + p.friction[0]), rel=0.04)


def test_each_reason_binds_where_it_is_the_least() -> None:
    plain = plane_of(demo("winch"))
    assert plain.at(50.0)[1] == "the firmware's current limit"
    assert plain.at(50.0)[3] == "the motor's rated current"
    assert plain.top_binds == "the voltage"
    m = motor_on_plane(demo("winch"))
    kt = 1.5 * m.pole_pairs * m.psi
    geared = plane_of(demo("winch", None, gear_torque=0.5, gear_lasting=0.2))
    assert geared.at(50.0)[:2] == (pytest.approx(0.5 - (0.5 - geared.at(50.0)[0])), "the gear's peak torque")
    assert geared.at(0.0)[0] == pytest.approx(0.5, rel=1e-3)
    assert geared.at(0.0)[2:] == (pytest.approx(0.2, rel=1e-3), "the gear's lasting torque")
    slow = plane_of(demo("winch", None, rotor_speed=150.0))
    assert (slow.top, slow.top_binds) == (150.0, "the rotor")
    counted = plane_of(demo("winch", None, sensor_hz=20e3))
    assert counted.top == pytest.approx(2 * math.pi * 20e3 / 2048)
    assert counted.top_binds == "the encoder's input"
    fed = plane_of(demo("winch", None, supply_power=60.0))
    assert fed.at(150.0)[1] == "the supply's power"
    warm = enter(demo("winch"), "heat", {"insulation": "F", "to_housing": 1.5, "to_air": 4.0})
    assert plane_of(warm).at(50.0)[3] == "the winding's temperature"
    assert plane_of(warm).at(50.0)[2] < plain.at(50.0)[2]
    assert kt * 8 > plain.at(50.0)[0]
    # the map: 60 by 60, its best is where contours say
    assert plain.efficiency.shape == (60, 60)
    lines = contours(plain.map_speed, plain.map_torque, plain.efficiency, (0.7, 0.85, 0.999))
    assert [c.level for c in lines] == [0.7, 0.85]
    heavy = plane_of(demo("winch", {"load": 1.2}))
    assert "load-beyond-lasting" in {f.code for f in heavy.findings}


def test_a_limit_above_its_reason_needs_a_name() -> None:
    raised = demo("winch", {"i_limit": 9.0, "i_trip": 15.0, "speed_trip": 500.0}, magnet_current=7.0, rotor_speed=400.0)
    found = above_reason(raised)
    assert [(f.level, f.code) for f in found] == [("stop", "limit-above-reason")] * 2
    assert "the magnet" in found[0].text
    named = enter(raised, "limits", {"because": "the maker agreed to 9 A for a second"})
    assert {f.level for f in above_reason(named)} == {"caution"}
    assert "the maker agreed" in above_reason(named)[0].text
    assert not above_reason(demo("winch"))
