"""What a motor on a drive can do on the torque–speed plane: the current that a torque takes, what is lost, and how much torque voltage, current and power leave.

Steady state of the usual equations: magnets v_d = R·i_d − ω·Lq·i_q, v_q = R·i_q + ω·(Ld·i_d + ψ), a cage by its inverse-Γ circuit (G. R. Slemon 1989), an armature v = R·i + ψ·ω + drop. Magnets run with i_d = 0
until the voltage ends, then with the least i_d against the magnet that keeps it, as the firmware does.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np

from crisp_compass.estimates import BoolArray, FloatArray

#: Halvings of a search for the greatest torque.
_HALVINGS = 36


class Motor(NamedTuple):
    """What stands behind the torque: ``factor``·p·ψ·i_q, and factor·R·i² lost; ``weakest`` [A] the most i_d against the magnet; of a cage ``rr`` Ω, ``lm`` H and its flux current ``i_flux`` [A], which falls as 1/ω beyond ``flux_volts``. ``dead`` [V] is what the dead time takes, along the current."""

    kind: Literal["magnet", "cage", "armature"]
    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float
    factor: float
    weakest: float = 0.0
    rr: float = 0.0
    lm: float = 0.0
    i_flux: float = 0.0
    flux_volts: float = 0.0
    drop: float = 0.0
    dead: float = 0.0


class Losses(NamedTuple):
    """What is lost beside the copper: ``viscous`` [N·m·s/rad] and ``coulomb`` [N·m] friction; in the bridge ``ohm`` [Ω] times I², and ``volts`` [V] times I."""

    viscous: float = 0.0
    coulomb: float = 0.0
    ohm: float = 0.0
    volts: float = 0.0


@dataclass(frozen=True)
class Points:
    """Of each torque and speed: ``current`` [A peak], ``copper``, ``friction`` and ``bridge`` [W] lost, and whether the voltage suffices (``inside``)."""

    current: FloatArray
    copper: FloatArray
    friction: FloatArray
    bridge: FloatArray
    inside: BoolArray

    @property
    def lost(self) -> FloatArray:
        """All losses, W."""
        return self.copper + self.friction + self.bridge


def points(m: Motor, losses: Losses, torque: FloatArray, speed: FloatArray, volts: float) -> Points:
    """Return what shaft torques [N·m] at speeds [rad/s] (broadcast against each other, both from 0 up) take with ``volts`` [V] for the vector."""
    torque, speed = np.broadcast_arrays(np.asarray(torque, dtype=np.float64), np.asarray(speed, dtype=np.float64))
    drag = losses.viscous * speed + np.where(speed > 0, losses.coulomb, 0.0)
    made = torque + drag
    current, copper, inside = {"magnet": _magnet, "cage": _cage, "armature": _armature}[m.kind](m, made, speed, volts)
    return Points(current, copper, drag * speed, losses.ohm * current**2 + losses.volts * current, inside=inside)


def _magnet(m: Motor, torque: FloatArray, speed: FloatArray, volts: float) -> tuple[FloatArray, FloatArray, BoolArray]:
    w = m.pole_pairs * speed
    i_d = np.zeros_like(torque)
    inside: BoolArray = np.ones(torque.shape, dtype=np.bool_)
    i_q = torque / (m.factor * m.pole_pairs * m.psi)
    for _ in range(4 if m.weakest > 0 else 1):  # what i_d adds to the torque of a salient rotor
        i_q = torque / (m.factor * m.pole_pairs * np.maximum(m.psi + (m.ld - m.lq) * i_d, 1e-3 * m.psi))
        r = m.r + m.dead / np.maximum(np.hypot(i_d, i_q), 1e-9)  # what the dead time takes lies along the current
        a, across = r**2 + (w * m.ld) ** 2, r * i_q + w * m.psi
        b, c = 2 * (across * w * m.ld - r * w * m.lq * i_q), (w * m.lq * i_q) ** 2 + across**2 - volts**2
        root = b * b - 4 * a * c
        wanted = np.where(c <= 0, 0.0, (-b + np.sqrt(np.maximum(root, 0.0))) / (2 * np.maximum(a, 1e-30)))
        inside = (c <= 0) | ((root >= 0) & (wanted >= -m.weakest) & (wanted <= 0))
        i_d = np.clip(wanted, -m.weakest, 0.0)
    size = i_d**2 + i_q**2
    return np.sqrt(size), m.factor * m.r * size, inside


def _cage(m: Motor, torque: FloatArray, speed: FloatArray, volts: float) -> tuple[FloatArray, FloatArray, BoolArray]:
    w = m.pole_pairs * speed
    i_d = np.minimum(m.i_flux, m.flux_volts / (m.lm + m.lq) / np.maximum(w, 1e-9))
    flux = m.lm * i_d
    i_q = torque / (m.factor * m.pole_pairs * np.maximum(flux, 1e-12))
    turning = w + m.rr * i_q / np.maximum(flux, 1e-12)
    r = m.r + m.dead / np.maximum(np.hypot(i_d, i_q), 1e-9)
    v_d, v_q = r * i_d - turning * m.lq * i_q, (r + m.rr) * i_q + turning * m.lq * i_d + w * flux
    return np.hypot(i_d, i_q), m.factor * (m.r * (i_d**2 + i_q**2) + m.rr * i_q**2), v_d**2 + v_q**2 <= volts**2


def _armature(m: Motor, torque: FloatArray, speed: FloatArray, volts: float) -> tuple[FloatArray, FloatArray, BoolArray]:
    current = torque / m.psi
    return current, m.r * current**2 + m.drop * current, m.r * current + m.psi * speed + m.drop + m.dead <= volts


#: What may bind, as codes of :class:`Envelope`.
CURRENT, VOLTAGE, POWER, NOTHING = 0, 1, 2, 3


@dataclass(frozen=True)
class Envelope:
    """Greatest shaft ``torque`` (n,) N·m at each speed, NaN where not even none can be had, and what ``binds`` (n,) it."""

    speed: FloatArray
    torque: FloatArray
    binds: FloatArray


def envelope(m: Motor, losses: Losses, speed: FloatArray, volts: float, amps: float, power: float = float("inf")) -> Envelope:
    """Return the greatest torque at speeds (n,) [rad/s] with a current of ``amps`` [A peak], the voltage, and a supply of ``power`` [W]."""

    def allowed(torque: FloatArray) -> tuple[BoolArray, BoolArray, BoolArray]:
        p = points(m, losses, torque, speed, volts=volts)
        return p.current <= amps * (1 + 1e-12), p.inside, torque * speed + p.lost <= power

    low = np.zeros(len(speed))
    high = np.full(len(speed), 4.0 * m.factor * m.pole_pairs * max(m.psi, m.lm * m.i_flux) * amps)
    first = np.all(allowed(low), axis=0)
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        good = np.all(allowed(middle), axis=0)
        low, high = np.where(good, middle, low), np.where(good, high, middle)
    current, inside, fed = allowed(np.maximum(low * 1.002, 1e-9 * high))
    binds = np.where(~fed, POWER, np.where(~inside, VOLTAGE, np.where(~current, CURRENT, NOTHING)))
    return Envelope(speed, np.where(first, low, np.nan), np.asarray(binds, dtype=np.float64))
