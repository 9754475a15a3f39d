"""Six-step control: one current through two phases at a time; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.mechanics import drag, friction
from crisp_compass.plant.parameters import AnyMachine, Load
from crisp_compass.plant.sensors import hall_sector
from crisp_compass.plant.state import SQRT3


@compiled
def six_step(
    machine: AnyMachine,
    load: Load,
    edges: FloatArray,
    pairs: FloatArray,
    volts: float,
    i_limit: float,
    theta: float,
    dt: float,
    steps: int,
) -> tuple[float, float, float, float]:
    """Run a motor under six-step drive from rest at electrical angle ``theta``: one current through two phases.

    ``edges`` (6,) are the sectors' lower bounds, ascending, ``pairs`` (6,) the angle of the current vector that each
    sector drives, rad; ``volts`` over the pair. Returns the electrical angle travelled [rad], the mean mechanical speed
    [rad/s] and mean current [A] of the last third, and the speed's standard deviation there.
    """  # fmt: skip
    p, r, psi = machine.pole_pairs, 2.0 * machine.r, SQRT3 * machine.psi
    over_l = 2.0 / (2.0 * (machine.ld + machine.lq))
    over_j, b, c = 1.0 / load.inertia, load.viscous, load.coulomb
    i, w, start = 0.0, 0.0, theta
    first = 2 * steps // 3
    total_w = total_w2 = total_i = 0.0
    for k in range(steps):
        alpha = pairs[hall_sector(theta, edges)]
        grip = math.sin(alpha - theta)
        i += dt * over_l * (volts - r * i - psi * p * w * grip)
        i = min(i_limit, max(-i_limit, i))
        w0 = w
        w += dt * over_j * friction(psi * p * i * grip - drag(b, load.quadratic, w), w, c, load.breakaway)
        if w0 * w < 0.0:
            w = 0.0
        theta += dt * p * w
        if k >= first:
            total_w += w
            total_w2 += w * w
            total_i += abs(i)
    n = float(steps - first)
    mean = total_w / n
    return theta - start, mean, total_i / n, math.sqrt(max(total_w2 / n - mean * mean, 0.0))
