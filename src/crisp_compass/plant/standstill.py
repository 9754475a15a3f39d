"""Tests at standstill on the simulated machine: voltage pulses all round, and a current held at one angle after another.

Pulses: both axes of the machine in the rotor frame, the magnet's bias in the iron as a d flux Ld·(i − m·i²/(2·I)), so
that the current I drawn towards the pole exceeds that against it by the share m; the shaft is free and Coulomb friction
holds it. Alignment: J·θ'' = Kt·I·sin(α − θe) + saliency − friction − cogging while the field moves on and rests.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import AnyMachine, Load

_STEPS = 20


@dataclass(frozen=True)
class Pulses:
    """How the search pulses: directions evenly round, each ``repeats`` times, ``current`` [A] meant at the end of one.

    ``noise`` is the standard deviation of a reading as a share of ``current``, ``offset`` [A] that of the channels of
    phase A and B. ``magnet`` is the share m by which the iron takes more current towards the pole than against it.
    """

    directions: int = 24
    repeats: int = 3
    current: float = 1.0
    noise: float = 0.01
    magnet: float = 0.05
    offset: tuple[float, float] = (0.0, 0.0)


def pulse_currents(
    machine: AnyMachine, load: Load, theta_e: float, pulses: Pulses, *, seed: int = 0
) -> tuple[FloatArray, FloatArray, float]:
    """Return directions [rad] and currents along them [A], (n,), and how far the rotor was moved [rad electrical].

    Raises Refusal for fewer than three directions or no current.
    """
    if pulses.directions < 3 or pulses.repeats < 1 or not pulses.current > 0:
        raise Refusal("the pulses are not possible", "three directions and a current above zero are needed")
    rng = np.random.default_rng(seed)
    inductance = 0.5 * (machine.ld + machine.lq)
    seconds = 0.15 * inductance / machine.r
    volts = pulses.current * inductance / seconds * (1 + 0.075)
    theta, omega, start = theta_e, 0.0, theta_e
    angles = np.tile(2 * math.pi * np.arange(pulses.directions) / pulses.directions, pulses.repeats)
    # opposite directions in turn, so that what one pushes the shaft the next takes back
    half = pulses.directions // 2
    order = np.argsort(np.tile(np.arange(pulses.directions) % max(half, 1), pulses.repeats), kind="stable")
    angles = angles[order]
    currents = np.empty(len(angles))
    for k, alpha in enumerate(angles):
        i_d, i_q, theta, omega = _pulse(machine, load, theta, omega, alpha=alpha, volts=volts, seconds=seconds, pulses=pulses)
        if not math.isfinite(theta):
            raise Refusal("a pulse of this current throws the rotor about", "use a smaller pulse current")
        along = i_d * math.cos(alpha - theta) + i_q * math.sin(alpha - theta)
        off_a, off_b = pulses.offset
        seen = off_a * math.cos(alpha) + (off_a + 2 * off_b) / math.sqrt(3) * math.sin(alpha)
        currents[k] = along + seen + pulses.noise * pulses.current * rng.standard_normal()
    if not (np.isfinite(currents).all() and math.isfinite(theta)):
        raise Refusal("a pulse of this current throws the rotor about", "use a smaller pulse current")
    return angles, currents, theta - start


def _pulse(
    m: AnyMachine, load: Load, theta: float, omega: float, alpha: float, volts: float, seconds: float, pulses: Pulses
) -> tuple[float, float, float, float]:  # fmt: skip
    """Return id, iq [A] at the end of a pulse, and the shaft after the current is gone (it rests between pulses)."""
    h, p, bend = seconds / _STEPS, m.pole_pairs, pulses.magnet / pulses.current
    i_d = i_q = 0.0
    for _ in range(_STEPS):
        if not math.isfinite(theta):
            break
        vd, vq = volts * math.cos(alpha - theta), volts * math.sin(alpha - theta)
        ld = m.ld * min(max(1 - bend * i_d, 0.2), 1.8)
        we = p * omega
        flux_d = m.ld * (i_d - 0.5 * bend * i_d * i_d)
        slope_d, slope_q = (vd - m.r * i_d + we * m.lq * i_q) / ld, (vq - m.r * i_q - we * (flux_d + m.psi)) / m.lq
        i_d, i_q = i_d + h * slope_d, i_q + h * slope_q
        torque = m.torque_factor * p * ((m.psi + flux_d) * i_q - m.lq * i_q * i_d)
        if omega != 0 or abs(torque) > load.coulomb:
            omega += h * (torque - math.copysign(load.coulomb, omega if omega else torque)) / load.inertia
        theta += h * p * omega
    # the current falls as fast as it rose, and brakes or drives on half as far again
    return i_d, i_q, theta + p * omega * seconds, 0.0


@dataclass(frozen=True)
class Rests:
    """Where the rotor came to rest: commanded field [rad] and mechanical angle [rad], (n,) in the order gone to."""

    field: FloatArray
    mechanical: FloatArray


def align(
    machine: AnyMachine, load: Load, current: float, field: FloatArray, *, start: float = 0.0, cogging: float = 0.0, slots: int = 12
) -> Rests:  # fmt: skip
    """Hold ``current`` [A] at one angle of ``field`` (n,) [rad] after another; ``start`` is θe at the beginning.

    ``cogging`` is the amplitude [N·m] of a torque with ``slots`` periods a turn of the shaft.
    """
    p = machine.pole_pairs
    stiffness = machine.torque_factor * p * p * machine.psi * current
    natural = math.sqrt(stiffness / load.inertia)
    h = 0.05 / natural
    damping = max(load.viscous, 0.2 * math.sqrt(stiffness * load.inertia))
    theta, omega, alpha = start / p, 0.0, float(field[0])
    places = np.empty(len(field))
    for k, goal in enumerate(field):
        travel = float(goal) - alpha
        ramp = max(round(abs(travel) * 400), 1)  # slow against the swing, as one turns a field by hand
        for n in range(ramp + 400):
            now = alpha + travel * 0.5 * (1 - math.cos(math.pi * min((n + 1) / ramp, 1.0)))  # eased in at both ends
            lag = now - p * theta
            i_d, i_q = current * math.cos(lag), current * math.sin(lag)
            torque = machine.torque_factor * p * (machine.psi * i_q + (machine.ld - machine.lq) * i_d * i_q)
            torque -= damping * omega + cogging * math.sin(slots * theta)
            if omega == 0.0 and abs(torque) <= load.coulomb:
                continue
            before = omega
            omega += h * (torque - math.copysign(load.coulomb, omega if omega else torque)) / load.inertia
            if before * omega < 0:
                omega = 0.0
            theta += h * omega
        alpha, places[k] = float(goal), theta
    return Rests(np.asarray(field, dtype=np.float64), places)
