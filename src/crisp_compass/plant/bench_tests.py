"""Bench tests on the simulated machine: the captures a person would take, before sensors spoil them.

Two-terminal tests hold the rotor still, so the circuit A to B is R–L with L_ab = 2·L(θ); coasting and hand turning
leave the windings open, so only back-EMF is seen. Signs as in the conventions: v_ab = −√3·ω·ψ·cos(θe − 60°).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import Load, Machine


@dataclass(frozen=True)
class Probe:
    """A channel as an instrument sees it: full scale, bits, noise rms and offset, all in the channel's unit."""

    full_scale: float
    bits: int
    noise: float
    offset: float = 0.0

    def sample(self, values: FloatArray, rng: np.random.Generator) -> FloatArray:
        """Return digitised values (n,)."""
        step = 2 * self.full_scale / 2**self.bits
        noisy = values + self.offset + self.noise * rng.standard_normal(len(values))
        clipped: FloatArray = np.clip(np.round(noisy / step) * step, -self.full_scale, self.full_scale - step)
        return clipped


def inductance_ab(machine: Machine, theta_e: float) -> float:
    """Return the inductance between A and B [H] at electrical rotor angle ``theta_e``; the A–B axis lies at −30°."""
    mean, swing = (machine.ld + machine.lq) / 2, (machine.lq - machine.ld) / 2
    return 2 * (mean - swing * math.cos(2 * (theta_e + math.pi / 6)))


def rl_response(r: float, inductance: float, v: FloatArray, dt: float) -> FloatArray:
    """Return the current (n,) of a series R–L circuit, the voltage (n,) held over each interval ``dt``."""
    decay = math.exp(-r / inductance * dt)
    return np.asarray(scipy.signal.lfilter([0.0, (1 - decay) / r], [1.0, -decay], v))


def coast(
    machine: Machine, load: Load, speed: float, seconds: float, dt: float
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return t, θe and mechanical ω (n,) of a rotor slowed by its friction alone (closed form)."""
    t = np.arange(round(seconds / dt)).astype(np.float64) * dt
    b, j, c = max(load.viscous, 1e-12), load.inertia, load.coulomb * np.sign(speed)
    omega = (speed + c / b) * np.exp(-b / j * t) - c / b
    angle = (speed + c / b) * j / b * (1 - np.exp(-b / j * t)) - c / b * t
    if load.coulomb > 0:
        stopped = omega * np.sign(speed) <= 0
        if stopped.any():
            k = int(np.argmax(stopped))
            omega[k:], angle[k:] = 0.0, angle[max(k - 1, 0)]
    return t, np.asarray(machine.pole_pairs * angle), np.asarray(omega)


def back_emf(
    machine: Machine, theta_e: FloatArray, omega: FloatArray, fifth: float = 0.0, seventh: float = 0.0
) -> dict[str, FloatArray]:
    """Return the open-circuit line voltages (n,) [V]; ``fifth``/``seventh`` are voltage ratios to the fundamental."""

    def phase(shift: float) -> FloatArray:
        x = theta_e - shift
        wave = np.sin(x) + fifth * np.sin(5 * x) + seventh * np.sin(7 * x)
        return np.asarray(-machine.pole_pairs * omega * machine.psi * wave)

    a, b, c = phase(0.0), phase(2 * math.pi / 3), phase(4 * math.pi / 3)
    return {"v_ab": a - b, "v_bc": b - c, "v_ca": c - a}


def hall_levels(
    theta_e: FloatArray, edges_deg: tuple[float, ...], order: tuple[int, int, int], inverted: tuple[bool, bool, bool]
) -> list[FloatArray]:
    """Return hall_1..3 (n,) as 0/1. Sensor k reads 1 from edge k to edge k + 3 (edges ascend, degrees)."""
    x = np.degrees(theta_e) % 360
    raw = []
    for k in (0, 2, 4):
        start, stop = edges_deg[k], edges_deg[(k + 3) % 6]
        raw.append((x - start) % 360 < (stop - start) % 360)
    return [(raw[source] ^ flip).astype(np.float64) for source, flip in zip(order, inverted, strict=True)]
