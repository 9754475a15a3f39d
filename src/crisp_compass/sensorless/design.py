"""Gains of the estimators, what their angle is worth over speed, and the lowest speed at which it can be trusted."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from crisp_compass.estimates import BoolArray, ComplexArray, FloatArray
from crisp_compass.sensorless.estimator import (
    ANGLE,
    BACK_EMF,
    E_ALPHA,
    E_BETA,
    FLUX,
    FLUX_ALPHA,
    FLUX_BETA,
    SEEN,
    SPEED,
    Estimator,
    clear,
    over_rows,
)

#: The natural frequency of the loop lies this many times above the speed loop's crossover, so that it costs it little phase.
ABOVE_SPEED_LOOP = 5.0
#: Noise [rad rms] that the angle may have at hand-over.
NOISE_AT_HAND_OVER = math.radians(2.0)
#: The correction of the flux, as a part of the electrical speed at hand-over.
CORRECTION_SHARE = 0.5
#: Length of a synthetic run: electrical turns, and least and most samples.
_TURNS, _LEAST, _MOST = 14, 600, 6000


class Plant(NamedTuple):
    """The motor as it is, SI: R, Ld, Lq, ψ, pole pairs."""

    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float


@dataclass(frozen=True)
class Doubts:
    """What the firmware does not know exactly: relative standard doubts of ``r``, ``inductance`` and ``psi`` (ratios), what is left of the dead time ``dead`` [V a
    leg], ``offset`` of a current channel [A], ``noise`` of a current [A rms], ``delay`` [s] of the voltage against the current."""

    r: float = 0.2
    inductance: float = 0.1
    psi: float = 0.05
    dead: float = 0.0
    offset: float = 0.0
    noise: float = 0.0
    delay: float = 0.0

    def alone(self, name: str) -> Doubts:
        """Return only one of them."""
        return replace(Doubts(0.0, 0.0, 0.0), **{name: getattr(self, name)})


#: Doubts in the order of a table, and what a curve is called.
SOURCES = {
    "r": "resistance",
    "inductance": "inductance",
    "psi": "flux linkage",
    "dead": "dead time",
    "offset": "current offset",
    "delay": "delay",
    "noise": "current noise",
}


def voltage_error(plant: Plant, doubts: Doubts, current: float) -> float:
    """Return the voltage [V] by which the firmware's back-EMF may be off at ``current`` [A peak]: the sum of what each doubt makes.

    R·I and the offset's R·i are off in full; the dead time's remainder by its fundamental, 4/π of the leg's.
    """
    return doubts.r * plant.r * current + plant.r * doubts.offset + 4 / math.pi * doubts.dead


def lowest_speed(plant: Plant, doubts: Doubts, current: float, times: float) -> float:
    """Return the electrical speed [rad/s] from which the back-EMF is ``times`` the voltage error."""
    return times * voltage_error(plant, doubts, current) / plant.psi


def loop_frequency(plant: Plant, doubts: Doubts, ts: float, speed: float, speed_loop: float) -> float:
    """Return a natural frequency [rad/s] of the phase-locked loop: well above the speed loop's crossover ``speed_loop`` [rad/s], as far as the
    noise of the currents at the electrical hand-over speed allows, never above a sixteenth of the sampling.

    Differenced noise σ_i of the currents leaves L·σ_i·ω_n/(ω·ψ) on the angle of a loop with ζ = 1.
    """
    wanted = ABOVE_SPEED_LOOP * speed_loop
    if doubts.noise > 0:
        wanted = min(wanted, NOISE_AT_HAND_OVER * speed * plant.psi / (doubts.noise * plant.lq))
    return min(wanted, 2 * math.pi / (16 * ts))


def estimator_for(
    plant: Plant, ts: float, *, kind: int, natural: float, floor: float, hand_over: float, hold: float, damping: float = 1.0
) -> Estimator:  # fmt: skip
    """Return the estimator that the firmware runs: ``natural`` ω_n [rad/s], ``floor`` [V], electrical ``hand_over`` speed [rad/s], ``hold`` [rad]."""
    return Estimator(
        ts, plant.r, plant.ld, plant.lq, psi=plant.psi, kind=float(kind), kp=2 * damping * natural, ki=natural**2, filter=4 * natural,
        correction=CORRECTION_SHARE * hand_over, catch=0.5 * natural, offset=0.02, floor=floor, hold=hold,
    )  # fmt: skip


def acceleration_lag(natural: float, acceleration: float) -> float:
    """Return the lag [rad] of a loop of second type under an electrical acceleration [rad/s²]: α/ω_n² (F. M. Gardner, Phaselock Techniques, 2005, table 5.1)."""
    return acceleration / natural**2


def flux_phase(correction: float, speed: float, psi_doubt: float) -> float:
    """Return the angle [rad] by which the flux observer is off where ψ is wrong by a ratio: sin φ = (k/ω)·δ; a plain leak without a reference would be off by atan(k/ω)."""
    return math.asin(min(1.0, max(-1.0, correction / max(speed, 1e-9) * psi_doubt)))


@dataclass(frozen=True)
class Accuracy:
    """Error of an estimator over electrical ``speed`` (n,) [rad/s]: ``each`` source's (n,) in full and ``together`` (n,) rms [rad] over draws of all at
    once; ``valid`` (n,) whether nine in ten of those are trusted."""

    speed: FloatArray
    each: dict[str, FloatArray]
    together: FloatArray
    valid: BoolArray


def accuracy(
    plant: Plant,
    believed: Estimator,
    doubts: Doubts,
    speeds: FloatArray,
    currents: ComplexArray | complex,
    *,
    knee: float = 0.1,
) -> Accuracy:
    """Run the estimator over steady turning at each electrical speed (n,) [rad/s] with ``currents`` (n,) or one for all, i_d + j·i_q [A], one doubt after another and all together.

    What of a wrong R·i lies along the back-EMF changes its length only; what lies across it turns the angle: so i_q alone hides a wrong R, the i_d of a
    dragged rotor shows it.

    The voltages are those of the true motor, from its flux linkage, so nothing of the estimator's own formulas is in them; ``knee`` [A] is
    where a leg's dead time is fully there.
    """
    each = {name: np.zeros(len(speeds)) for name in SOURCES if getattr(doubts, name) > 0}
    together, valid = np.zeros(len(speeds)), np.zeros(len(speeds), dtype=np.bool_)
    flows = np.broadcast_to(np.asarray(currents, dtype=np.complex128), speeds.shape)
    for k, (w, i) in enumerate(zip(speeds.tolist(), flows.tolist(), strict=True)):
        for name, errors in each.items():
            errors[k] = _steady(plant, believed, doubts.alone(name), w, current=i, knee=knee)[0]
        drawn = [_steady(plant, believed, d, w, current=i, knee=knee) for d in _draws(doubts)]
        together[k] = math.sqrt(sum(error**2 for error, _ in drawn) / len(drawn))
        valid[k] = sum(ok for _, ok in drawn) >= 0.9 * len(drawn)
    return Accuracy(speeds, each, together, valid)


#: Draws of everything at once at each speed.
_DRAWS = 10


def _draws(doubts: Doubts) -> list[Doubts]:
    """Return the doubts as they may be together: a doubt is two standard deviations; noise is always there in full."""
    rng = np.random.default_rng(11)
    names = [n for n in SOURCES if n != "noise"]
    return [
        replace(doubts, **{n: float(0.5 * getattr(doubts, n) * x) for n, x in zip(names, rng.standard_normal(len(names)), strict=True)})
        for _ in range(_DRAWS)
    ]  # fmt: skip


def _steady(plant: Plant, o: Estimator, doubts: Doubts, w: float, current: complex, knee: float) -> tuple[float, bool]:
    """Return the rms error [rad] of the angle in the second half of a steady run, and whether it was valid at its end."""
    ts = o.ts
    count = int(min(max(_TURNS * 2 * math.pi / (w * ts), _LEAST, 12 / (math.sqrt(o.ki) * ts)), _MOST))
    k = np.arange(-1, count)
    theta = 0.4 + w * ts * k
    frame = np.exp(1j * theta)
    i = current * frame
    flux = (plant.psi + plant.ld * current.real + 1j * plant.lq * current.imag) * frame
    # the resistance's part exactly: the mean of a turning vector over a period
    x = 0.5 * w * ts
    mean = current * np.exp(1j * (theta[1:] - x)) * (math.sin(x) / x if x else 1.0)
    v = np.diff(flux) / ts + plant.r * mean
    if doubts.dead != 0:
        turns = np.exp(-2j * np.pi / 3 * np.arange(3))[:, None]
        legs = np.clip((mean * turns).real / knee, -1, 1)
        v = v + doubts.dead * 2 / 3 * (legs / turns).sum(axis=0)
    if doubts.delay != 0:
        v = v * np.exp(-1j * w * doubts.delay)
    seen = i + doubts.offset
    if doubts.noise > 0:
        rng = np.random.default_rng(7)
        seen = seen + doubts.noise * (rng.standard_normal(len(i)) + 1j * rng.standard_normal(len(i)))
    wrong = o._replace(
        r=o.r * (1 + doubts.r), ld=o.ld * (1 + doubts.inductance), lq=o.lq * (1 + doubts.inductance), psi=o.psi * (1 + doubts.psi),
        hold=min(o.hold, 2 * math.pi * _TURNS / 4),
    )  # fmt: skip
    out = np.zeros((count, 4))
    start = np.zeros(SEEN)
    clear(start, float(seen[0].real), float(seen[0].imag))
    # it has found the rotor already: what is looked at is how well it holds it
    start[ANGLE], start[SPEED], start[FLUX_ALPHA], start[FLUX_BETA] = (
        theta[0],
        w,
        o.psi * math.cos(theta[0]),
        o.psi * math.sin(theta[0]),
    )
    emf = 1j * w * plant.psi * frame[0]
    start[E_ALPHA], start[E_BETA] = emf.real, emf.imag
    over_rows(
        wrong, np.asarray(k[1:] * ts), np.column_stack([v.real, v.imag]), np.column_stack([seen[1:].real, seen[1:].imag]), math.inf, start, out
    )  # fmt: skip
    half = out[count // 2 :]
    error = (half[:, 0] - theta[1:][count // 2 :] + math.pi) % (2 * math.pi) - math.pi
    return float(np.sqrt(np.mean(error**2))), bool(half[-1, 3] > 0.5)


KINDS = {"back-emf": BACK_EMF, "flux": FLUX}
