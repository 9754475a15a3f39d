"""Block commutation and indirect field orientation as C, compiled and run beside the kernels."""

from __future__ import annotations

import math
import shutil
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.bench.rules import settle
from crisp_compass.course.drive import build_drive
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.plant import state
from crisp_compass.plant.control.block import block_firmware, high_leg, low_leg
from crisp_compass.plant.control.rotor_field import rotor_firmware
from crisp_compass.plant.parameters import SPEED
from crisp_compass.plant.simulation import Simulation
from firmware.sources import run_rows, write_sources

pytestmark = pytest.mark.skipif(shutil.which("gcc") is None, reason="no C compiler")
COUNT = 3000


def in_six_steps(winch: Path) -> Bench:
    bench = enter(load_bench(winch), "current_loop", {"commutation": "block", "advance": 0.2})
    for key in ("current_loop", "speed_loop"):
        propose = BY_KEY[key].propose
        assert propose is not None
        found = propose(bench)
        bench = settle(bench, key, found.values, reason="test", when="t", rests_on=found.rests_on)
    return bench


def test_block_commutation_is_the_kernel(winch: Path, tmp_path: Path) -> None:
    bench = in_six_steps(winch)
    write_sources(bench, tmp_path)
    main = """#include "cc_block.h"
#include <stdio.h>
int main(void) {
    cc_block_state s = {0}; float r, i[3], angle, w, bus;
    while (scanf("%f %f %f %f %f %f %f", &r, &i[0], &i[1], &i[2], &angle, &w, &bus) == 7) {
        cc_block_out u = cc_block_step(&s, r, i, angle, w, bus);
        printf("%.9g %d %d\\n", (double)u.volts, u.high, u.low);
    }
    return 0;
}
"""
    rng = np.random.default_rng(3)
    drive = build_drive(bench)
    p = drive.machine.pole_pairs
    speed = 120 * np.sin(np.arange(COUNT) / 300)
    angle = np.cumsum(p * speed / 2e4) + 0.011
    reference = 3 + 6 * np.sin(np.arange(COUNT) / 70)
    current = reference[:, None] * rng.uniform(-1, 1, (COUNT, 3)) + 0.3 * rng.standard_normal((COUNT, 3))
    bus = 40 + 8 * np.sin(np.arange(COUNT) / 50)
    theirs = run_rows(
        tmp_path, "cc_block.c cc_current.c", main, np.column_stack([reference, current, angle, p * speed, bus])
    )
    sim = Simulation(drive._replace(sensing=drive.sensing._replace(noise=0.0, step=0.0, full_scale=1e9)))
    x, limited = sim.state, 0
    for k in range(COUNT):
        x[state.PHASE_A : state.PHASE_C + 1] = current[k]
        x[state.ANGLE_SEEN], x[state.SPEED_SEEN], x[state.V_BUS], x[state.IQ_REF] = (
            angle[k],
            speed[k],
            bus[k],
            reference[k],
        )
        volts, step = block_firmware(x, sim.drive, sim.inputs, SPEED)
        assert theirs[k, 0] == pytest.approx(volts, abs=2e-3)
        assert (theirs[k, 1], theirs[k, 2]) == (high_leg(int(step)), low_leg(int(step)))
        limited += abs(volts) > 0.999 * bus[k]
    assert 100 < limited < 0.95 * COUNT


@pytest.mark.thorough
def test_indirect_field_orientation_is_the_kernel(tmp_path: Path) -> None:
    bench = load_bench("demo/hoist/hoist.bench.json")
    write_sources(bench, tmp_path)
    assert "cc_current_step" not in (tmp_path / "cc_current.c").read_text()  # its decoupling is that of magnets
    main = """#include "cc_rotor.h"
#include <stdio.h>
int main(void) {
    cc_rotor_state s = {0}; cc_rotor_ab i; float q, angle, w, limit;
    while (scanf("%f %f %f %f %f %f", &q, &i.alpha, &i.beta, &angle, &w, &limit) == 6) {
        cc_rotor_ab u = cc_rotor_step(&s, cc_rotor_flux_current(w, s.flux, limit), q, i, angle, w, limit);
        printf("%.9g %.9g %.9g\\n", (double)u.alpha, (double)u.beta, (double)s.flux);
    }
    return 0;
}
"""
    rng = np.random.default_rng(4)
    drive = build_drive(bench)
    p = drive.machine.pole_pairs
    k = np.arange(COUNT)
    speed = 300 * np.sin(k / 500)  # beyond base speed, so that the flux is weakened
    angle = np.angle(np.exp(1j * np.cumsum(p * speed / 1e4)))
    torque = 3 * np.sin(k / 90)
    turn = np.exp(1j * (angle + k / 900))  # slow enough for a flux to grow
    current = (4.6 + 1j * torque + 0.2 * rng.standard_normal(COUNT)) * turn
    limit = 330 + 150 * np.sin(k / 60)
    rows = np.column_stack([torque, current.real, current.imag, angle, p * speed, limit])
    theirs = run_rows(tmp_path, "cc_rotor.c cc_current.c", main, rows)
    sim = Simulation(drive._replace(sensing=drive.sensing._replace(noise=0.0, step=0.0, full_scale=1e9)))
    x, limited, held, above = sim.state, 0, 0, 0
    for n in range(COUNT):
        x[state.I_ALPHA], x[state.I_BETA], x[state.IQ_REF] = current[n].real, current[n].imag, torque[n]
        x[state.ANGLE_SEEN], x[state.SPEED_SEEN], x[state.V_BUS] = (
            angle[n],
            speed[n],
            limit[n] / sim.drive.control.volts_per_bus,
        )
        va, vb = rotor_firmware(x, sim.drive, sim.inputs, SPEED)
        assert theirs[n, :2] == pytest.approx((va, vb), rel=3e-4, abs=0.05)  # at the corner of the circle a root
        assert theirs[n, 2] == pytest.approx(x[state.FLUX_SEEN], abs=1e-5)
        limited += math.hypot(va, vb) > 0.999 * limit[n]
        held += x[state.IQ_REF] != torque[n]
        above += abs(p * speed[n]) * x[state.FLUX_SEEN] > limit[n]
    assert 100 < limited < 0.95 * COUNT
    assert min(held, above) > 100
