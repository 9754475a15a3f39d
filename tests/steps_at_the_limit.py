"""Random windings with current steps that the voltage limit rules, and the time full voltage needs for them."""

from __future__ import annotations

import math

import numpy as np
from scipy.integrate import solve_ivp

from crisp_compass.plant.parameters import Machine


def random_steps(count: int, seed: int) -> list[tuple[Machine, float, float, float, float]]:
    """Motor, period, bus, mechanical speed and a step of five times limit/Kp or more that the voltage can still hold."""
    rng, found = np.random.default_rng(seed), []  # type: ignore[var-annotated]
    while len(found) < count:
        r, tau, ts, bus = (
            10 ** rng.uniform(-2, 1),
            10 ** rng.uniform(-3.3, -1.5),
            1 / rng.uniform(8e3, 40e3),
            10 ** rng.uniform(1, 2.6),
        )
        machine = Machine(r, r * tau, r * tau, 0.01, 4.0)
        limit = bus / math.sqrt(3)
        omega = min(rng.uniform(0, 0.7) * limit / 0.04, 2 * math.pi / ts / 40 / 4)
        room = limit - 0.04 * omega
        low, high = 5 * room / (2 * math.pi / ts / 20 * r * tau), 0.8 * room / math.hypot(r, 4 * omega * r * tau)
        if (
            tau > 4 * ts
            and low < high
            and math.hypot(4 * omega * r * tau * high, r * high + 0.04 * omega) < 0.95 * limit
        ):
            found.append(
                (machine, ts, bus, float(omega), float(math.exp(rng.uniform(math.log(low), math.log(high)))))
            )
    return found


def full_voltage_time(machine: Machine, volts: float, omega: float, current: float) -> float:
    """Time to 90 % of ``current`` on the q axis with the whole circle on q but what d needs (SciPy's integrator)."""
    we = machine.pole_pairs * omega

    def slope(_: float, i: np.ndarray) -> list[float]:
        v = math.sqrt(max(volts**2 - (we * machine.lq * i[0]) ** 2, 0.0))
        return [(v - machine.r * i[0] - we * machine.psi) / machine.lq]

    def there(_: float, i: np.ndarray) -> float:
        return float(i[0] - 0.9 * current)

    there.terminal = True  # type: ignore[attr-defined]
    end = 50 * machine.lq / machine.r
    return float(solve_ivp(slope, (0, end), [0.0], events=there, rtol=1e-8, max_step=end / 200).t[-1])
