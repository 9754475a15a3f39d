"""Circuits against ngspice, an independent simulator: the R–L step seen by the estimator, and the bridge's dead time."""

from __future__ import annotations

import math
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.modulation.full_bridge import Decay, leg_duties, winding_ripple
from crisp_compass.modulation.pwm import dead_time_voltage
from crisp_compass.plant.bench_tests import rl_response
from crisp_compass.plant.parameters import ALIGN, Brushed, Control, Drive, Inverter, Load, Sensing
from crisp_compass.plant.simulation import Simulation

pytestmark = pytest.mark.skipif(shutil.which("ngspice") is None, reason="ngspice is not installed")


def _run(circuit: str, folder: Path, columns: int) -> np.ndarray:
    """Run a netlist that writes ``out.txt`` with wrdata; return time and the vectors (n, columns)."""
    (folder / "c.cir").write_text(circuit)
    subprocess.run(["ngspice", "-b", "c.cir"], cwd=folder, capture_output=True, check=True, timeout=120)
    table = np.loadtxt(folder / "out.txt")
    return np.column_stack([table[:, 0], *(table[:, 2 * k + 1] for k in range(columns))])


RL = """R-L step between two terminals, supply with series resistance
V1 s 0 PULSE(0 6 0.5m 1u 1u 8m 16m)
Rs s a 0.12
Vi a a1 0
R1 a1 m 0.826
L1 m 0 2.24m
.tran 10u 24m 0 5u
.control
run
linearize v(a) i(Vi)
wrdata out.txt v(a) i(Vi)
quit 0
.endc
.end
"""


def test_rl_step_from_ngspice(tmp_path: Path) -> None:
    table = _run(RL, tmp_path, 2)
    keep = slice(0, None, 4)
    rng = np.random.default_rng(0)
    t, v, i = table[keep, 0], table[keep, 1], table[keep, 2]
    noisy = {"v_ab": v + 2e-3 * rng.standard_normal(len(t)), "i_a": i + 3e-3 * rng.standard_normal(len(t))}
    found = fit_inductance(Capture("ngspice", t, noisy)).estimates
    assert abs(found["resistance"].value - 0.413) < 4 * found["resistance"].u
    assert abs(found["inductance"].value - 1.12e-3) < 4 * found["inductance"].u
    assert found["inductance"].value == pytest.approx(1.12e-3, rel=5e-3)


def test_plant_rl_response_equals_ngspice(tmp_path: Path) -> None:
    table = _run(RL, tmp_path, 2)
    t = table[:, 0]
    source = np.where(((t % 16e-3) >= 0.5e-3) & ((t % 16e-3) < 8.5e-3), 6.0, 0.0)
    ours = rl_response(0.12 + 0.826, 2.24e-3, source, float(t[1] - t[0]))
    np.testing.assert_allclose(ours, table[:, 2], atol=0.03)  # edges differ by at most one 10 µs sample
    assert float(np.mean(np.abs(ours - table[:, 2]))) < 6e-3


BRIDGE = """One leg with dead time, ideal switches and diodes, current out of the leg
Vdc p 0 48
.model sw SW(Vt=0.5 Vh=0.1 Ron=1m Roff=1Meg)
.model dd D(N=0.01 Rs=1m)
Sh p a gh 0 sw
Sl a 0 gl 0 sw
Dh a p dd
Dl 0 a dd
Vgh gh 0 PULSE(0 1 {on_h} 1n 1n {len_h} 50u)
Vgl gl 0 PULSE(0 1 {on_l} 1n 1n {len_l} 50u)
Il a 0 DC {current}
.tran 20n 500u 0 20n
.control
run
linearize v(a)
wrdata out.txt v(a)
quit 0
.endc
.end
"""


@pytest.mark.parametrize("current", [5.0, -5.0])
def test_dead_time_voltage_of_a_leg(current: float, tmp_path: Path) -> None:
    """Mean leg voltage at half duty is Vdc/2 ∓ t_dead·f·Vdc, against the current's sign."""
    dead, carrier = 1e-6, 20e3
    circuit = BRIDGE.format(on_h=dead, len_h=25e-6 - dead, on_l=25e-6 + dead, len_l=25e-6 - dead, current=current)
    table = _run(circuit, tmp_path, 1)
    whole = table[(table[:, 0] >= 100e-6) & (table[:, 0] < 500e-6)]
    lost = 24.0 - float(np.mean(whole[:, 1]))
    expected = dead_time_voltage(dead, carrier, 48.0) * math.copysign(1, current)
    assert lost == pytest.approx(expected, abs=0.03)


EDDY = """Steps onto a winding whose iron carries eddy currents: a resistor across part of the inductance
V1 a 0 PULSE(0 6 0.5m 1u 1u 8m 16m)
Vi a a1 0
R1 a1 m 0.826
L1 m n 1.9m
L2 n 0 0.34m
R2 n 0 2.4
.tran 5u 40m 0 2.5u
.control
run
linearize v(a) i(Vi)
wrdata out.txt v(a) i(Vi)
quit 0
.endc
.end
"""


def test_eddy_currents_from_ngspice(tmp_path: Path) -> None:
    """The slow inductance (1.12 mH a phase) is found, and what is missing at first is said."""
    table = _run(EDDY, tmp_path, 2)
    keep = slice(0, None, 3)
    rng = np.random.default_rng(1)
    t, v, i = table[keep, 0], table[keep, 1], table[keep, 2]
    noisy = {"v_ab": v + 2e-3 * rng.standard_normal(len(t)), "i_a": i + 3e-3 * rng.standard_normal(len(t))}
    found = fit_inductance(Capture("ngspice", t, noisy))
    assert "eddy-currents" in [f.code for f in found.findings]
    assert found.estimates["inductance"].value == pytest.approx(1.12e-3, rel=5e-3)
    assert abs(found.estimates["inductance"].value - 1.12e-3) < 4 * found.estimates["inductance"].u
    assert found.estimates["resistance"].value == pytest.approx(0.413, rel=5e-3)


@pytest.mark.parametrize("hertz", [60.0, 400.0])
def test_injected_sine_impedance_from_ngspice(hertz: float, tmp_path: Path) -> None:
    """An AC source on R–L in series: the estimator separates R = 0.413 Ω and L = 1.12 mH at either frequency."""
    circuit = f"""Injected sine
V1 a 0 SIN(0 2 {hertz})
Vi a a1 0
R1 a1 m 0.826
L1 m 0 2.24m
.tran {1 / hertz / 400} {12 / hertz} {2 / hertz} {1 / hertz / 800}
.control
run
linearize v(a) i(Vi)
wrdata out.txt v(a) i(Vi)
quit 0
.endc
.end
"""
    table = _run(circuit, tmp_path, 2)
    keep = slice(0, None, 4)
    rng = np.random.default_rng(2)
    t, v, i = table[keep, 0] - table[0, 0], table[keep, 1], table[keep, 2]
    noisy = {"v_ab": v + 2e-3 * rng.standard_normal(len(t)), "i_a": i + 2e-3 * rng.standard_normal(len(t))}
    found = fit_inductance(Capture("ngspice", t, noisy)).estimates
    for name, truth in (("resistance", 0.413), ("inductance", 1.12e-3)):
        assert found[name].value == pytest.approx(truth, rel=1e-2), name
        assert abs(found[name].value - truth) < 4 * found[name].u, name


FULL = """Winding between two legs, switched {decay}: ideal legs as pulse sources
Va a 0 PULSE(0 30 {delay_a} 1n 1n {on_a} 40u)
Vb b 0 PULSE(0 30 {delay_b} 1n 1n {on_b} 40u)
Vi a a1 0
R1 a1 m 1.1
L1 m b 2.4m
.tran 0.1u 24m 23.6m 0.1u
.control
run
linearize i(Vi)
wrdata out.txt i(Vi)
quit 0
.endc
.end
"""


@pytest.mark.parametrize("decay", ["slow", "fast"])
def test_ripple_and_mean_of_a_winding_between_two_legs(decay: Decay, tmp_path: Path) -> None:
    volts, bus, period = 4.5, 30.0, 40e-6
    duty = leg_duties(np.array([volts]), bus, decay)[0]
    on = [f"{d * period:.9g}" for d in duty]
    # fast decay: the legs switch against each other
    delay_b = f"{duty[0] * period:.9g}" if decay == "fast" else "1" if duty[1] == 0 else "0"
    text = FULL.format(decay=decay, delay_a="0", on_a=on[0], delay_b=delay_b, on_b=on[1] if duty[1] > 0 else "1u")
    i = _run(text, tmp_path, 1)[:, 1]
    wanted = winding_ripple(np.array([volts]), bus, 2.4e-3, 1 / period, decay)[0]
    assert float(np.ptp(i)) == pytest.approx(float(wanted), rel=0.03)
    assert float(np.mean(i)) == pytest.approx(volts / 1.1, rel=0.01)


BRUSHED = """A brushed motor at 9 V with an ideal drop of its brushes; speed is the voltage of a capacitor J, Ke its gyrator
V1 s 0 PULSE(0 9 0 1u 1u 1 2)
Vi s a 0
R1 a b 0.91
L1 b c 1.4m
Vd c d 0.55
Be d 0 V=0.0287*V(w)
Bt 0 w I=0.0287*I(Vi)-2.6m
Cj w 0 22u IC=0
Rv w 0 {viscous}
.tran 20u 0.2 0 10u uic
.control
run
linearize i(Vi) v(w)
wrdata out.txt i(Vi) v(w)
quit 0
.endc
.end
"""


def test_a_brushed_motor_starts_as_ngspice_has_it(tmp_path: Path) -> None:
    table = _run(BRUSHED.format(viscous=1 / 6e-6), tmp_path, 2)
    motor = Brushed(0.91, 1.4e-3, 1.4e-3, 0.0287, drop=0.55)
    sim = Simulation(
        Drive(motor, Load(22e-6, 6e-6, 2.6e-3), Inverter(14.0), Sensing(), Control(ts=1e-5, delay_samples=0.5))
    )
    sim.command(ALIGN, i_d=9.0)
    ours = sim.advance(0.2)
    late = table[:, 0] > 2e-3  # ngspice's friction also brakes before the torque exceeds it
    i, w = (np.interp(table[late, 0], ours["t"], ours[k]) for k in ("i_q", "speed"))
    assert i == pytest.approx(table[late, 1], abs=0.01 * float(np.max(table[:, 1])))
    assert w == pytest.approx(table[late, 2], abs=0.01 * float(np.max(table[:, 2])))
