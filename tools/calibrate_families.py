"""The estimators of steppers, brushed and induction motors put to the test; cases for tools/calibrate.py."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Protocol

import numpy as np
from numba import njit
from scipy.integrate import solve_ivp

from crisp_compass.capture import Capture
from crisp_compass.estimates import Estimate, Result
from crisp_compass.identify.armature import fit_armature
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.induction import fit_induction
from crisp_compass.identify.resistance import fit_resistance
from crisp_compass.identify.two_phase import fit_winding_flux

Array = np.ndarray
Case = tuple[Callable[[], Result], dict[str, float]]
STEPPER, BRUSHED, INDUCTION = {"family": "stepper"}, {"family": "brushed"}, {"family": "induction"}


class Bench(Protocol):
    """Random numbers and instruments of one capture (tools/calibrate.py)."""

    rng: np.random.Generator

    def log(self, low: float, high: float) -> float: ...
    def even(self, low: float, high: float) -> float: ...
    def whole(self, low: int, high: int) -> int: ...
    def read(self, values: Array, *, offset: bool = True) -> Array: ...


def _levels(b: Bench, r: float, drop: float, *, both: bool) -> tuple[Array, Array]:
    """Voltages held one after the other, the current following with its time constant."""
    hold, tau = b.whole(150, 400), b.even(2, 12)
    top = b.log(0.3, 10.0) if not drop else b.even(2, 8) * drop / r
    levels = np.linspace(-top if both else 0.15 * top, top, b.whole(6, 11))
    goal = np.repeat(levels + 0.02 * top * b.rng.uniform(-1, 1, len(levels)), hold)  # set by hand
    i, now = np.empty(len(goal)), 0.0
    for k, wanted in enumerate(goal):
        now = wanted + (now - wanted) * math.exp(-1 / tau)
        i[k] = now
    soft = b.even(0.005, 0.015) * top
    return r * goal + drop * np.tanh(goal / soft), i


def winding_levels(b: Bench) -> Case:
    """DC levels of one winding of a stepper."""
    r = b.log(0.1, 30.0)
    v, i = _levels(b, r, 0.0, both=b.rng.random() < 0.6)
    capture = Capture("c", np.arange(len(v)) * 1e-3, {"v_b": b.read(v), "i_b": b.read(i)}, STEPPER)
    return lambda: fit_resistance(capture), {"resistance": r}


def armature_levels(b: Bench) -> Case:
    """DC levels of an armature with the drop of its brushes, both ways."""
    r, drop = b.log(0.1, 10.0), b.even(0.3, 1.5)
    v, i = _levels(b, r, drop, both=True)
    capture = Capture("c", np.arange(len(v)) * 1e-3, {"v_m": b.read(v), "i_m": b.read(i)}, BRUSHED)
    return lambda: fit_resistance(capture), {"resistance": r, "voltage_offset": drop}


@njit(cache=True)
def _switched(source: Array, sag: float, drop: float, r: float, fade: float) -> tuple[Array, Array]:
    """Voltage and current of a winding, exact between fine steps; brushes block what would turn the current."""
    v, i, now = np.empty(len(source)), np.empty(len(source)), 0.0
    for k in range(len(source)):
        v[k] = source[k] - (sag * now if source[k] > 0 else 0.0)
        goal = (v[k] - (drop if now > 0 or v[k] > drop else 0.0)) / r
        now = goal + (now - goal) * fade
        if drop > 0:
            now = max(now, 0.0)
        i[k] = now
    return v, i


def _pulsed(b: Bench, r: float, inductance: float, drop: float) -> tuple[Array, Array, Array]:
    """A supply switched on and off; where brushes drop, the current comes to rest. Exact between fine steps."""
    tau, fine = inductance / r, 40
    rate = b.even(30, 200) / tau
    t = np.arange(int(b.even(8, 14) * b.whole(1, 4) * tau * rate) * fine) / rate / fine
    top = b.log(0.5, 8.0) * r + drop * b.even(2, 5)
    source = np.where((t / (10 * tau) + 0.6) % 1 < 0.5, top, 0.0)
    v, i = _switched(source, 0.03 * r, drop, r, math.exp(-t[1] / tau))
    keep = slice(b.whole(0, fine - 1), None, fine)
    return t[keep], v[keep], i[keep]


def winding_steps(b: Bench) -> Case:
    """Voltage steps on one winding of a stepper, the other idle beside it."""
    r, inductance = b.log(0.2, 30.0), b.log(2e-4, 5e-2)
    t, v, i = _pulsed(b, r, inductance, 0.0)
    idle = 1e-3 * b.rng.standard_normal((2, len(t)))
    columns = {"v_a": b.read(v), "i_a": b.read(i), "v_b": idle[0], "i_b": 1e-3 * idle[1]}
    capture = Capture("c", t - t[0], columns, STEPPER)
    return lambda: fit_inductance(capture), {"inductance": inductance}


def armature_steps(b: Bench) -> Case:
    """Voltage steps on a held armature; the brushes let the current come to rest."""
    r, inductance, drop = b.log(0.1, 10.0), b.log(1e-4, 2e-2), b.even(0.3, 1.5)
    t, v, i = _pulsed(b, r, inductance, drop)
    capture = Capture("c", t - t[0], {"v_m": b.read(v), "i_m": b.read(i)}, BRUSHED)
    return lambda: fit_inductance(capture), {"inductance": inductance}


def armature_running(b: Bench) -> Case:
    """Levels of different speed and load, the brushes' drop with a soft knee."""
    ke, r, drop, top = b.log(2e-3, 0.3), b.log(0.1, 10.0), b.even(0.2, 1.2), b.log(60, 900)
    count, hold = b.whole(6, 12), b.whole(40, 200)
    speeds = np.linspace(b.even(0.1, 0.3), 1.0, count) * top
    if b.rng.random() < 0.5:
        speeds = np.concatenate([speeds, -speeds])
    speeds = b.rng.permutation(speeds)
    i_top = b.even(0.05, 0.3) * ke * top / r
    load = i_top * b.rng.uniform(0.1, 1.0, len(speeds)) * np.sign(speeds)
    w, i = np.repeat(speeds, hold), np.repeat(load, hold)
    v = r * i + ke * w + drop * np.tanh(i / (0.01 * i_top))
    columns = {"v_m": b.read(v), "i_m": b.read(i, offset=False), "speed": b.read(w, offset=False)}
    capture = Capture("c", np.arange(len(v)) * 1e-3, columns, BRUSHED)
    return lambda: fit_armature(capture), {"ke": ke}


def winding_coast(b: Bench) -> Case:
    """Open windings of a stepper that coasts over its detents, with a third and a fifth in its waveform."""
    p, psi, inertia, speed, seconds = 50, b.log(1e-3, 3e-2), b.log(1e-6, 3e-5), b.even(15, 80), b.even(0.05, 0.2)
    third, fifth = b.even(0.0, 0.05), b.even(0.0, 0.03)
    detent = b.log(5e-4, 2e-2) * 4 * p * inertia * speed**2
    drag = b.even(0.3, 0.7) * inertia * speed / seconds

    def slope(_: float, y: Array) -> list[float]:
        return [p * y[1], -(detent * math.sin(4 * y[0]) + drag) / inertia]

    t = np.arange(0, seconds, 2 * math.pi / (p * speed) / b.even(40, 120))
    limits = {"rtol": 1e-7, "atol": 1e-9, "max_step": 0.4 / (p * speed)}
    theta, omega = solve_ivp(slope, (0, seconds), [b.even(0, 6), speed], t_eval=t, **limits).y

    def emf(at: Array) -> Array:
        return b.read(-psi * p * omega * (np.sin(at) + third * np.sin(3 * at) + fifth * np.sin(5 * at)))

    columns = {"v_a": emf(theta)} | ({"v_b": emf(theta - math.pi / 2)} if b.rng.random() < 0.7 else {})
    capture = Capture("c", t, columns, STEPPER)
    truth = {"flux_linkage": psi, "harmonic_3": third, "harmonic_5": fifth}
    return lambda: fit_winding_flux(capture, pole_pairs=p), truth


def armature_coast(b: Bench) -> Case:
    """Voltage and speed of an open armature that coasts, the commutator's ripple on the voltage."""
    ke, top, seconds = b.log(1e-3, 0.3), b.log(30, 900), b.even(0.5, 4)
    t = np.linspace(0, seconds, b.whole(300, 6000))
    speed = np.maximum(top * (1 - b.even(0.1, 1.1) * t / seconds) * np.exp(-b.even(0, 1) * t / seconds), 0)
    v = ke * speed * (1 + 0.01 * np.sin(14 * np.cumsum(speed) * t[1]))
    capture = Capture("c", t, {"v_m": b.read(v), "speed": b.read(speed, offset=False)}, BRUSHED)
    return lambda: fit_armature(capture), {"ke": ke}


class _Cage:
    """A T circuit drawn over wide ranges, with its iron loss beside the magnetizing branch."""

    def __init__(self, b: Bench) -> None:
        base = math.sqrt(2 / 3) * float(b.rng.choice([230, 400])) / (math.sqrt(2) * b.log(1, 100))
        self.omega = 2 * math.pi * float(b.rng.choice([50, 60]))
        self.stator, self.rotor = base * b.log(0.02, 0.1), base * b.log(0.02, 0.1)
        self.leak_1, self.leak_2 = (base * b.even(0.06, 0.14) / self.omega for _ in range(2))
        self.mutual = base * b.even(1.6, 3.5) / self.omega
        self.iron = float(b.rng.choice([0.0, 1.0])) * b.even(0, 0.015) / base
        self.base = base

    def impedance(self, omega: float, slip: float) -> complex:
        return (
            self.stator
            + 1j * omega * self.leak_1
            + 1 / (1 / (1j * omega * self.mutual) + self.iron + 1 / (self.rotor / slip + 1j * omega * self.leak_2))
        )

    def capture(self, b: Bench, omega: float, slip: float, volts: float) -> Capture:
        t = np.arange(0, b.whole(10, 40) * 2 * math.pi / omega, 1 / b.log(3e3, 2e4))
        uneven = b.even(0, 0.02) * np.exp(1j * b.even(0, 6.28))
        parts = [(1, 1, volts * np.exp(1j * b.even(0, 6.28)), slip), (1, -1, volts * uneven, 2 - slip)]
        for order, sense in ((5, -1), (7, 1), (11, -1)):
            size = 0.01 * volts * b.even(0, 1) * np.exp(1j * b.even(0, 6.28))
            parts.append((order, sense, size, (order - sense * (1 - slip)) / order))
        v, i = np.zeros((3, len(t))), np.zeros((3, len(t)))
        for order, sense, phasor, at in parts:
            for k in range(3):
                turn = np.exp(1j * (order * omega * t - sense * k * 2 * math.pi / 3))
                v[k] += np.real(phasor * turn)
                i[k] += np.real(phasor / self.impedance(order * omega, at) * turn)
        columns = {"v_ab": v[0] - v[1], "v_bc": v[1] - v[2], "i_a": i[0], "i_b": i[1]}
        return Capture("c", t, {n: b.read(x) for n, x in columns.items()}, INDUCTION)


def induction_tests(b: Bench) -> Case:
    """No-load and locked-rotor tests on an unbalanced supply with harmonics."""
    cage = _Cage(b)
    free = cage.capture(b, cage.omega, b.log(5e-4, 5e-3), 1.0 * cage.base * math.sqrt(2))
    slow = 0.25 * cage.omega
    locked = cage.capture(b, slow, 1.0, abs(cage.impedance(slow, 1.0)) * math.sqrt(2) * b.even(0.8, 1.1))
    whole = cage.mutual + cage.leak_2
    truth = {
        "leakage_inductance": cage.mutual + cage.leak_1 - cage.mutual**2 / whole,
        "magnetizing_inductance": cage.mutual**2 / whole,
        "rotor_resistance": (cage.mutual / whole) ** 2 * cage.rotor,
        "rotor_time_constant": whole / cage.rotor,
    }
    stator = Estimate.from_u(cage.stator, "Ω", 0.0)
    return lambda: fit_induction(free, locked, stator=stator), truth


METHODS: dict[str, tuple[Callable[[Bench], Case], dict[str, float]]] = {
    "stepper, levels of a winding": (winding_levels, {"resistance": 0.1}),
    "stepper, steps on a winding": (winding_steps, {"inductance": 0.2}),
    "stepper, coasting over its detents": (winding_coast, {"flux_linkage": 0.03}),
    "brushed, levels both ways": (armature_levels, {"resistance": 0.2}),
    "brushed, steps on the armature": (armature_steps, {"inductance": 0.2}),
    "brushed, coasting": (armature_coast, {"ke": 0.1}),
    "brushed, running at several loads": (armature_running, {"ke": 0.1}),
    "induction, no load and locked": (
        induction_tests,
        {
            "leakage_inductance": 0.05,
            "magnetizing_inductance": 0.06,
            "rotor_resistance": 0.2,
            "rotor_time_constant": 0.3,
        },
    ),
}
