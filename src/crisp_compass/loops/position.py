"""Position loop on top of a speed loop: a gain, the share of the profile's speed that is fed ahead, and what follows from both.

The speed asked for is s·v + Kv·(p − p_seen) with profile p, its speed v and the share s. Around the sampled speed loop of loops.speed, whose true speed turns the shaft, the
loop's gain is Kv over an integrator (W. Leonhard, Control of Electrical Drives, 3rd ed. 2001, ch. 15; G. Ellis, Control System Design Guide, 4th ed. 2012, ch. 17). At a speed that
stays, the speed loop's integrator leaves a following error of (1 − s)·v/Kv exactly.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.sampled import Margins, Sampled, close, margins, series, simulate, step_figures
from crisp_compass.loops.speed import SpeedPlant, largest, speed_loop

#: What a proposed gain keeps: overshoot of a position step [%] at most, and phase margin [deg] at least (common practice: a position does not overshoot).
MOST_OVERSHOOT, LEAST_MARGIN = 1.0, 60.0


@dataclass(frozen=True)
class PositionDesign:
    """Gain ``kv`` [1/s], margins of the sampled position loop, ``overshoot`` [%] and ``settling`` to 2 % [s] of a small position step (NaN: it does not settle), ``most`` [1/s] the largest stable gain."""

    kv: float
    margins: Margins
    overshoot: float
    settling: float
    most: float
    loop: Sampled

    def step(self, steps: int) -> FloatArray:
        """Return the shaft's answer to a unit step of position, shape (steps,)."""
        return simulate(close(self.loop), np.ones(steps))[:, 0]


def position_loop(plant: SpeedPlant, kp: float, ki: float, kv: float) -> Sampled:
    """Return the open position loop, from the error [rad] to the position [rad], with the speed loop's gains Kp [A/(rad/s)] and Ki [A/rad] and ``kv`` [1/s]."""
    inner = close(speed_loop(plant, kp, ki), 0)
    turning = Sampled(inner.A, kv * inner.B, inner.C[1:2], kv * inner.D[1:2], ts=inner.ts)
    ts = inner.ts
    # the angle by the trapezoidal rule: x[k+1] = x[k] + T·ω[k], p[k] = x[k] + T·ω[k]/2
    return series(turning, Sampled(np.array([[1.0]]), np.array([[ts]]), np.array([[1.0]]), np.array([[0.5 * ts]]), ts=ts))


def _stable(loop: Sampled) -> bool:
    return bool(np.max(np.abs(np.linalg.eigvals(close(loop).A))) < 1 - 1e-12)


@lru_cache(maxsize=64)
def design_position(plant: SpeedPlant, kp: float, ki: float, kv: float | None = None) -> PositionDesign:
    """Return the position loop with gain ``kv`` [1/s], or with the largest one that overshoots no more than MOST_OVERSHOOT and keeps LEAST_MARGIN.

    Raises Refusal where the speed loop itself is not stable, or no gain keeps both.
    """
    top = math.pi * plant.loop_hz

    def loop(gain: float) -> Sampled:
        return position_loop(plant, kp, ki, gain)

    most = largest(lambda g: _stable(loop(g)), 1e-4 * top, top, points=40)
    if most is None:
        raise Refusal("the speed loop is not stable, so no position can be held", "settle other gains of the speed loop first")
    if kv is None:
        kv = largest(lambda g: _calm(loop(g), g), 1e-2 * most, most)
        if kv is None:
            raise Refusal("no gain of the position loop is free of overshoot", "a calmer speed loop, or enter a gain", field="motion.kv")
    found = loop(kv)
    if not _stable(found):
        return PositionDesign(kv, margins(found), math.nan, math.nan, most=most, loop=found)
    y = _step(found, kv)
    off = np.flatnonzero(np.abs(y - 1.0) > 0.02)
    settling = float(off[-1] + 1) * found.ts if len(off) and off[-1] < len(y) - 1 else math.nan
    return PositionDesign(kv, margins(found), step_figures(y, found.ts).overshoot_pct, settling, most=most, loop=found)


def _step(loop: Sampled, kv: float) -> FloatArray:
    """Return the step response over about twelve time constants of the position loop, (n,)."""
    return simulate(close(loop), np.ones(min(max(math.ceil(12.0 / (kv * loop.ts)), 50), 200_000)))[:, 0]


def _calm(loop: Sampled, kv: float) -> bool:
    if not _stable(loop):
        return False
    if step_figures(_step(loop, kv), loop.ts).overshoot_pct > MOST_OVERSHOOT:
        return False
    return margins(loop).phase_margin_deg >= LEAST_MARGIN


def following_error(speed: float, kv: float, ahead: float) -> float:
    """Return the following error [rad] at a speed [rad/s] that stays, with the share ``ahead`` [1] of it fed ahead."""
    return (1.0 - ahead) * speed / kv
