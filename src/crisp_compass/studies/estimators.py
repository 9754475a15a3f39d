"""Both estimators on this bench's motor: how good is the angle over speed, from where is it valid, and which one is proposed."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.sensorless import by_injection, plant_of, shaft_of
from crisp_compass.course.waypoints.start_up import StartDesign, design_start, ramp_current
from crisp_compass.errors import Refusal
from crisp_compass.estimates import ComplexArray, FloatArray
from crisp_compass.sensorless.design import KINDS, Accuracy, accuracy, flux_phase

#: Speeds of the curves while the rotor is dragged and once the loop is closed, and from which part of top speed.
_DRAGGED, _CLOSED, _FROM = 9, 9, 0.02
#: An angle better than this is good enough to close the loop on [rad rms].
GOOD = math.radians(20.0)


@dataclass(frozen=True)
class EstimatorOutlook:
    """``found`` by method over mechanical ``speed`` (n,) [rad/s], the first ``dragged`` of them before the hand-over and the rest after it, with the ``currents`` (n,) [A, i_d + j·i_q] that
    flow there; from which speed each is ``good`` (NaN: nowhere), the ``proposed`` one with its ``reason``, what an error of ψ does to the flux observer at hand-over [rad]."""

    design: StartDesign
    speed: FloatArray
    currents: ComplexArray
    dragged: int
    found: dict[str, Accuracy]
    good: dict[str, float]
    proposed: str
    reason: str
    flux_error: float


def estimator_outlook(bench: Bench) -> EstimatorOutlook:
    """Run both estimators over speeds up to top speed with what is not known and the current that flows there: up to the hand-over that of the ramp, which drags the rotor behind it, from
    there on the torque current of load and speed ramp. Raises Refusal as the design does, or where neither is good anywhere."""
    design, motor = design_start(bench), plant_of(bench)
    p, top = motor.pole_pairs, bench.settings.plate.top_speed
    low = min(_FROM * top, 0.5 * design.hand_over)
    before, after = (
        np.geomspace(low, design.hand_over, _DRAGGED),
        np.geomspace(design.hand_over, max(top, 1.01 * design.hand_over), _CLOSED),
    )
    speed = np.concatenate([before, after])
    # an injected start drags nothing: its loop is closed from rest on
    below = closed_current(bench, before) if by_injection(bench) else dragged_current(bench, design, before)
    currents = np.concatenate([below, closed_current(bench, after)])
    found = {
        name: accuracy(motor, design.estimator._replace(kind=float(kind)), design.doubts, p * speed, currents=currents)
        for name, kind in KINDS.items()
    }
    good = {name: _good_from(speed, a) for name, a in found.items()}
    if all(math.isnan(g) for g in good.values()):
        needed = 2 * math.pi / (8 * p * top)
        raise Refusal(
            "neither estimator is good at any speed of this motor",
            f"reduce the doubts of R, dead time and delay, or sample faster than every {needed * 1e6:.3g} µs",
        )
    at = _DRAGGED - 1  # the estimate that is taken over is that of the dragged rotor
    errors = {name: float(a.together[at]) for name, a in found.items()}
    proposed = min(good, key=lambda n: (math.isnan(good[n]), round(good[n] / top, 3), errors[n]))
    other = next(n for n in found if n != proposed)
    reason = f"at hand-over it is off by {math.degrees(errors[proposed]):.1f}° rms with everything unknown at once, the {NAMES[other]} by {math.degrees(errors[other]):.1f}°"
    flux_error = flux_phase(design.estimator.correction, p * design.hand_over, bench.settings.start_up.psi_doubt)
    return EstimatorOutlook(design, speed, currents, _DRAGGED, found=found, good=good, proposed=proposed, reason=reason, flux_error=flux_error)


def dragged_current(bench: Bench, design: StartDesign, speed: FloatArray) -> ComplexArray:
    """Return i_d + j·i_q [A] of the forced current at mechanical speeds (n,) [rad/s]: as much of it is torque current as load and ramp take, the rest lies along the rotor's flux."""
    shaft, length = shaft_of(bench), ramp_current(bench)
    torque = np.array([shaft.load(float(w)) for w in speed]) + shaft.inertia * design.plan.acceleration
    i_q = np.clip(torque / shaft.kt, -length, length)
    found: ComplexArray = np.sqrt(length**2 - i_q**2) + 1j * i_q
    return found


def closed_current(bench: Bench, speed: FloatArray) -> ComplexArray:
    """Return j·i_q [A] of the closed loop at mechanical speeds (n,) [rad/s] along the speed loop's ramp, within the run's current limit."""
    shaft, run = shaft_of(bench), bench.settings.run
    torque = np.array([shaft.load(float(w)) for w in speed]) + shaft.inertia * bench.settings.speed_loop.ramp
    found: ComplexArray = np.asarray(1j * np.clip(torque / shaft.kt, -run.i_limit, run.i_limit), dtype=np.complex128)
    return found


NAMES = {"back-emf": "back-EMF observer", "flux": "flux observer"}


def _good_from(speed: FloatArray, found: Accuracy) -> float:
    """Return the speed from which on the angle stays valid and good."""
    fine = found.valid & (found.together < GOOD)
    if not fine[-1]:
        return math.nan
    bad = np.flatnonzero(~fine)
    return float(speed[bad[-1] + 1]) if len(bad) else float(speed[0])
