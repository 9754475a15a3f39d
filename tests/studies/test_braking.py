"""The bus during a stop: closed forms, the balance of all energies, levels that cannot be, and what firmware and page make of it."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.bus import sinks
from crisp_compass.course.drive import build_drive, running_current, running_mode
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import SPEED, Brushed, Load
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.record.formats import export_settings
from crisp_compass.studies.braking import resistor_for, stop
from crisp_compass.studies.braking_outlook import braking_of
from crisp_compass.studies.scenarios import open_simulation

NO_WAY_BACK: dict[str, Any] = {"capacitance": 1e-3, "sinks": "no"}


def demo(name: str, run: dict[str, Any] | None = None, **bus: Any) -> Bench:
    bench = enter(load_bench(Path("demo") / name / f"{name}.bench.json"), "bus", bus)
    return enter(bench, "run", run) if run else bench


@pytest.mark.parametrize(("name", "bus"), [
    ("winch", NO_WAY_BACK), ("winch", {**NO_WAY_BACK, "brake_ohm": 20.0, "brake_on": 56.0}), ("pump", {"capacitance": 470e-6}), ("hatch", {"capacitance": 1e-3}), ("carousel", {"capacitance": 1e-3}),
])  # fmt: skip
def test_no_energy_is_lost_or_made(name: str, bus: dict[str, Any]) -> None:
    """What the supply gave is in friction, copper, shaft, capacitor and resistor, to 1e-3; losses of bridge and brushes taken away."""
    bench = demo(name, **bus)
    sim = open_simulation(bench, seed=1)
    d = sim.drive
    machine = d.machine._replace(drop=0.0) if isinstance(d.machine, Brushed) else d.machine
    sim.drive = d = d._replace(sensing=d.sensing._replace(noise=0.0), inverter=d.inverter._replace(dead_voltage=0.0, r_supply=1e-4), machine=machine)
    x, ts, load, target = sim.state, d.control.ts, d.load, bench.settings.run.speed
    stored, parts = 0.5 * d.inverter.capacitance * x[state.V_BUS] ** 2, []
    for speed, seconds in ((target, 1.5), (0.3 * target if name == "pump" else 0.0, 1.0)):
        sim.command(running_mode(bench), speed=speed, i_d=running_current(bench))
        parts.append(sim.advance(seconds))
    assert not sim.fault
    t = join(parts)
    w = np.abs(t["speed"])
    spent = {
        "friction": float(np.sum(load.viscous * w**2 + load.quadratic * w**3 + load.coulomb * w)) * ts, "copper": machine.torque_factor * machine.r * float(np.sum(t["i_d"] ** 2 + t["i_q"] ** 2)) * ts,
        "shaft": 0.5 * load.whole * x[state.OMEGA] ** 2, "capacitor": 0.5 * d.inverter.capacitance * x[state.V_BUS] ** 2 - stored, "resistor": float(x[state.CHOPPED]),
    }  # fmt: skip
    assert x[state.SUPPLIED] > 0
    assert sum(spent.values()) == pytest.approx(float(x[state.SUPPLIED]), rel=1e-3)
    assert (spent["resistor"] > 0) == ("brake_ohm" in bus)


def test_the_link_is_what_scipy_integrates(winch: Path) -> None:
    """A capacitor that charges through the source's resistance and is drained by the resistor, against SciPy's integrator."""
    bench = demo("winch", capacitance=2e-3, sinks="no", source_ohm=2.0, brake_ohm=30.0, brake_on=62.0)
    drive = build_drive(bench)
    sim = Simulation(drive)
    sim.state[state.V_BUS] = 20.0
    charged = sim.advance(0.012)
    t = charged["t"]
    expected = solve_ivp(lambda _, v: (48.0 - v) / (2.0 * 2e-3), (0, t[-1]), [20.0], t_eval=t, rtol=1e-9).y[0]
    np.testing.assert_allclose(charged["v_bus"], expected, rtol=0.02)
    sim.state[state.V_BUS], sim.state[state.CHOPPER] = 70.0, 1.0
    drained = sim.advance(0.05)
    on, off = drive.control.brake_on, drive.control.brake_off
    assert (on, off) == (62.0, pytest.approx(0.97 * 62.0))
    assert float(drained["v_bus"][-1]) == pytest.approx(off, rel=0.003)  # it let go there, and nothing flows back into this supply
    down = 30.0 * 2e-3 * math.log(70.0 / off)
    assert float(drained["t"][np.argmax(drained["v_bus"] < 1.0005 * off)] - drained["t"][0]) == pytest.approx(down, rel=0.02)


@pytest.mark.parametrize(("kind", "pulses"), [("one-phase", 2), ("three-phase", 6)])
def test_a_rectifier_ripples_as_scipy_integrates_it(kind: str, pulses: int) -> None:
    """A motor draws power through a rectifier: the link's voltage against SciPy's integrator, period by period in a steady state."""
    bench = demo("hoist", capacitance=2e-4, rectifier=kind, source_ohm=1.0)
    assert not sinks(bench)
    sim = open_simulation(bench)
    sim.command(running_mode(bench), speed=bench.settings.run.speed, i_d=running_current(bench))
    sim.skip(3.0)
    began = sim.time
    trace = sim.advance(0.04)
    power = float(sim.state[state.DRAWN])
    supply, hz = sim.supply, float(bench.settings.supply.mains_hz)

    def flows(t: float, v: FloatArray) -> list[float]:
        turn = 2 * math.pi * hz * t
        peak = supply * (abs(math.cos(turn)) if pulses == 2 else math.cos(turn % (math.pi / 3) - math.pi / 6))
        return [(max((peak - v[0]) / 1.0, 0.0) - power / v[0]) / 2e-4]

    t = began + (trace["t"] - trace["t"][0])
    found = solve_ivp(flows, (t[0] - 0.1, t[-1]), [supply], t_eval=t, max_step=2e-5, rtol=1e-8).y[0]
    assert power > 5
    assert np.ptp(found) > 0.2
    assert np.ptp(trace["v_bus"]) == pytest.approx(np.ptp(found), rel=0.25)
    assert np.mean(trace["v_bus"]) == pytest.approx(np.mean(found), rel=0.01)


def test_a_stop_lifts_the_bus_no_further_than_its_energy_does() -> None:
    found = stop(demo("winch", **NO_WAY_BACK))
    load = build_drive(demo("winch")).load
    assert found.kinetic == pytest.approx(0.5 * load.whole * 120.0**2, rel=0.02)
    assert found.closed_form == pytest.approx(math.sqrt(48.0**2 + 2 * found.kinetic / 1e-3), rel=2e-3)
    assert 60 < found.peak_volts < found.closed_form
    assert found.capacitor == pytest.approx(found.returned, rel=0.02)
    held = stop(demo("winch"))
    assert held.peak_volts < 48.2
    assert math.isnan(held.closed_form)
    burnt = stop(demo("winch", **NO_WAY_BACK, brake_ohm=22.0, brake_on=58.0))
    assert burnt.peak_volts < 58.6
    assert burnt.resistor > 0.4
    needed = resistor_for(demo("winch", **NO_WAY_BACK, brake_ohm=22.0, brake_on=58.0, brake_most=4.0, stops_every=2.0), burnt)
    assert needed is not None
    assert needed.most == pytest.approx(58.0**2 / burnt.peak_power)
    assert needed.least == pytest.approx(58.0 / 4.0)
    assert needed.mean == pytest.approx(burnt.resistor / 2.0)
    folded = stop(demo("winch", **NO_WAY_BACK, fold_start=55.0, fold_end=58.0))
    assert folded.peak_volts < 58.2
    assert not folded.fault
    assert folded.seconds > 1.3 * found.seconds
    tripped = braking_of(demo("winch", {"v_max": 60.0}, **NO_WAY_BACK))
    assert tripped.stop.fault == "over-voltage"
    assert [f.code for f in tripped.findings if f.level == "stop"] == ["stop-trips"]


def test_a_weight_that_is_lowered_drives_the_bus(winch: Path) -> None:
    """A hoist gives back for as long as it lowers: without a resistor the bus trips, with one it is held."""
    load: dict[str, Any] = {"load": 0.15, "load_kind": "drives", "speed": -60.0, "v_max": 70.0}
    for bus, fault in ((NO_WAY_BACK, "over-voltage"), ({**NO_WAY_BACK, "brake_ohm": 60.0, "brake_on": 60.0}, "")):
        bench = demo("winch", load, **bus)
        sim = open_simulation(bench)
        assert isinstance(sim.drive.load, Load)
        sim.command(SPEED, speed=-60.0)
        sim.advance(8.0, 100)
        assert sim.fault == fault


@pytest.mark.parametrize(("bus", "run", "message"), [
    ({"brake_ohm": 20.0}, {}, "no level at which it is switched on"), ({"brake_ohm": 20.0, "brake_on": 49.0}, {}, "burn for ever"), ({"brake_ohm": 20.0, "brake_on": 60.0}, {"v_max": 58.0}, "trips at 58.0 V before"),
    ({"brake_ohm": 2.0, "brake_on": 60.0, "brake_most": 10.0}, {}, "draw 30.0 A"), ({"fold_start": 60.0}, {}, "only one end"), ({"fold_start": 60.0, "fold_end": 58.0}, {}, "not above its start"),
    ({"fold_start": 40.0, "fold_end": 58.0}, {}, "could not brake then"), ({"fold_start": 56.0, "fold_end": 70.0}, {"v_max": 60.0}, "above the 60.0 V"),
])  # fmt: skip
def test_levels_that_cannot_be_are_refused(bus: dict[str, Any], run: dict[str, Any], message: str) -> None:
    with pytest.raises(Refusal, match=message):
        braking_of(demo("winch", run, **{**NO_WAY_BACK, **bus}))


def test_what_brakes_is_handed_over() -> None:
    bench = demo("winch", **NO_WAY_BACK, brake_ohm=22.0, brake_on=60.0, fold_start=56.0, fold_end=59.0)
    for form, word in (("c-header", "CC_BUS_BRAKE_ON_V (60.0f)"), ("json", '"bus.fold_end"'), ("csv", "fold_start")):
        assert word in export_settings(bench, form)
        assert "brake_on" not in export_settings(demo("winch"), form).lower()
    assert sinks(enter(demo("winch"), "supply", {"source": "battery"}))
    assert not sinks(enter(demo("winch"), "supply", {"source": "bench"}))
