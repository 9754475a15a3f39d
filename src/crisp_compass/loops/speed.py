"""Speed loop gains and what the sampled loop does with them.

Plant: current loop, speed sensor and speed filter as first-order lags, inertia J and viscous friction B, torque Kt·iq, one period of
computing and the hold. Symmetrical optimum (C. Kessler, Regelungstechnik 6, 1958; W. Leonhard, Control of Electrical
Drives, 3rd ed. 2001, 7.1): Kp = J/(a·Kt·Tσ), Ti = a²·Tσ with Tσ = 1/(2π·f_current) + 1/(2π·f_filter) + 1.5/f_loop.
By bandwidth: Kp = 2πf·J/Kt, integral time four times 1/(2πf).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.current import check_positive
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
class SpeedPlant:
    """What the speed loop acts on.

    ``inertia`` kg·m², ``kt`` N·m per A of phase peak, ``viscous`` N·m·s/rad, rates in Hz; ``filter_hz`` None means no
    speed filter. ``sensor_delay`` [s] is that of the speed measurement itself (``edge_delay``), as a first-order lag: a pure delay of
    many periods would be as many states, and at the crossovers it allows the phase is alike.
    """

    inertia: float
    kt: float
    viscous: float
    loop_hz: float
    current_bandwidth_hz: float
    filter_hz: float | None
    sensor_delay: float = 0.0

    @property
    def t_sigma(self) -> float:
        """Sum of the small lags Tσ, s."""
        return sum_of_lags(self.current_bandwidth_hz, self.filter_hz, self.loop_hz) + self.sensor_delay


def edge_delay(edges_per_turn: float, speed: float) -> float:
    """Return how late a speed is that is timed from edge to edge [s], at ``speed`` [rad/s].

    The mean over the last interval is half of one old when it is there, and stands on average half of one more until the next.
    """
    return 2 * math.pi / (edges_per_turn * abs(speed))


def speed_loop(plant: SpeedPlant, kp: float, ki: float) -> Sampled:
    """Return the sampled open loop; output 0 is the filtered speed that is fed back, output 1 the true speed."""
    ts = 1 / plant.loop_hz
    wc = 2 * math.pi * plant.current_bandwidth_hz
    drive = [[-wc, 0.0], [plant.kt / plant.inertia, -plant.viscous / plant.inertia]]
    lags = [1 / plant.sensor_delay] if plant.sensor_delay > 0 else []
    lags += [2 * math.pi * plant.filter_hz] if plant.filter_hz else []
    n = 2 + len(lags)
    A, B, C = np.zeros((n, n)), np.zeros((n, 1)), np.zeros((2, n))
    A[:2, :2], B[0, 0] = drive, wc
    for k, corner in enumerate(lags, 2):  # each lag follows what the one before shows
        A[k, k - 1], A[k, k] = corner, -corner
    C[0, n - 1], C[1, 1] = 1.0, 1.0
    return series(pi_controller(kp, ki, ts), discretise(A, B, C, ts, ts))


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
    plant = SpeedPlant(inertia, kt, viscous, loop_hz, current_bandwidth_hz, filter_hz, sensor_delay)
    if bandwidth_hz is None:
        if not (1 < a < 100):
            raise Refusal(
                f"a = {a:g} is not possible", "the symmetrical optimum needs a above 1; 2 is usual", where="--a"
            )
        kp = inertia / (a * kt * plant.t_sigma)
        ki = kp / (a**2 * plant.t_sigma)
        method = f"symmetrical optimum, a = {a:g}"
    else:
        check_positive("bandwidth-hz", bandwidth_hz)
        if bandwidth_hz >= loop_hz / 2:
            raise Refusal(
                f"a bandwidth of {bandwidth_hz:g} Hz cannot be sampled at {loop_hz:g} Hz",
                "it must stay below half the loop rate",
                where="--bandwidth-hz",
            )
        kp, ki = _for_crossover(plant, bandwidth_hz)
        method = f"crossover {bandwidth_hz:g} Hz, integral time 4/(2π·crossover)"
    return analyse_speed(plant, kp, ki, method)


def _for_crossover(plant: SpeedPlant, f: float) -> tuple[float, float]:
    """Scale Kp so that the sampled loop really crosses over at f, with Ti = 4/(2πf)."""
    kp = 2 * math.pi * f * plant.inertia / plant.kt
    ki = kp * 2 * math.pi * f / 4
    gain = abs(speed_loop(plant, kp, ki).response(np.array([2 * math.pi * f]))[0])
    return kp / gain, ki / gain


@lru_cache(maxsize=64)
def analyse_speed(plant: SpeedPlant, kp: float, ki: float, method: str) -> SpeedDesign:
    """Return margins and step figures of given gains, Kp in A/(rad/s) and Ki in A/rad."""
    loop = speed_loop(plant, kp, ki)
    found = margins(loop)
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
    return SpeedDesign(kp, ki, plant.t_sigma, found, overshoot, filtered, rise, method, tuple(findings), loop)


def lowest_speed(plant: SpeedPlant, kp: float, ki: float, edges_per_turn: float) -> float:
    """Return the lowest speed [rad/s] at which timed edges leave these gains calm (margins as in ``Margins.rings``).

    Zero where even a hundredth of a turn a second does; infinite where no speed does.
    """

    def calm(speed: float) -> bool:
        found = margins(speed_loop(replace(plant, sensor_delay=edge_delay(edges_per_turn, speed)), kp, ki))
        return found.stable and not found.rings

    low, high = 0.06, 1e5
    if not calm(high):
        return math.inf
    if calm(low):
        return 0.0
    for _ in range(24):
        middle = math.sqrt(low * high)
        low, high = (low, middle) if calm(middle) else (middle, high)
    return high
