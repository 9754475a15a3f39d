"""A load that swings with the shaft's angle, by theory and by the simulated drive; and a torque held instead of a speed."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settle
from crisp_compass.bench.store import load_bench
from crisp_compass.course.drive import build_drive
from crisp_compass.course.speed_design import design_speed, plant_of, slow_loop, torque_constant
from crisp_compass.course.torque_mode import friction_current, holds_torque, torque_currents
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.drive.port import Token
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.loops.speed_figures import load_step, swing_answer
from crisp_compass.plant.parameters import CURRENT, SPEED
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.scenarios import open_simulation
from crisp_compass.studies.speed_outlook import figures
from crisp_compass.studies.speed_trial import try_speed_loop
from crisp_compass.studies.torque_trial import torque_trial


def demo(name: str, **run: Any) -> Bench:
    return enter(load_bench(Path("demo") / name / f"{name}.bench.json"), "run", run)


@pytest.mark.parametrize(("name", "order"), [("winch", 2.0), ("winch", 9.0), ("hoist", 1.0)])
def test_the_speed_swings_as_theory_says(name: str, order: float) -> None:
    """The closed loop's answer to a load at n times the turn, and the amplitude that the drive shows there."""
    bench = demo(name, swing=0.05, swing_order=order)
    assert build_drive(bench).load.swing == 0.05
    trial, design = try_speed_loop(bench), design_speed(bench)
    assert trial is not None
    answer = swing_answer(plant_of(bench), design.kp, design.ki, order * trial.at / 2 / math.pi)
    assert answer is not None
    assert trial.swing == pytest.approx(0.05 * answer, rel=0.18)
    assert any(row[0].startswith("swings at") for row in figures(bench, design, trial))
    # what swings does not count as the sensor's ripple, nor change the other figures
    still = try_speed_loop(demo(name))
    assert still is not None
    assert trial.noise == pytest.approx(still.noise, rel=0.2)
    assert math.isnan(still.swing)
    # slowly it is the stiffness: T/(Kt·Ki) of angle, j·ω of that as speed
    plant, w = plant_of(bench), 0.02 * design.margins.crossover_hz * 2 * math.pi
    step = load_step(plant, design.kp, design.ki, 0.1)
    assert step is not None
    assert swing_answer(plant, design.kp, design.ki, w / 2 / math.pi) == pytest.approx(w / step.stiffness, rel=0.03)


@pytest.mark.parametrize(("name", "torque"), [("winch", 0.4), ("hoist", 2.0), ("hatch", 0.02)])
def test_a_torque_is_held(name: str, torque: float) -> None:
    """Less than friction and load it rests; more accelerates by what is left over the inertia, as long as the voltage reaches."""
    bench = demo(name, holds="torque", torque=torque, load=0.0)
    drive = SimulatedDrive(bench)
    token = drive.arm("test")
    drive.pull(token, torque)
    assert drive.surroundings is not None
    drive.surroundings.set_load(20.0)  # held: a cage builds its field first
    for _ in range(40):  # a holder who is silent for longer loses it
        drive.exchange(token, 0.02)
    drive.surroundings.set_load(0.0)
    drive.exchange(token, 0.005)
    told = drive.exchange(token, 0.03)
    made = float(np.mean(told["torque"]))
    assert made == pytest.approx(torque, rel=0.06)
    load = build_drive(bench).load
    rise = (told["speed"][-1] - told["speed"][0]) / (told["t"][-1] - told["t"][0])
    drag = load.coulomb + load.viscous * float(np.mean(told["speed"]))
    assert rise * load.whole == pytest.approx(made - drag, rel=0.12)
    with pytest.raises(Refusal, match="disarmed"):
        drive.pull(Token("nobody"), torque)
    i_d, i_q = torque_currents(bench, 1e6)
    assert math.hypot(i_d, i_q) == pytest.approx(bench.settings.run.i_limit)


@pytest.mark.parametrize(("name", "block"), [("winch", False), ("winch", True), ("hatch", False), ("carousel", False)])
def test_a_drag_cancel_hides_friction_while_no_torque_is_asked_for(name: str, block: bool) -> None:
    """A shaft that was turned slows by friction less what is added; forwards it is added at rest, too, and never beyond the current limit."""
    bench = demo(name, holds="torque", torque=0.0, load=0.0)
    if block:
        bench = again(enter(bench, "current_loop", {"commutation": "block"}), "current_loop", "speed_loop")
    kt, at = torque_constant(bench), 0.4 * bench.settings.plate.top_speed
    cancel = 0.6 * friction_current(bench, at)

    def slowing(turned: float, **run: Any) -> float:
        sim = open_simulation(enter(bench, "run", run))
        sim.retune(sim.drive._replace(machine=sim.drive.machine._replace(detent=0.0)))
        sim.turn_at(turned)
        sim.command(CURRENT)
        sim.skip(0.008)
        before = sim.speed
        sim.skip(0.004)
        return (sim.speed - before) / 0.004 * sim.drive.load.whole

    for turned in (at, -at):
        plain, less = slowing(turned), slowing(turned, drag_cancel=cancel)
        assert less - plain == pytest.approx(math.copysign(cancel * kt, turned), rel=0.12)
    ahead = slowing(-at, drag_cancel=cancel, drag_way="forwards") - slowing(-at)
    assert ahead == pytest.approx(cancel * kt, rel=0.12)
    full = build_drive(enter(bench, "run", {"drag_cancel": 1e3})).control
    assert (full.roll, full.roll_knee) == (full.i_limit, pytest.approx(0.01 * bench.settings.plate.top_speed))


def test_how_even_a_torque_is() -> None:
    """Cogging as entered comes back at its order with its height, beside what is left without it; the least current is that of the reluctance torque."""
    plain = torque_trial(demo("winch", torque=0.4))
    found = torque_trial(demo("winch", torque=0.4, swing=0.02, swing_order=12.0))
    assert found.amplitudes[11] == pytest.approx(0.02, rel=0.03)
    assert found.orders[11] == 12
    assert dict(found.parts)["cogging, as entered"] == pytest.approx(0.02 / math.sqrt(2), rel=0.05)
    assert found.held == pytest.approx(0.4, rel=0.01)
    assert found.ripple**2 - plain.ripple**2 == pytest.approx(0.02**2 / 2, rel=0.1)
    m = build_drive(demo("winch")).machine
    angle = np.linspace(0.0, math.pi / 2, 4001)
    d, q = -found.least * np.sin(angle), found.least * np.cos(angle)
    assert float(np.max(1.5 * m.pole_pairs * (m.psi * q + (m.ld - m.lq) * d * q))) == pytest.approx(found.held, rel=1e-4)
    # at the end of the voltage less is left, and the page says by what; what friction takes is not to be driven by the drag cancel
    fast = torque_trial(demo("winch", torque=1.0, speed=1.02 * demo("winch").settings.plate.top_speed))
    assert fast.held < 0.97
    assert [f.code for f in fast.findings if f.level == "caution"] == ["torque-by-voltage"]
    assert "drag-drives" in [f.code for f in torque_trial(demo("winch", torque=0.4, drag_cancel=2.0)).findings]
    with pytest.raises(Refusal, match="no torque is asked for"):
        torque_trial(demo("winch", torque=0.0))


def test_where_no_torque_is_held() -> None:
    pump = demo("pump", holds="torque", torque=0.01)
    assert not holds_torque(pump)
    with pytest.raises(Refusal, match="holds no torque from rest"):
        torque_currents(pump, 0.01)


def test_below_a_speed_the_loop_is_slower_and_full_from_twice_of_it() -> None:
    """The speed's swing under a slow load torque is that of the slower gains there, that of the full ones beyond."""
    bench = again(enter(demo("winch"), "speed_loop", {"slow_below": 30.0, "slow_share": 0.4}))
    design = design_speed(bench)
    slow = slow_loop(bench, design)
    assert slow is not None
    assert slow.stable
    assert slow.crossover_hz == pytest.approx(0.4 * design.margins.crossover_hz, rel=0.1)
    for speed, part in ((20.0, 0.4), (80.0, 1.0)):
        drive = build_drive(enter(bench, "run", {"swing": 0.03, "swing_order": 3.0}))
        sim = Simulation(drive)
        sim.command(SPEED, speed=speed)
        sim.advance(1.5, every=100)
        trace = sim.advance(1.5)
        turn = np.exp(-3j * trace["angle"])
        seen = 2 * abs(np.mean((trace["speed"] - trace["speed"].mean()) * turn))
        answer = swing_answer(plant_of(bench), design.kp * part, design.ki * part**2, 3 * speed / 2 / math.pi)
        assert answer is not None
        assert seen == pytest.approx(0.03 * answer, rel=0.15)
    assert any(row[0].startswith("below ") for row in figures(bench, design, None))


def again(bench: Bench, *topics: str) -> Bench:
    for key in topics or ("speed_loop",):
        propose = BY_KEY[key].propose
        assert propose is not None
        found = propose(bench)
        bench = settle(bench, key, found.values, reason="test", when="2026-05-12", rests_on=found.rests_on)  # type: ignore[arg-type]
    return bench
