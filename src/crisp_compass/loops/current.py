"""Current loop gains and what the sampled loop does with them.

Plant of one axis: i/v = 1/(L·s + R) behind a zero-order hold and the computing delay. Pole cancellation puts the
controller's zero on the plant's pole: Kp = 2πf·L, Ki = 2πf·R for a design crossover f. The modulus optimum (C. Kessler,
Regelungstechnik 6, 1958) takes Kp = L/(2·Tσ), Ki = R/(2·Tσ) with the sum of small delays Tσ.
"""

from __future__ import annotations

import cmath
import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.sampled import (
    Margins,
    Sampled,
    close,
    discretise,
    margins,
    pi_controller,
    sensitivity_peak,
    series,
    simulate,
    step_figures,
)
from crisp_compass.quantities import show


@dataclass(frozen=True)
class AxisLoop:
    """Gains and figures of one axis; ``kp`` in V/A, ``ki`` in V/(A·s), ``sensitivity`` the peak of |1/(1 + L)|."""

    kp: float
    ki: float
    margins: Margins
    overshoot_pct: float
    rise_time_s: float
    sensitivity: float
    loop: Sampled

    def step(self, steps: int) -> FloatArray:
        """Return the current's unit step response at the sampling instants, shape (steps,)."""
        return simulate(close(self.loop), np.ones(steps))[:, 0]


@dataclass(frozen=True)
class CurrentDesign:
    """Both axes with findings and the method in words."""

    d: AxisLoop
    q: AxisLoop
    method: str
    findings: tuple[Finding, ...]


def current_gains(r: float, l_axis: float, *, bandwidth_hz: float | None, delay: float) -> tuple[float, float]:
    """Return Kp [V/A] and Ki [V/(A·s)]; ``bandwidth_hz`` None means modulus optimum with Tσ = ``delay`` [s]."""
    if bandwidth_hz is None:
        return l_axis / (2 * delay), r / (2 * delay)
    return 2 * math.pi * bandwidth_hz * l_axis, 2 * math.pi * bandwidth_hz * r


def limit_tracking(kp: float, ki: float, ts: float, r: float | None = None, l_axis: float | None = None) -> float:
    """Return the share of the way that an integrator goes each period, at the voltage limit, to what the limit leaves it.

    At the limit the sum Kp·e + I + feed-forward exceeds what is set by ``excess``, and I moves by the share of
    Kp·e − excess = v_set − feed-forward − I. With the share Ki·Ts/Kp this is back-calculation with the tracking time
    constant Ti = Kp/Ki (K. J. Åström, T. Hägglund, PID Controllers, 2nd ed. 1995, 3.5; R. Hanus, M. Kinnaert,
    J.-L. Henrotte, Automatica 23, 1987): the PI behaves as if the reference were what the limit let through. Chosen before
    conditional integration, which leaves R·i for the integrator to make up after the limit, with the winding's own L/R.
    Where a design's Ti is shorter than the winding's L/R, the integrator would run ahead of R·i and overshoot; given ``r``
    [Ω] and ``l_axis`` [H] it goes no faster than the current itself can, 1 − e^(−R·Ts/L).
    """
    share = ki * ts / kp if kp > 0 else 0.0
    if r is not None and l_axis is not None:
        share = min(share, -math.expm1(-r / l_axis * ts))
    return min(share, 1.0)


def placed_gains(
    r: float, l_axis: float, *, natural_hz: float, damping: float, loop_hz: float, delay_samples: float
) -> tuple[float, float]:
    """Return Kp [V/A] and Ki [V/(A·s)] that put a pair of poles of the *sampled* loop where a continuous pair would be sampled to.

    With p = exp((−ζ + j√(1 − ζ²))·ωn·Ts) the loop must be −1 there: Kp + Ki·Ts·p/(p − 1) = −1/G(p), one complex equation
    for two real gains, exact for any delay. The delay's other poles stay where they fall; they must lie inside.

    Raises
    ------
    Refusal
        Damping outside 0.3 … 1, a pair that would need negative gains, or poles outside the pair's own circle.
    """
    if not 0.3 <= damping <= 1:
        raise Refusal(f"a damping of {damping:g} is not sensible", "0.3 to 1", where="--damping")

    def tried(hertz: float) -> tuple[float, float] | None:
        return _placed(r, l_axis, hertz, damping, ts=1 / loop_hz, delay_samples=delay_samples)

    gains = tried(natural_hz)
    if gains is None:
        raise _misplaced(tried, natural_hz, r / (2 * math.pi * l_axis), loop_hz, delay_samples=delay_samples)
    return gains


def _misplaced(
    tried: Callable[[float], tuple[float, float] | None],
    wanted: float,
    winding_hz: float,
    loop_hz: float,
    delay_samples: float,
) -> Refusal:
    """Say which end of the possible range was missed, with a limit that is itself accepted."""
    grid = np.geomspace(1e-5, 0.5, 400) * loop_hz
    possible = [float(f) for f in grid if tried(float(f)) is not None]
    asked = f"poles at {show(wanted, 'Hz')} cannot be placed"
    if not possible:
        return Refusal(
            f"{asked}: with {delay_samples:g} periods of delay at {show(loop_hz, 'Hz')} no pair can, this winding is as fast as the loop",
            "raise the loop rate, or use the modulus optimum",
            where="--crossover-hz",
        )
    inner = [f for f in possible if (f < wanted if wanted > possible[-1] else f > wanted)] or possible
    low, high = possible[0], possible[-1]
    if wanted < low:
        return Refusal(
            f"{asked}: the winding's own pole at {show(winding_hz, 'Hz')} is faster, the gain would have to be negative",
            f"from about {show(float(f'{1.05 * low:.2g}') if tried(float(f'{1.05 * low:.2g}')) else inner[0], 'Hz', 4)} up",
            where="--crossover-hz",
        )
    rounded = float(f"{0.98 * high:.3g}")
    return Refusal(
        f"{asked} with {delay_samples:g} periods of delay at {show(loop_hz, 'Hz')}: the delay's own poles would be slower",
        f"up to about {show(rounded if tried(rounded) else high, 'Hz')} is possible, or raise the loop rate",
        where="--crossover-hz",
    )


def _placed(
    r: float, l_axis: float, natural_hz: float, damping: float, ts: float, delay_samples: float
) -> tuple[float, float] | None:
    """Return the gains, or None where they or the other poles come out wrong."""
    # a double real pole is the limit of a pair; a hair below keeps the equation regular
    zeta = min(damping, 0.9999)
    pole = cmath.exp(complex(-zeta, math.sqrt(1 - zeta * zeta)) * 2 * math.pi * natural_hz * ts)
    plant = _plant(r, l_axis, ts, delay_samples)
    right = -1 / plant.at(pole)
    lag = pole / (pole - 1)
    ki_ts = right.imag / lag.imag
    kp = right.real - ki_ts * lag.real
    if kp <= 0 or ki_ts <= 0:
        return None
    poles = np.abs(np.linalg.eigvals(close(series(pi_controller(kp, ki_ts / ts, ts), plant)).A))
    return (float(kp), float(ki_ts / ts)) if float(np.max(poles)) <= abs(pole) * 1.001 else None


def _plant(r: float, l_axis: float, ts: float, delay_samples: float) -> Sampled:
    computing = (delay_samples - 0.5) * ts
    return discretise(np.array([[-r / l_axis]]), np.array([[1 / l_axis]]), np.array([[1.0]]), ts, delay=computing)


@lru_cache(maxsize=64)
def axis_loop(r: float, l_axis: float, kp: float, ki: float, loop_hz: float, delay_samples: float) -> AxisLoop:
    """Analyse one axis with given gains.

    Parameters
    ----------
    r, l_axis
        Ω and H of one phase (star).
    kp, ki
        V/A and V/(A·s) of the parallel PI.
    loop_hz
        Sampling rate, Hz.
    delay_samples
        Whole delay in periods; half a period of it is the hold, the rest is computing.
    """
    ts = 1 / loop_hz
    loop = series(pi_controller(kp, ki, ts), _plant(r, l_axis, ts, delay_samples))
    found = margins(loop)
    overshoot = rise = math.nan
    if found.stable:
        slowest = min(found.crossover_hz if math.isfinite(found.crossover_hz) else loop_hz / 50, loop_hz / 10)
        steps = int(min(max(12 * loop_hz / slowest, 60), 20000))
        figures = step_figures(simulate(close(loop), np.ones(steps))[:, 0], ts)
        overshoot, rise = figures.overshoot_pct, figures.rise_time_s
    return AxisLoop(kp, ki, found, overshoot, rise_time_s=rise, sensitivity=sensitivity_peak(loop), loop=loop)


def tune_current(
    *,
    r: float,
    ld: float,
    lq: float,
    loop_hz: float,
    bandwidth_hz: float | None = None,
    delay_samples: float = 1.5,
    v_limit: float | None = None,
    exact: bool = False,
    damping: float | None = None,
) -> CurrentDesign:
    """Design both axes.

    Parameters
    ----------
    r, ld, lq
        Ω, H, H, phase of the star.
    loop_hz
        Sampling rate of the current loop, Hz.
    bandwidth_hz
        Design crossover, Hz; None selects the modulus optimum.
    damping
        Of a pole pair placed in the sampled domain at ``bandwidth_hz``; None for pole cancellation.
    delay_samples
        Whole delay in periods (computing and hold), at least 0.5.
    v_limit
        Longest phase vector, V; with it the largest step that stays linear is reported.
    exact
        Scale both gains so that the *sampled* loop crosses over at ``bandwidth_hz``; else Kp = 2πf·L, Ki = 2πf·R as they
        stand, whose loop crosses a little above f (a hold's gain, x/sin x with x = π·f/loop rate).

    Raises
    ------
    Refusal
        A figure that is not positive, or a crossover above half the sampling rate.
    """
    _check(r=r, ld=ld, lq=lq, loop_hz=loop_hz, delay_samples=delay_samples)
    if bandwidth_hz is not None:
        _check(bandwidth_hz=bandwidth_hz)
        if bandwidth_hz >= loop_hz / 2:
            raise Refusal(
                f"a bandwidth of {bandwidth_hz:g} Hz cannot be sampled at {loop_hz:g} Hz",
                "it must stay below half the loop rate",
                where="--bandwidth-hz",
            )
    if delay_samples < 0.5 or delay_samples > 20:
        raise Refusal(
            f"a delay of {delay_samples:g} periods is not possible",
            "0.5 (hold alone) to 20 can be evaluated",
            where="--delay-samples",
        )
    delay = delay_samples / loop_hz
    axes = []
    for l_axis in (ld, lq):
        if damping is not None and bandwidth_hz is not None:
            kp, ki = placed_gains(
                r, l_axis, natural_hz=bandwidth_hz, damping=damping, loop_hz=loop_hz, delay_samples=delay_samples
            )
        else:
            kp, ki = current_gains(r, l_axis, bandwidth_hz=bandwidth_hz, delay=delay)
            if exact and bandwidth_hz is not None:
                kp, ki = _for_crossover(r, l_axis, kp, ki, hertz=bandwidth_hz, loop_hz=loop_hz, delay_samples=delay_samples)
        axes.append(axis_loop(r, l_axis, kp, ki, loop_hz=loop_hz, delay_samples=delay_samples))
    findings = _findings(axes, r, loop_hz, delay_samples, v_limit=v_limit)
    method = "modulus optimum" if bandwidth_hz is None else f"pole cancellation, crossover {bandwidth_hz:g} Hz"
    if damping is not None and bandwidth_hz is not None:
        method = f"poles placed at {bandwidth_hz:g} Hz with damping {damping:g}"
    return CurrentDesign(
        axes[0], axes[1], f"{method}; sampled at {loop_hz:g} Hz, delay {delay_samples:g} periods", tuple(findings)
    )


def _for_crossover(
    r: float, l_axis: float, kp: float, ki: float, hertz: float, loop_hz: float, delay_samples: float
) -> tuple[float, float]:
    """Return both gains scaled so that the sampled open loop has gain 1 at ``hertz``."""
    ts = 1 / loop_hz
    loop = series(pi_controller(kp, ki, ts), _plant(r, l_axis, ts, delay_samples))
    gain = abs(loop.response(np.array([2 * math.pi * hertz]))[0])
    return float(kp / gain), float(ki / gain)


def largest_linear_step(limit: float, kp: float, ki: float, r: float, ts: float) -> float:
    """Return the largest current step from rest [A] that never reaches ``limit`` [V].

    The first sample asks for (Kp + Ki·Ts)·step, the end for R·step; the larger of both decides.
    """
    return limit / max(kp + ki * ts, r)


def _check(**values: float) -> None:
    for name, value in values.items():
        check_positive(name.replace("_", "-"), value)


def check_positive(option: str, value: float) -> None:
    """Refuse a figure that is not above zero or beyond any machine's (1e-12 … 1e12 in SI)."""
    if not 1e-12 <= value <= 1e12:
        raise Refusal(f"{value:g} is not possible", "a value above zero in SI units is needed", where=f"--{option}")


def _findings(
    axes: list[AxisLoop], r: float, loop_hz: float, delay_samples: float, v_limit: float | None
) -> list[Finding]:
    findings = []
    # an integrator behind a delay τ: 90° − 360°·f·τ of margin
    end = loop_hz / (4 * delay_samples)
    why = f"{delay_samples:g} periods of delay at {show(loop_hz, 'Hz')} end at about {show(end, 'Hz')} and leave 45° up to {show(end / 2, 'Hz')}"
    for name, axis in zip("dq", axes, strict=True):
        if not axis.margins.stable:
            findings.append(
                Finding(
                    "stop",
                    "unstable",
                    f"The {name} axis loop is unstable at this loop rate and delay: lower the bandwidth; {why}.",
                )
            )
        elif axis.margins.rings:
            findings.append(
                Finding(
                    "caution",
                    "small-margin",
                    f"The {name} axis has {axis.margins.phase_margin_deg:.0f}° and {axis.margins.gain_margin_db:.1f} dB margin: it will ring; lower the bandwidth; {why}.",
                )
            )
    if v_limit is not None:
        _check(voltage_limit=v_limit)
        step = min(largest_linear_step(v_limit, axis.kp, axis.ki, r, ts=1 / loop_hz) for axis in axes)
        findings.append(
            Finding(
                "info",
                "voltage-limit",
                f"Steps above {step:.3g} A at standstill reach the voltage limit of {v_limit:.3g} V and rise more slowly than predicted.",
            )
        )
    return findings
