"""Compiled model of one held axis behind the sampled PI, with a loss against the current's sign (see ``step_fit``).

Functions only; the loss is three straight pieces, so between two changes of the voltage the current is a chain of exact
exponentials.
"""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.compiled import allocating
from crisp_compass.estimates import FloatArray


@allocating
def flow(i: float, u: float, span: float, r: float, inductance: float, lost: float, knee: float) -> float:
    """Return the current [A] after ``span`` seconds at ``u`` [V], where ``lost`` [V] stands against it beyond ``knee`` [A]."""
    for _ in range(8):  # one interval crosses the knee twice at most, and rounding may need one more try
        if span <= 0.0:
            return i
        inside = lost > 0.0 and abs(i) < knee
        side = 1.0 if i >= 0.0 else -1.0
        r_here = r + lost / knee if inside else r
        goal = (u - (lost * side if lost > 0.0 and not inside else 0.0)) / r_here
        rate = r_here / inductance
        end = goal + (i - goal) * math.exp(-rate * span)
        if lost <= 0.0 or (inside and abs(end) <= knee) or (not inside and end * side >= knee):
            return end
        edge = (knee if end > 0.0 else -knee) if inside else knee * side
        share = (i - goal) / (edge - goal)
        taken = math.log(share) / rate if share > 1.0 else 0.0
        # past the edge by a hair, so that the next piece is the other one
        i = edge * (1.0 + 1e-12) if inside else edge * (1.0 - 1e-12)
        span -= taken
    return i


@allocating
def flow_smooth(i: float, u: float, span: float, r: float, inductance: float, lost: float, knee: float) -> float:
    """As ``flow``, the loss growing as tanh(i/knee): small steps, the loss of each step's middle."""
    h = span / 8
    for _ in range(8):
        if h <= 0.0:
            return i
        half = (u - lost * math.tanh(i / knee)) / r
        middle = half + (i - half) * math.exp(-0.5 * h * r / inductance)
        goal = (u - lost * math.tanh(middle / knee)) / r
        i = goal + (i - goal) * math.exp(-h * r / inductance)
    return i


@allocating
def run(
    gains: FloatArray, winding: FloatArray, delay: float, ts: float, reference: FloatArray, voltage: FloatArray, at: FloatArray, start: float
) -> FloatArray:  # fmt: skip
    """Return the current (n,) [A] at ascending times ``at`` (n,) [s]; see ``step_fit.respond``.

    ``gains`` (4,): Kp, Ki, share of the integrator at the limit (negative: it runs on), voltage limit; ``winding`` (6,): R, L, loss,
    knee, the constant voltage and the loss's shape (0 straight pieces, 1 tanh); ``voltage`` (k,) or (0,) for the PI.
    """
    kp, ki, track, limit = gains
    r, inductance, lost, knee, constant, shape = winding
    late = max(delay - 0.5 * ts, 0.0) / ts
    whole = math.floor(late)
    part = late - whole
    steps = len(reference)
    driven = len(voltage) > 0
    loss = lost * (math.tanh(start / knee) if shape > 0.0 else min(1.0, max(-1.0, start / knee)))
    i, integral = start, r * start + loss - constant
    asked = np.empty(steps + whole + 2)
    asked[: whole + 2] = voltage[0] if driven else integral
    out = np.full(len(at), start)
    n = 0
    while n < len(at) and at[n] < 0.0:
        n += 1
    for k in range(steps):
        if driven:
            ask = voltage[k]
        else:
            error = reference[k] - i
            new = integral + ki * ts * error
            want = kp * error + new
            ask = min(limit, max(-limit, want))
            integral = new if ask == want or track < 0.0 else integral + track * (kp * error + ask - want)
        asked[k + whole + 2] = ask
        now = 0.0
        for stage in range(2):
            u = (asked[k + 1] if stage == 0 else asked[k + 2]) + constant
            until = part * ts if stage == 0 else ts
            while n < len(at) and at[n] < k * ts + until:
                moment = max(at[n] - k * ts, now)
                step = moment - now
                if shape > 0.0:
                    i = flow_smooth(i, u, step, r, inductance, lost, knee)
                else:
                    i = flow(i, u, step, r, inductance, lost, knee)
                now = moment
                out[n] = i
                n += 1
            if shape > 0.0:
                i = flow_smooth(i, u, until - now, r, inductance, lost, knee)
            else:
                i = flow(i, u, until - now, r, inductance, lost, knee)
            now = until
        if n >= len(at):
            break
    out[n:] = i
    return out
