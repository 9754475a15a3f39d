"""Speed loop gains and what the sampled loop does with them.

Plant: current loop, speed sensor and speed filter as first-order lags, inertia J and viscous friction B, torque Kt·iq, one period of
computing and the hold. Symmetrical optimum (C. Kessler, Regelungstechnik 6, 1958; W. Leonhard, Control of Electrical
Drives, 3rd ed. 2001, 7.1): Kp = J/(a·Kt·Tσ), Ti = a²·Tσ with Tσ = 1/(2π·f_current) + 1/(2π·f_filter) + 1.5/f_loop.
By bandwidth: Kp = 2πf·J/Kt, integral time four times 1/(2πf).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.current import check_positive
from crisp_compass.loops.filters import NO_FILTERS, TorqueFilters
from crisp_compass.loops.sampled import (
    Margins,
    Sampled,
    close,
    discretise,
    margins,
    pi_controller,
    series,
    simulate,
    step_figures,
)


@dataclass(frozen=True)
class SpeedDesign:
    """Gains (Kp in A/(rad/s), Ki in A/rad), margins and step figures of the sampled loop."""

    kp: float
    ki: float
    t_sigma: float
    margins: Margins
    overshoot_pct: float
    overshoot_filtered_pct: float
    rise_time_s: float
    method: str
    findings: tuple[Finding, ...]
    loop: Sampled

    @property
    def integral_time(self) -> float:
        """Ti = Kp/Ki in s."""
        return self.kp / self.ki

    def step(self, steps: int, *, filtered: bool = False) -> FloatArray:
        """Return the true speed's response to a unit reference step, shape (steps,)."""
        return _response(self.loop, steps, self.integral_time if filtered else None)


def sum_of_lags(current_bandwidth_hz: float, filter_hz: float | None, loop_hz: float) -> float:
    """Return Tσ [s]; ``filter_hz`` None means no speed filter."""
    lag = 1 / (2 * math.pi * current_bandwidth_hz) + 1.5 / loop_hz
    return lag + (1 / (2 * math.pi * filter_hz) if filter_hz else 0.0)


@dataclass(frozen=True)
class ArmatureSensor:
    """A speed told by the armature's voltage, (v − k·R̂·i)/Ke = ω + ((R − k·R̂)·i + L·di/dt + V0·sign i)/Ke.

    ``droop`` = (R − k·R̂)/Ke [rad/s per A], ``kick`` = L/Ke [rad/s per A/s], ``relay`` = V0/Ke [rad/s] of the brushes.
    """

    droop: float
    kick: float
    relay: float = 0.0

    def at_swing(self, current: float) -> ArmatureSensor:
        """Return the sensor with the relay as the resistance that it is to a swing of ``current`` [A] around zero (describing function)."""
        return ArmatureSensor(self.droop + 4 * self.relay / (math.pi * current), self.kick)


@dataclass(frozen=True)
class Coupling:
    """A shaft that twists between motor and load: ``stiffness`` N·m/rad, ``damping`` N·m·s/rad, and the part ``load_inertia`` [kg·m²] of the inertia behind it."""

    stiffness: float
    damping: float
    load_inertia: float


@dataclass(frozen=True)
class SpeedPlant:
    """What the speed loop acts on.

    ``inertia`` kg·m², ``kt`` N·m per A of phase peak, ``viscous`` N·m·s/rad, rates in Hz; ``filter_hz`` None means no
    speed filter. ``sensor_delay`` [s] is that of the speed measurement itself (``edge_delay``), as a first-order lag: a pure delay of
    many periods would be as many states, and at the crossovers it allows the phase is alike.
    ``armature`` is what a speed told by the armature's voltage shows besides it; that takes a filter. ``filters`` of the torque current stand between the loops;
    ``coupling`` parts the inertia in two.
    """

    inertia: float
    kt: float
    viscous: float
    loop_hz: float
    current_bandwidth_hz: float
    filter_hz: float | None
    sensor_delay: float = 0.0
    armature: ArmatureSensor | None = None
    filters: TorqueFilters = NO_FILTERS
    coupling: Coupling | None = None

    @property
    def t_sigma(self) -> float:
        """Sum of the small lags Tσ, s."""
        return sum_of_lags(self.current_bandwidth_hz, self.filter_hz, self.loop_hz) + self.sensor_delay + self.filters.lag(1 / self.loop_hz)


def edge_delay(edges_per_turn: float, speed: float) -> float:
    """Return how late a speed is that is timed from edge to edge [s], at ``speed`` [rad/s].

    The mean over the last interval is half of one old when it is there, and stands on average half of one more until the next.
    """
    return 2 * math.pi / (edges_per_turn * abs(speed))


def speed_loop(plant: SpeedPlant, kp: float, ki: float) -> Sampled:
    """Return the sampled open loop; output 0 is the filtered speed that is fed back, output 1 the true speed."""
    ts = 1 / plant.loop_hz
    if plant.armature is not None:
        wc = 2 * math.pi * plant.current_bandwidth_hz
        drive = [[-wc, 0.0], [plant.kt / plant.inertia, -plant.viscous / plant.inertia]]
        return series(controller(plant, kp, ki), _seen_by_armature(plant, plant.armature, np.array(drive), wc))
    A, B, C = shaft(plant)
    return series(controller(plant, kp, ki), discretise(A, B, C, ts, delay=ts))


def controller(plant: SpeedPlant, kp: float, ki: float) -> Sampled:
    """Return the PI of the speed and what its torque current passes."""
    pi, behind = pi_controller(kp, ki, 1 / plant.loop_hz), plant.filters.system(1 / plant.loop_hz)
    return pi if behind is None else series(pi, behind)


def shaft(plant: SpeedPlant) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return the continuous plant from the current asked for to the filtered and the true speed of the motor: states are current, speed, twist and speed of a load behind
    a coupling, and each lag of what is seen."""
    wc = 2 * math.pi * plant.current_bandwidth_hz
    lags = [1 / plant.sensor_delay] if plant.sensor_delay > 0 else []
    lags += [2 * math.pi * plant.filter_hz] if plant.filter_hz else []
    first = 4 if plant.coupling else 2
    n = first + len(lags)
    A, B, C = np.zeros((n, n)), np.zeros((n, 1)), np.zeros((2, n))
    A[:2, :2], B[0, 0] = [[-wc, 0.0], [plant.kt / plant.inertia, -plant.viscous / plant.inertia]], wc
    if plant.coupling:
        k, d, load = plant.coupling.stiffness, plant.coupling.damping, plant.coupling.load_inertia
        motor = plant.inertia - load
        A[1, :4] = [plant.kt / motor, -(plant.viscous + d) / motor, -k / motor, d / motor]
        A[2, 1], A[2, 3] = 1.0, -1.0
        A[3, 1:4] = [d / load, k / load, -d / load]
    for place, corner in enumerate(lags, first):  # each lag follows what the one before shows
        A[place, place - 1 if place > first else 1], A[place, place] = corner, -corner
    C[0, n - 1 if lags else 1], C[1, 1] = 1.0, 1.0
    return A, B, C


def _seen_by_armature(plant: SpeedPlant, sensor: ArmatureSensor, drive: FloatArray, wc: float) -> Sampled:
    """Return current, shaft and the filtered voltage: it is sampled with the loop, so its filter is a sum and no lag of its own.

    The voltage at a sample is that of the reference until then, two samples old in the model of the delay.
    """
    ts = 1 / plant.loop_hz
    if not plant.filter_hz:
        raise Refusal("a speed told by the armature's voltage takes a filter", "give its corner", where="--filter-hz")
    shaft = discretise(drive, np.array([[wc], [0.0]]), np.eye(2), ts, delay=ts)  # states: current, speed, u of one sample ago
    share = 1 - math.exp(-2 * math.pi * plant.filter_hz * ts)
    raw = np.array([sensor.droop - sensor.kick * wc, 1.0, 0.0, sensor.kick * wc, 0.0])  # the fourth state is u of two samples ago
    seen = share * raw
    seen[4] = 1 - share
    A, B, C = np.zeros((5, 5)), np.zeros((5, 1)), np.zeros((2, 5))
    A[:3, :3], B[:3] = shaft.A, shaft.B
    A[3, 2], A[4], C[0], C[1, 1] = 1.0, seen, seen, 1.0
    return Sampled(A, B, C, np.zeros((2, 1)), ts=ts)


def largest(holds: Callable[[float], bool], low: float, high: float, points: int = 24) -> float | None:
    """Return the largest figure between ``low`` and ``high`` for which a condition holds, to a fiftieth; None where it holds at none looked at."""
    above = high
    for figure in np.geomspace(high, low, points):
        if holds(float(figure)):
            below = float(figure)
            break
        above = float(figure)
    else:
        return None
    while above > 1.02 * below:
        middle = math.sqrt(below * above)
        below, above = (middle, above) if holds(middle) else (below, middle)
    return below


def smallest(holds: Callable[[float], bool], low: float, high: float) -> float | None:
    """Return the smallest figure between ``low`` and ``high`` from which a condition holds, to a hundredth; None where it does not even at ``high``."""
    if holds(low):
        return low
    if not holds(high):
        return None
    while high > 1.01 * low:
        middle = math.sqrt(low * high)
        low, high = (low, middle) if holds(middle) else (middle, high)
    return high


def _response(loop: Sampled, steps: int, prefilter: float | None) -> FloatArray:
    k = np.arange(steps)
    reference = np.ones(steps) if prefilter is None else 1 - np.exp(-(k + 1) * loop.ts / prefilter)
    return simulate(close(loop, 0), reference)[:, 1]


def tune_speed(
    *,
    inertia: float,
    kt: float,
    loop_hz: float,
    current_bandwidth_hz: float,
    viscous: float = 0.0,
    filter_hz: float | None = None,
    a: float = 2.0,
    bandwidth_hz: float | None = None,
    sensor_delay: float = 0.0,
    armature: ArmatureSensor | None = None,
    filters: TorqueFilters | None = None,
    coupling: Coupling | None = None,
    placed: tuple[float, float] | None = None,
) -> SpeedDesign:
    """Design the speed loop.

    Parameters
    ----------
    inertia, kt, viscous
        kg·m², N·m per A of phase peak, N·m·s/rad.
    loop_hz, current_bandwidth_hz, filter_hz
        Hz; ``filter_hz`` None means no speed filter.
    a
        Factor a of the symmetrical optimum (2 is the textbook value; larger is calmer); used when ``bandwidth_hz`` is
        None.
    bandwidth_hz
        Crossover of the other method, Hz.
    sensor_delay
        How late the speed is measured, s (``edge_delay`` at the lowest wanted speed, where edges are timed).
    armature
        What the sensor shows besides the speed, where that is the armature's voltage.
    filters, coupling
        What the torque current passes, and a shaft that twists.
    placed
        Natural frequency [Hz] and damping of a placed pair of poles; takes the place of ``a`` and ``bandwidth_hz``.

    Raises
    ------
    Refusal
        A figure that is not positive, ``a`` not above 1, or a crossover above half the loop rate.
    """
    for name, value in (
        ("inertia", inertia),
        ("kt", kt),
        ("loop-hz", loop_hz),
        ("current-bandwidth-hz", current_bandwidth_hz),
    ):
        check_positive(name, value)
    if not (viscous >= 0 and math.isfinite(viscous)):
        raise Refusal(f"{viscous:g} is not possible", "friction is zero or more", where="--viscous")
    if filter_hz is not None:
        check_positive("filter-hz", filter_hz)
    if not 0 <= sensor_delay < 100:
        raise Refusal(
            f"a sensor delay of {sensor_delay:g} s is not possible", "0 to 100 s is", where="--sensor-delay"
        )
    plant = SpeedPlant(inertia, kt, viscous, loop_hz, current_bandwidth_hz=current_bandwidth_hz, filter_hz=filter_hz, sensor_delay=sensor_delay, armature=armature, filters=filters or NO_FILTERS, coupling=coupling)
    kp, ki = speed_gains(plant, a=a, bandwidth_hz=bandwidth_hz, placed=placed)
    if placed is not None:
        return analyse_speed(plant, kp, ki, f"pole pair placed at {placed[0]:g} Hz with a damping of {placed[1]:g}")
    method = (
        f"symmetrical optimum, a = {a:g}"
        if bandwidth_hz is None
        else f"crossover {bandwidth_hz:g} Hz, integral time 4/(2π·crossover)"
    )
    return analyse_speed(plant, kp, ki, method)


def speed_gains(
    plant: SpeedPlant, *, a: float = 2.0, bandwidth_hz: float | None = None, placed: tuple[float, float] | None = None
) -> tuple[float, float]:
    """Return Kp [A/(rad/s)] and Ki [A/rad] by the symmetrical optimum, for a crossover, or a placed pair of poles; raises Refusal as ``tune_speed``."""
    if placed is not None:
        return _placed_gains(plant, *placed)
    if bandwidth_hz is None:
        if not (1 < a < 100):
            raise Refusal(
                f"a = {a:g} is not possible", "the symmetrical optimum needs a above 1; 2 is usual", where="--a"
            )
        kp = plant.inertia / (a * plant.kt * plant.t_sigma)
        return kp, kp / (a**2 * plant.t_sigma)
    check_positive("bandwidth-hz", bandwidth_hz)
    if bandwidth_hz >= plant.loop_hz / 2:
        raise Refusal(
            f"a bandwidth of {bandwidth_hz:g} Hz cannot be sampled at {plant.loop_hz:g} Hz",
            "it must stay below half the loop rate",
            where="--bandwidth-hz",
        )
    return _for_crossover(plant, bandwidth_hz)


def _placed_gains(plant: SpeedPlant, hz: float, damping: float) -> tuple[float, float]:
    """Place a pair of poles (K. J. Åström, T. Hägglund, Advanced PID Control, 2006, 6.4), the small lags as one.

    With the plant Kt/(J·s + B) behind the lag Tσ the loop has Tσ·s³ + (1 + Tσ·B/J)·s² + (B/J + k)·s + k/Ti, k = Kp·Kt/J, which is to be
    Tσ·(s² + 2Dω·s + ω²)·(s + c).
    """
    check_positive("bandwidth-hz", hz)
    t, w, rate = plant.t_sigma, 2 * math.pi * hz, plant.viscous / plant.inertia
    third = (1 + t * rate) / t - 2 * damping * w
    most = (1 + t * rate) / (2 * damping * t) / (2 * math.pi)
    if third <= 0.5 * damping * w:  # the third pole is no longer the fast one
        at = (1 + t * rate) / (2.5 * damping * t) / (2 * math.pi)
        raise Refusal(
            f"a pair of poles at {hz:g} Hz leaves the small lags of {1e3 * t:.3g} ms no room (they allow no more than {most:.3g} Hz)",
            f"at most {at:.3g} Hz, a faster current loop, or a higher speed filter", where="--bandwidth-hz", field="speed_loop.bandwidth_hz",
        )  # fmt: skip
    over = plant.inertia / plant.kt
    kp, ki = over * (t * (w * w + 2 * damping * w * third) - rate), over * t * w * w * third
    if not (kp > 0 and ki > 0):
        raise Refusal(
            f"friction alone is quicker than poles at {hz:g} Hz", f"a frequency above {rate / (2 * math.pi):.3g} Hz", where="--bandwidth-hz", field="speed_loop.bandwidth_hz"
        )
    return kp, ki


def is_stable(plant: SpeedPlant, kp: float, ki: float) -> bool:
    """Tell whether the closed sampled loop is stable; much quicker than its margins."""
    return bool(np.max(np.abs(np.linalg.eigvals(close(speed_loop(plant, kp, ki), 0).A))) < 1 - 1e-12)


def _for_crossover(plant: SpeedPlant, f: float) -> tuple[float, float]:
    """Scale Kp so that the sampled loop really crosses over at f, with Ti = 4/(2πf)."""
    kp = 2 * math.pi * f * plant.inertia / plant.kt
    ki = kp * 2 * math.pi * f / 4
    # what the armature's voltage shows besides the speed has its own gain: the crossover is that of the speed
    plain = replace(plant, armature=None)
    gain = abs(speed_loop(plain, kp, ki).response(np.array([2 * math.pi * f]))[0])
    return kp / gain, ki / gain


@lru_cache(maxsize=64)
def margins_of(plant: SpeedPlant, kp: float, ki: float) -> Margins:
    """Return the margins of given gains, Kp in A/(rad/s) and Ki in A/rad."""
    return margins(speed_loop(plant, kp, ki))


@lru_cache(maxsize=64)
def analyse_speed(plant: SpeedPlant, kp: float, ki: float, method: str) -> SpeedDesign:
    """Return margins and step figures of given gains, Kp in A/(rad/s) and Ki in A/rad."""
    loop = speed_loop(plant, kp, ki)
    found = margins_of(plant, kp, ki)
    overshoot = filtered = rise = math.nan
    findings = []
    if found.stable:
        crossover = found.crossover_hz if math.isfinite(found.crossover_hz) else plant.loop_hz / 100
        steps = int(min(max(4 * plant.loop_hz / crossover, 100, 6 * kp / ki * plant.loop_hz), 60000))
        figures = step_figures(_response(loop, steps, None), loop.ts)
        overshoot, rise = figures.overshoot_pct, figures.rise_time_s
        filtered = step_figures(_response(loop, steps, kp / ki), loop.ts).overshoot_pct
        if found.rings:
            findings.append(
                Finding(
                    "caution",
                    "small-margin",
                    f"{found.phase_margin_deg:.0f}° and {found.gain_margin_db:.1f} dB margin: the speed will ring; choose a larger a or a lower bandwidth.",
                )
            )
    else:
        findings.append(
            Finding(
                "stop",
                "unstable",
                "The speed loop is unstable: choose a larger a or a lower bandwidth, or speed up the current loop.",
            )
        )
    return SpeedDesign(kp, ki, plant.t_sigma, found, overshoot_pct=overshoot, overshoot_filtered_pct=filtered, rise_time_s=rise, method=method, findings=tuple(findings), loop=loop)
