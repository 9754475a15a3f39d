"""Moves of a stepped field: lost steps by fours, holding torque by energy, the least current, and a drive that believes."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.open_loop import stepping_current
from crisp_compass.course.position import as_designed, count_of, holds_position, move_of
from crisp_compass.errors import Refusal
from crisp_compass.plant import state
from crisp_compass.studies.move_map import KEEPS, move_map, move_rate, move_study
from crisp_compass.studies.scenarios import open_simulation
from crisp_compass.studies.stepped_move import play_steps, stepped_outlook
from crisp_compass.studies.stepping import pull_in
from crisp_compass.studies.untuned_drive import untuned_drive

DEMO = Path(__file__).parents[2] / "demo"


def opened(**motion: object) -> Bench:
    bench = load_bench(DEMO / "carousel" / "carousel.bench.json")
    wishes = {"distance": 10.0, "speed": 40.0, "accel": 400.0, "rounding": None, **motion}
    return enter(enter(bench, "sensor", {"kind": "none"}), "motion", wishes)


@pytest.mark.parametrize(("share", "lost"), [(0.9, False), (1.1, True)])
def test_a_load_beyond_the_holding_torque_loses_steps_by_fours(share: float, lost: bool) -> None:
    """A weight that pulls with more than p·ψ·I less the friction that helps turns the rotor round turn by turn; with less it holds (the torque is p·ψ·I·sin of the lag)."""
    bench = as_designed(enter(opened(speed=2.0, accel=20.0), "stepping", {"idle": 1.0}))
    sim = open_simulation(bench)
    m, current = sim.drive.machine, stepping_current(bench)
    most = m.pole_pairs * m.psi * current + sim.drive.load.coulomb
    sim.set_load(share * most, drives=True)
    played = play_steps(sim, move_of(bench), current, count_of(bench))
    assert bool(played.lost) == lost
    assert played.lost % 4 == 0
    assert (played.behind > 2.0) == lost
    if not lost:
        assert played.real[-1] == pytest.approx(played.commanded[-1], abs=0.5 * math.pi / m.pole_pairs)
        assert sim.state[state.FIELD] == pytest.approx(m.pole_pairs * round(10.0 / count_of(bench)) * count_of(bench), rel=1e-12)


@pytest.mark.thorough
def test_the_least_current_and_the_most_acceleration_are_edges() -> None:
    bench = opened()
    found = stepped_outlook(bench)
    assert not found.played.lost
    assert found.least_current < found.current
    assert found.most_accel > found.move.accel
    rms = found.least_current / math.sqrt(2)
    below = stepped_outlook(enter(bench, "stepping", {"current": 0.85 * rms}))
    assert math.isnan(below.least_current)
    above = stepped_outlook(enter(bench, "stepping", {"current": 1.15 * rms}))
    assert math.isfinite(above.least_current)
    near = stepped_outlook(enter(bench, "motion", {"accel": 0.9 * found.most_accel}))
    assert math.isfinite(near.least_current)
    heavy = stepped_outlook(enter(bench, "run", {"load": 1.2}))
    assert "steps-lost" in [f.code for f in heavy.findings]
    assert math.isnan(heavy.most_accel)


def test_moves_settled_for_a_stepped_field_hold_no_place_by_a_sensor() -> None:
    stepped = as_designed(opened())
    assert holds_position(stepped)
    assert not holds_position(enter(stepped, "sensor", {"kind": "incremental"}))


def test_a_move_may_change_under_way_and_begin_from_a_speed() -> None:
    bench = as_designed(opened(rounding=0.01))
    sim, current, count = open_simulation(bench), stepping_current(bench), count_of(bench)
    from crisp_compass.plant.parameters import PULSE, STEP

    sim.command(STEP, speed=15.0, i_d=current)
    sim.advance(0.4, 100)
    for counts, seconds in ((4000, 0.1), (-900, 0.15), (12345, 1.5)):
        sim.command(PULSE, position=counts * count, i_d=current)
        sim.advance(seconds, 100)
    assert sim.state[state.FIELD] == pytest.approx(sim.drive.machine.pole_pairs * 12345 * count, rel=1e-12)
    assert abs(sim.state[state.FIELD] / sim.drive.machine.pole_pairs - sim.state[state.THETA]) < 0.02


def test_how_often_a_move_keeps_its_place_over_current_and_acceleration() -> None:
    """Little current loses whatever the acceleration, plenty keeps; the quickest lies below what all torque would make of the inertia; the same seeds give the same map."""
    study = move_study(enter(opened(), "run", {"load": 0.3}))
    made = move_map(study, columns=4, rows=3, draws=2, workers=1)
    kept = made.counts[:, :, KEEPS]
    assert not kept[0].any()  # a fifth of the current holds less than the load
    assert (kept[-1, 0], kept[2, 0]) == (2, 2)
    assert (np.diff(kept.sum(axis=0)) <= 0).all()
    assert (made.outcomes >= 0).all()
    again = move_map(study, columns=4, rows=3, draws=2, workers=1)
    assert (again.outcomes == made.outcomes).all()
    rate = move_rate(study, tries=20, workers=1)
    m = study.drive.machine
    physical = (m.pole_pairs * m.psi * study.current - 0.3) / study.drive.load.whole
    assert 0.1 * physical < rate.quickest * study.move.accel < physical
    assert rate.share[-1] < 0.9
    assert (rate.interval[:, 0] <= rate.share).all()
    rounded = move_study(opened(rounding=0.02))
    assert rounded.most * rounded.move.accel == pytest.approx(rounded.move.speed / 0.02)  # what its rounding lets through
    with pytest.raises(Refusal, match="no distance"):
        move_study(opened(distance=0.0))


@pytest.mark.parametrize("heavier", [1.0, 16.0])
def test_pulses_without_a_ramp_kick_a_pendulum(heavier: float) -> None:
    """In the field's frame the rotor is a pendulum that is kicked with the field's speed: it falls over beyond 2·√(p·T/J)/p, friction aside (energy reasoning); a load takes from that."""
    bench = enter(opened(), "stepping", {"microsteps": 64})
    drive, current = untuned_drive(bench), stepping_current(bench)
    drive = drive._replace(load=drive.load._replace(inertia=heavier * drive.load.inertia), control=drive.control._replace(microsteps=64.0, i_trip=1e9, v_min=0.0, i_limit=1e9))
    m = drive.machine
    holding = m.pole_pairs * m.psi * current
    energy = 2 * math.sqrt(m.pole_pairs * holding / drive.load.whole) / m.pole_pairs
    found = pull_in(drive, current, 0.0, 150.0)
    assert 0.8 * energy < found < 1.05 * energy
    assert pull_in(drive, current, 0.6 * holding, 150.0) < 0.8 * found
    assert pull_in(drive, current, 1.2 * holding, 150.0) == 0.0
