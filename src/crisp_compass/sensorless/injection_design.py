"""Injection at and near standstill: whether this motor's saliency carries it, how quickly it may follow, how long the pole takes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.sensorless.design import Plant
from crisp_compass.sensorless.injection import POLE_SURE, Injected

#: Saliency (Lq − Ld)/(Lq + Ld) below which injection is not proposed, angle noise [rad rms] that is proposed and that is too much, and the slowest loop [rad/s] that is any use.
LEAST_SALIENCY, PROPOSED_NOISE, MOST_NOISE, SLOWEST = 0.05, math.radians(2.0), math.radians(10.0), 2 * math.pi * 2.0
#: The loop against the speed loop's crossover: wanted, and still calm.
ABOVE_SPEED_LOOP, CALM = 5.0, 2.5
#: The speed's noise over ω_n and the angle's in a loop of second type, ζ = 1: √(1/5). Noise of the speed loop's current that is proposed, of rated.
SPEED_NOISE, CALM_CURRENT = math.sqrt(0.2), 0.1
#: Share of the usable voltage that is injected and ripple, of rated current, that it may make, where nothing is said; share that may be said.
USUAL_SHARE, USUAL_RIPPLE, MOST_SHARE = 0.15, 0.25, 0.5
#: What two channels make of the noise of one, over all directions; a difference of three steps, and what alternates of it.
_CHANNELS, _STEP_NOISE, _ALTERNATING = math.sqrt((1 + 5 / 3) / 2), math.sqrt(20) / 4, 2.0
#: Angle [rad] by which dead time may turn what is seen; the plant loses the axis from about twice that on.
DEAD_TIME_TURNS = math.radians(6.0)
#: Longest time [s] that telling the pole may take, and most lag [rad] in the ramp.
_LONGEST_POLE, MOST_LAG = 0.5, math.radians(10.0)


@dataclass(frozen=True)
class Conditions:
    """What the firmware gives: sampling period ``ts`` [s], share ``alike`` of a period over which the injected voltage has one sign less that of the other (1: whole periods of delay), the
    longest phase vector ``limit`` [V], ``noise`` of one current reading [A rms], ``rated`` current [A peak], ``current_loop`` and ``speed_loop`` crossovers [rad/s], the
    electrical acceleration ``ramp`` [rad/s²] that is asked for, the speed loop's ``gain`` [A/(rad/s), electrical], and what the dead time of one leg takes (``dead``) [V]."""

    ts: float
    alike: float
    limit: float
    noise: float
    rated: float
    current_loop: float
    speed_loop: float
    ramp: float = 0.0
    gain: float = 0.0
    dead: float = 0.0


@dataclass(frozen=True)
class Iron:
    """What saturates: share ``rest`` of the inductance that stays and the current ``knee`` [A] around which it falls; ``bend`` [1/A] by which the magnet lowers Ld along the pole."""

    rest: float = 1.0
    knee: float = 1.0
    bend: float = 0.0


@dataclass(frozen=True)
class Injection:
    """``ratio`` of saliency, ``ripple`` of the injected current [A, peak to peak], ``angle`` [rad rms] that the currents' noise leaves, the current [A] above which iron leaves too little saliency
    (``most_current``, None: never), whether it ``works`` and the ``reason`` in a sentence; ``firmware`` as it would run, and what is to be said."""

    ratio: float
    ripple: float
    angle: float
    most_current: float | None
    works: bool
    reason: str
    firmware: Injected
    findings: tuple[Finding, ...] = ()


def angle_noise(plant: Plant, volts: float, ts: float, noise: float, natural: float) -> float:
    """Return the angle's noise [rad rms] in a loop of second type, ζ = 1, natural frequency ω_n [rad/s].

    Of white noise σ_i the part that alternates passes (x₀ − 2x₁ + x₂)/4 of differences with a gain of 2; one turn of ε changes the current by V·Ts·|1/Ld − 1/Lq|; the loop's noise
    bandwidth is 5·ω_n/8 (F. M. Gardner, Phaselock Techniques, 2005, ch. 3).
    """
    signal = volts * ts * abs(1 / plant.ld - 1 / plant.lq)
    if signal <= 0:
        return math.inf
    return _ALTERNATING * _CHANNELS * noise / signal * math.sqrt(1.25 * natural * ts)


def noise_over_saliency(plant: Plant, c: Conditions, volts: float) -> tuple[FloatArray, FloatArray]:
    """Return saliencies (n,) and the angle's noise (n,) [rad rms] that each would leave with this motor's mean inductance, in a loop quick enough for the speed loop."""
    ratios = np.geomspace(0.002, 0.5, 80)
    natural = min(CALM * c.speed_loop, 1 / (16 * c.ts))
    mean = 0.5 * (plant.ld + plant.lq)
    made = [plant._replace(ld=mean * (1 - x), lq=mean * (1 + x)) for x in ratios]
    return ratios, np.array([angle_noise(m, volts * c.alike, c.ts, c.noise, natural=natural) for m in made])


def past_dead_time(plant: Plant, dead: float) -> float:
    """Return the least voltage [V] that carries the ripple through zero past a leg's dead time ``dead`` [V].

    Rising from −A to A with V + l and V − l, the current loses l²/V on average, l up to 4/3 of a leg's; where that stands across the axis it turns the angle by l²/V² over twice the saliency.
    """
    ratio = abs(plant.lq - plant.ld) / (plant.lq + plant.ld)
    return 4 / 3 * dead / math.sqrt(2 * max(ratio, LEAST_SALIENCY) * DEAD_TIME_TURNS)


def saliency_current(plant: Plant, iron: Iron) -> float | None:
    """Return the torque current [A peak] at which saturation has brought Lq within the least saliency of Ld; None where it never does."""
    share = plant.ld / plant.lq * (1 + LEAST_SALIENCY) / (1 - LEAST_SALIENCY)
    if plant.lq <= plant.ld or iron.rest >= share:
        return None
    if share >= 1:
        return 0.0
    return iron.knee * math.sqrt((1 - share) / (share - iron.rest))


def pole_time(plant: Plant, c: Conditions, iron: Iron, volts: float, current: float) -> float:
    """Return for how long [s] a current must stand along the pole, and against it, until both differ by twice what the firmware asks for."""
    difference = 2 * iron.bend * current / plant.ld
    if difference <= 0 or volts <= 0:
        return math.inf
    each = _STEP_NOISE * _CHANNELS * c.noise / (c.ts * volts)
    samples = 2 * (2 * POLE_SURE * each / difference) ** 2
    # half of the time is for the current to come
    return max(2 * samples * c.ts, 8 / c.current_loop, 40 * c.ts)


def judge(
    plant: Plant, c: Conditions, iron: Iron, *, volts: float | None, natural: float | None, pole_current: float, fades: float, gone: float
) -> Injection:  # fmt: skip
    """Judge injection for a motor and work out what the firmware would run; ``volts`` [V] and ``natural`` [rad/s] are proposed if None, the back-EMF takes over from ``fades`` to ``gone`` [rad/s, electrical].

    Raises Refusal for more voltage than may be injected, or a loop too quick for the sampling.
    """
    ratio = (plant.lq - plant.ld) / (plant.lq + plant.ld)
    if volts is None:
        volts = min(USUAL_SHARE * c.limit, USUAL_RIPPLE * c.rated * plant.ld / c.ts)
        volts = max(volts, min(1.1 * past_dead_time(plant, c.dead), MOST_SHARE * c.limit))
    elif volts > MOST_SHARE * c.limit:
        raise Refusal(
            f"{volts:.3g} V is more than half of the {c.limit:.3g} V there are",
            f"inject at most {MOST_SHARE * c.limit:.3g} V",
            field="start_up.inject_volts",
        )
    acts = volts * c.alike
    per_root = angle_noise(plant, acts, c.ts, c.noise, natural=1.0)
    quickest = 1 / (16 * c.ts)
    if natural is None:
        natural = min(ABOVE_SPEED_LOOP * c.speed_loop, quickest)
        if per_root > 0:
            natural = min(natural, max((PROPOSED_NOISE / per_root) ** 2, 1e-3))
            if c.gain > 0:
                natural = min(
                    natural, max((CALM_CURRENT * c.rated / (c.gain * SPEED_NOISE * per_root)) ** (2 / 3), 1e-3)
                )
    elif natural < SLOWEST:
        raise Refusal(
            f"a loop of {natural / (2 * math.pi):.3g} Hz follows no rotor",
            f"at least {SLOWEST / (2 * math.pi):.3g} Hz are needed",
            field="start_up.track_hz",
        )
    elif natural > quickest:
        raise Refusal(
            f"a loop of {natural / (2 * math.pi):.4g} Hz is too quick for {1 / c.ts:.4g} samples a second",
            f"at most {quickest / (2 * math.pi):.4g} Hz can be followed",
            field="start_up.track_hz",
        )
    angle = min(per_root * math.sqrt(natural), math.pi)
    time = pole_time(plant, c, iron, acts, current=pole_current)
    most = saliency_current(plant, iron)
    firmware = Injected(
        volts, (1 / plant.ld + 1 / plant.lq) / 2, (1 / plant.ld - 1 / plant.lq) / 2, max(natural, SLOWEST), fades=fades, gone=gone,
        settle=settle_time(max(natural, SLOWEST)), pole_current=pole_current, pole_time=min(time, _LONGEST_POLE),
    )  # fmt: skip
    works, reason = _verdict(plant, c, ratio, acts, volts=volts, angle=angle, natural=natural, time=time, pole_current=pole_current, most=most)
    found = _findings(plant, c, natural, acts, volts=volts, most=most, works=works)
    return Injection(ratio, acts * c.ts / plant.ld, angle, most, works=works, reason=reason, firmware=firmware, findings=found)


def _that_would_do(needed: float, c: Conditions) -> str:
    """Say what voltage would do, and where there is not as much."""
    if needed > MOST_SHARE * c.limit:
        return f"{needed:.3g} V would do, but half of the {c.limit:.3g} V there are is the most"
    return f"{needed:.3g} V would do"


def settle_time(natural: float) -> float:
    """Return how long [s] the axis must stand still to count as found by a loop of ω_n [rad/s]: no loop rests that long on the wrong side."""
    return 20 / natural


def _verdict(
    plant: Plant, c: Conditions, ratio: float, acts: float, volts: float, angle: float, natural: float, time: float, pole_current: float, most: float | None
) -> tuple[bool, str]:  # fmt: skip
    if abs(ratio) < LEAST_SALIENCY or most == 0.0:
        return (
            False,
            f"not with this motor: Ld and Lq differ by a saliency of {abs(ratio) * 100:.1f} %, at least {LEAST_SALIENCY * 100:.0f} % is needed",
        )
    if c.alike < 0.3:
        return (
            False,
            f"not with this delay: each injected period is cancelled by its neighbour to {(1 - c.alike) * 100:.0f} %; a whole number of periods and a half is needed",
        )
    least = past_dead_time(plant, c.dead)
    if acts < least:
        return (
            False,
            f"the dead time takes {c.dead:.3g} V of each leg where the current crosses zero, too much of {volts:.3g} V; {_that_would_do(least / c.alike, c)}",
        )
    if angle > MOST_NOISE or natural < SLOWEST:
        slow = max(natural, SLOWEST)
        needed = (
            volts
            * angle_noise(plant, acts, c.ts, c.noise, natural=slow)
            / (MOST_NOISE if angle > MOST_NOISE else PROPOSED_NOISE)
        )
        return (
            False,
            f"the current's noise is too much for {volts:.3g} V; {_that_would_do(needed, c)} at {slow / (2 * math.pi):.3g} Hz",
        )
    if time > _LONGEST_POLE:
        if math.isinf(time):
            return (
                False,
                "the pole cannot be told: the iron is entered as if the magnet did not saturate it",
            )
        needed = pole_current * math.sqrt(time / _LONGEST_POLE)
        return (
            False,
            f"the pole cannot be told from the noise with {pole_current:.3g} A along it; {needed:.3g} A would do",
        )
    return (
        True,
        f"a saliency of {abs(ratio) * 100:.1f} % is enough; a current along the axis tells the pole in {2e3 * time:.3g} ms",
    )


def _findings(
    plant: Plant, c: Conditions, natural: float, acts: float, volts: float, most: float | None, works: bool
) -> tuple[Finding, ...]:
    """Return what is to be said where it works."""
    if not works:
        return ()
    found = []
    if natural < CALM * c.speed_loop:
        needed = volts * angle_noise(plant, acts, c.ts, c.noise, natural=CALM * c.speed_loop) / PROPOSED_NOISE
        text = (
            f"The injection follows with {natural / (2 * math.pi):.3g} Hz, the speed loop crosses at {c.speed_loop / (2 * math.pi):.3g} Hz: it will swing near standstill. "
            f"{needed:.3g} V instead of {volts:.3g} V would do, or a speed loop of {natural / (CALM * 2 * math.pi):.3g} Hz."
        )
        found.append(Finding("caution", "injection-follows-slowly", text))
    lag = c.ramp / natural**2
    if lag > MOST_LAG:
        text = f"In the ramp of the speed loop the injection lags {math.degrees(lag):.0f}°; a ramp of {MOST_LAG / lag * 100:.0f} % of it leaves {math.degrees(MOST_LAG):.0f}°, or it follows with {math.sqrt(c.ramp / MOST_LAG) / (2 * math.pi):.3g} Hz."
        found.append(Finding("caution", "injection-lags", text))
    if most is not None and most < c.rated:
        text = f"Above {most:.3g} A the iron leaves too little saliency: the angle may be lost under load near standstill; rated are {c.rated:.3g} A."
        found.append(Finding("caution", "saliency-saturates", text))
    return tuple(found)
