"""Both estimators on this bench's motor: how good is the angle over speed, from where is it valid, and which one is proposed."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.sensorless import plant_of
from crisp_compass.course.waypoints.start_up import StartDesign, design_start, ramp_current
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.sensorless.design import KINDS, Accuracy, accuracy, flux_phase

#: Speeds of the curves, from this part of top speed.
_SPEEDS, _FROM = 16, 0.02
#: An angle better than this is good enough to close the loop on [rad rms].
GOOD = math.radians(20.0)


@dataclass(frozen=True)
class EstimatorOutlook:
    """``found`` by method over electrical speed, from which mechanical ``speed`` [rad/s] each is ``good`` (NaN: nowhere), the ``proposed`` one with its ``reason``, what an error of ψ does to
    the flux observer at hand-over [rad]."""

    design: StartDesign
    speed: FloatArray
    found: dict[str, Accuracy]
    good: dict[str, float]
    proposed: str
    reason: str
    flux_error: float


def estimator_outlook(bench: Bench) -> EstimatorOutlook:
    """Run both estimators over speeds up to top speed with what is not known; raises Refusal as the design does, or where neither is good anywhere."""
    design, motor = design_start(bench), plant_of(bench)
    p, top = motor.pole_pairs, bench.settings.plate.top_speed
    low = min(_FROM * top, 0.5 * design.hand_over)
    speed = np.geomspace(low, top, _SPEEDS)
    current = ramp_current(bench)
    found = {
        name: accuracy(motor, design.estimator._replace(kind=float(kind)), design.doubts, p * speed, current)
        for name, kind in KINDS.items()
    }
    good = {name: _good_from(speed, a) for name, a in found.items()}
    if all(math.isnan(g) for g in good.values()):
        needed = 2 * math.pi / (8 * p * top)
        raise Refusal(
            "neither estimator is good at any speed of this motor",
            f"reduce the doubts of R, dead time and delay, or sample faster than every {needed * 1e6:.3g} µs",
        )
    at = int(np.argmin(np.abs(speed - design.hand_over)))
    errors = {name: float(a.together[at]) for name, a in found.items()}
    proposed = min(good, key=lambda n: (math.isnan(good[n]), round(good[n] / top, 3), errors[n]))
    other = next(n for n in found if n != proposed)
    reason = f"at hand-over it is off by {math.degrees(errors[proposed]):.1f}° rms with everything unknown at once, the {NAMES[other]} by {math.degrees(errors[other]):.1f}°"
    flux_error = flux_phase(design.estimator.correction, p * design.hand_over, bench.settings.start_up.psi_doubt)
    return EstimatorOutlook(design, speed, found, good, proposed, reason, flux_error)


NAMES = {"back-emf": "back-EMF observer", "flux": "flux observer"}


def _good_from(speed: FloatArray, found: Accuracy) -> float:
    """Return the speed from which on the angle stays valid and good."""
    fine = found.valid & (found.together < GOOD)
    if not fine[-1]:
        return math.nan
    bad = np.flatnonzero(~fine)
    return float(speed[bad[-1] + 1]) if len(bad) else float(speed[0])
