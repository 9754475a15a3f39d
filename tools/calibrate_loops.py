"""Closed speed loops put to the test; a case for tools/calibrate.py.

A discrete PI on a filtered, delayed speed that is noisy or counted by an encoder; its current follows as an exponential and is limited; the recorder may be quicker than the loop, and then repeats the speed.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Protocol

import numpy as np
from numba import njit

from crisp_compass.capture import Capture
from crisp_compass.estimates import Result
from crisp_compass.identify.speed_response import fit_speed_response

Array = np.ndarray
Case = tuple[Callable[[], Result], dict[str, float]]


class Bench(Protocol):
    """Random numbers of one capture (tools/calibrate.py)."""

    rng: np.random.Generator

    def log(self, low: float, high: float) -> float: ...
    def even(self, low: float, high: float) -> float: ...
    def whole(self, low: int, high: int) -> int: ...


@njit(cache=True)
def _play(ref: Array, load: Array, noise: Array, rows: int, ts: float, motor: tuple, loop: tuple, sensor: tuple) -> tuple[Array, Array]:
    inertia, viscous, coulomb, kt, tau = motor
    kp, ki, limit = loop
    share, counted, dead = sensor
    n, h = len(ref), ts / 8
    w, turned, last = ref[0], 0.0, 0.0
    soft = 0.002 * abs(w) + 0.02
    now = wanted = total = (viscous * w + coulomb * np.sign(w)) / kt
    seen, late = w, np.full(dead + 1, w)
    speed, current, fade = np.empty(n), np.empty(n), math.exp(-h / tau)
    for k in range(n):
        if k % rows == 0:
            if counted > 0:
                place = math.floor(turned / counted)
                late[dead] = (place - last) * counted / (rows * ts) if k else w
                last = place
            else:
                late[dead] = w + noise[k]
            seen += share * (late[0] - seen)
            late[:-1] = late[1:]
            error = ref[k] - seen
            asked = kp * error + total + ki * rows * ts * error
            wanted = min(max(asked, -limit), limit)
            if asked == wanted or error * asked < 0:
                total += ki * rows * ts * error
        speed[k], current[k] = seen, now
        for _ in range(8):
            before, now = now, wanted + (now - wanted) * fade
            w += h / inertia * (kt * 0.5 * (before + now) - load[k] - viscous * w - coulomb * math.tanh(w / soft))
            turned += w * h
    return speed, current


def closed_loop(b: Bench) -> Case:
    """Steps, a reversal or a step with a load behind it."""
    kt, inertia, top = b.log(0.01, 0.6), b.log(2e-6, 5e-3), b.log(30, 600)
    rate, rows, dead = b.log(500, 5000), (1, 1, 2, 4)[b.whole(0, 3)], b.whole(0, 2)
    period, ts = 1 / rate, 1 / rate / rows
    share = 1 - math.exp(-2 * math.pi * b.log(0.02, 0.2)) if b.even(0, 1) < 0.75 else 1.0
    counted = 2 * math.pi / round(b.log(1000, 20000)) if b.even(0, 1) < 0.4 else 0.0
    tau = 1 / (2 * math.pi * b.log(300, 2000))
    # a difference of places is half a period old, and a repeated one half of its repeats
    delay = (dead + (1 - share) / share + (0.5 if counted else 0.0)) * period + 0.5 * (rows - 1) * ts
    cross = b.even(0.15, 0.45) / (delay + tau + 0.5 * period)
    kp = cross * inertia / kt
    n = int(min(max(b.even(30, 120) / cross / ts, 600), 12000))
    k, first, second = np.arange(n) / n, b.even(0.1, 0.4), b.even(0.5, 1.0)
    kind = ("steps", "reversal", "loaded step")[b.whole(0, 2)]
    ref = top * {
        "steps": np.where(k < 0.2, first, np.where(k < 0.6, second, b.even(0.2, 0.5))), "reversal": np.where(k < 0.4, second, -b.even(0.4, 1)), "loaded step": np.where(k < 0.25, first, second),
    }[kind]  # fmt: skip
    limit = max(b.even(0.15, 0.9) * kp * top, 5 * inertia * top / (n * ts) / kt)
    viscous, coulomb = b.even(0.05, 0.3) * limit * kt / top, b.even(0.02, 0.2) * limit * kt
    load = np.where((k > b.even(0.6, 0.75)) & (kind == "loaded step"), b.even(0.15, 0.4) * limit * kt, 0.0)
    noise = b.log(3e-4, 6e-3) * top * b.rng.standard_normal(n)
    speed, current = _play(ref, load, noise, rows, ts, (inertia, viscous, coulomb, kt, tau), (kp, kp * cross / b.even(4, 12), limit), (share, counted, dead))
    current += 1e-3 * limit * b.rng.standard_normal(n)
    capture = Capture("c", np.arange(n) * ts, {"speed_ref": ref, "speed": speed, "i_q": current})
    truth = {"inertia": inertia, "viscous_friction": viscous, "coulomb_friction": coulomb, "delay": delay}
    return lambda: fit_speed_response(capture, kt=kt), {name: value for name, value in truth.items() if value > 0}


METHODS: dict[str, tuple[Callable[[Bench], Case], dict[str, float]]] = {"speed response, closed loop": (closed_loop, {"inertia": 0.2, "delay": 2.0})}
