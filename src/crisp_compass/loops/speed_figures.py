"""What a designed speed loop does beside following its reference: a sudden load, the sensor's steps in the current, the lowest speed, the brushes' relay."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.loops.sampled import Sampled, discretise, margins, simulate
from crisp_compass.loops.speed import SpeedPlant, controller, edge_delay, is_stable, shaft, speed_loop


@dataclass(frozen=True)
class LoadStep:
    """What a sudden load does: ``dip`` [rad/s per N·m], the time [s] until a tenth of it is left, and how hard the angle is held against a load that stays: ``stiffness`` [N·m/rad]."""

    dip: float
    recovery: float
    stiffness: float
    time: FloatArray
    speed: FloatArray


def load_step(plant: SpeedPlant, kp: float, ki: float, seconds: float) -> LoadStep | None:
    """Return the answer of the closed loop to a load of 1 N·m that comes suddenly and stays, over ``seconds``; None where the armature's voltage tells the speed, or the loop is unstable.

    The load acts on the shaft between the samples, so it is held and discretised as the current is (K. J. Åström, B. Wittenmark, Computer-Controlled Systems, 3rd ed. 1997, 2.3). With an
    integrator of the speed's error a load that stays turns the shaft by T/(Kt·Ki) and no further.
    """
    if plant.armature is not None or not is_stable(plant, kp, ki):
        return None
    ts = 1 / plant.loop_hz
    steps = max(math.ceil(seconds / ts), 10)
    speed = simulate(loaded_loop(plant, kp, ki), np.ones(steps))[:, 0]
    size = np.abs(speed)
    dip = float(size.max())
    above = np.flatnonzero(size > 0.1 * dip)
    return LoadStep(dip, float(above[-1] + 1) * ts, plant.kt * ki, np.arange(float(steps)) * ts, speed=speed)


def swing_answer(plant: SpeedPlant, kp: float, ki: float, hz: float) -> float | None:
    """Return the amplitude of the speed [rad/s] for each N·m of a load that swings with ``hz``; None as for :func:`load_step`, and beyond half the loop's rate."""
    if plant.armature is not None or hz >= 0.5 * plant.loop_hz or not is_stable(plant, kp, ki):
        return None
    return float(abs(loaded_loop(plant, kp, ki).response(np.array([2 * math.pi * hz]))[0]))


def loaded_loop(plant: SpeedPlant, kp: float, ki: float) -> Sampled:
    """Return the closed loop from a load torque [N·m] to the speed of the motor's shaft [rad/s]."""
    ts = 1 / plant.loop_hz
    A, B, C = shaft(plant)
    pull = np.zeros_like(B)
    if plant.coupling:
        pull[3, 0] = -1.0 / plant.coupling.load_inertia
    else:
        pull[1, 0] = -1.0 / plant.inertia
    driven, loaded, pi = discretise(A, B, C, ts, delay=0.0), discretise(A, pull, C, ts, delay=0.0), controller(plant, kp, ki)
    # the loop closed: states of the shaft, of the controller, and what was asked for one sample ago, which acts now
    n, m = len(A), len(pi.A)
    whole, inward = np.zeros((n + m + 1, n + m + 1)), np.zeros((n + m + 1, 1))
    whole[:n, :n], whole[:n, n + m], inward[:n] = driven.A, driven.B[:, 0], loaded.B
    whole[n : n + m, :n], whole[n : n + m, n : n + m] = -pi.B @ C[:1], pi.A
    whole[n + m, :n], whole[n + m, n : n + m] = -pi.D[0, 0] * C[0], pi.C[0]
    shown = np.zeros((1, n + m + 1))
    shown[0, 1] = 1.0
    return Sampled(whole, inward, shown, np.zeros((1, 1)), ts=ts)


def sensor_noise(plant: SpeedPlant, kp: float, ki: float, counts: float) -> tuple[float, float]:
    """Return what an encoder's ``counts`` a turn put into the torque current [A]: rms while the shaft turns, and the kick of a single count at rest.

    Turning, each angle is off by an even error within one count q, of variance q²/12 and new at every sample; its difference over a period is the raw speed (B. Widrow,
    I. Kollár, Quantization Noise, 2008, ch. 5), which passes speed filter, PI and the torque current's filters, and comes round the loop.
    """
    ts, q = 1 / plant.loop_hz, 2 * math.pi / counts
    share = 1 - math.exp(-2 * math.pi * plant.filter_hz * ts) if plant.filter_hz else 1.0
    kick = q / ts * share * float(controller(plant, kp, ki).D[0, 0])
    return noise_of(plant, counts)(kp, ki), kick


def noise_of(plant: SpeedPlant, counts: float, points: int = 1500) -> Callable[[float, float], float]:
    """Return :func:`sensor_noise`'s rms [A] as a function of Kp and Ki alone, for a search: what does not depend on them is worked out once."""
    ts, q = 1 / plant.loop_hz, 2 * math.pi / counts
    share = 1 - math.exp(-2 * math.pi * plant.filter_hz * ts) if plant.filter_hz else 1.0
    turn: FloatArray = ((np.arange(points) + 0.5) * (math.pi / points)).astype(np.float64)
    back = np.exp(-1j * turn)
    seen = share / (1 - (1 - share) * back)
    behind = plant.filters.system(ts)
    filters = behind.response(turn / ts) if behind is not None else np.ones(points)
    round_ = speed_loop(plant, 1.0, 0.0).response(turn / ts)
    raw = q * q / 12 * np.abs(1 - back) ** 2 / ts**2 * np.abs(seen * filters) ** 2

    def rms(kp: float, ki: float) -> float:
        pi = kp + ki * ts / (1 - back)
        return math.sqrt(float(np.mean(raw * np.abs(pi / (1 + pi * round_)) ** 2)))

    return rms


def relay_swing(plant: SpeedPlant, kp: float, ki: float) -> float:
    """Return the amplitude [A] with which the brushes' drop lets the current swing around zero; infinite where the loop is unstable.

    By the describing function of a relay, 4·V0/(π·A) beside the resistance (A. Gelb, W. E. Vander Velde, Multiple-Input Describing
    Functions, 1968, 2.3): it swings with the amplitude at which that sum brings the loop to its border.
    """
    sensor = plant.armature
    if sensor is None or sensor.relay <= 0:
        return 0.0

    def holds(droop: float) -> bool:
        return is_stable(replace(plant, armature=replace(sensor, droop=droop)), kp, ki)

    if not holds(sensor.droop):
        return math.inf
    low, step = sensor.droop, abs(sensor.droop) + 1 / kp
    while holds(low + step):
        low, step = low + step, 2 * step
        if step > 1e9 / kp:
            return 0.0
    high = low + step
    while high - sensor.droop > 1.02 * (low - sensor.droop) and high > 1.0001 * low:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if holds(middle) else (low, middle)
    return 4 * sensor.relay / (math.pi * (low - sensor.droop)) if low > sensor.droop else math.inf


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
