"""What to expect of an alignment and of a pole search with this motor, before and beside the measured one."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.capture import Capture
from crisp_compass.commutation.alignment import alignment_current, propose_fields
from crisp_compass.commutation.pole_search import Larger, search_pole
from crisp_compass.course.drive import machine_of
from crisp_compass.estimates import FloatArray
from crisp_compass.motor import pole_pairs_of
from crisp_compass.plant.standstill import Pulses, pulse_currents

_SEARCHES = 60


@dataclass(frozen=True)
class AlignOutlook:
    """Current [A peak] that leaves friction the lag asked for, the most that is sensible, and the angles to hold.

    ``current`` is what is proposed; ``lag`` [rad] what friction leaves at it; ``limit`` the rated current, or half of
    ψ/(Lq − Ld), beyond which saliency pulls the rotor away from the field; ``why`` says what sets the proposal.
    """

    current: float
    lag: float
    limit: float
    fields: FloatArray
    why: str


def align_outlook(bench: Bench) -> AlignOutlook:
    """Propose the alignment current and angles; raises Refusal where the motor is not settled far enough."""
    machine, load = machine_of(bench)
    p = pole_pairs_of(bench.settings.plate)
    kt = machine.torque_factor * p * machine.psi
    rated = rated_peak(bench.settings.plate)
    swing = machine.lq - machine.ld
    pull = 0.5 * machine.psi / swing if swing > 0 else math.inf
    limit = min(rated, pull)
    wanted = alignment_current(kt, load.coulomb, bench.settings.commutation.lag)
    # half of rated current aligns a free shaft firmly, twice the friction's need a stiff one
    current = min(max(wanted, 0.5 * rated), limit)
    why = "half the rated current" if wanted <= 0.5 * rated else "friction"
    if current == limit and limit < max(wanted, 0.5 * rated):
        why = "the rated current" if limit == rated else "saliency"
    share = load.coulomb / (kt * current) if current > 0 else 1.0
    lag = math.asin(min(share, 1.0))
    return AlignOutlook(current, lag, limit, propose_fields(p), why=why)


@dataclass(frozen=True)
class SearchOutlook:
    """Pole searches of the simulated motor at random angles.

    ``axis_error`` holds 95 of 100 axis errors [rad]; ``right`` and ``refused`` are shares of polarities; ``moved`` how far
    one search turned the shaft at most [rad mechanical]; ``saliency`` (Lq − Ld)/mean as settled. ``angle`` and
    ``example`` (n,) are the fit of one search with the rotor at 90°.
    """

    axis_error: float
    right: float
    refused: float
    moved: float
    saliency: float
    angle: FloatArray
    example: FloatArray


def search_outlook(bench: Bench, searches: int = _SEARCHES) -> SearchOutlook:
    """Simulate searches with the page's pulse; raises Refusal where the motor is not settled far enough."""
    machine, load = machine_of(bench)
    settings = bench.settings.commutation
    current = settings.pulse_current or rated_peak(bench.settings.plate)
    pulses = replace(Pulses(), current=current, noise=settings.pulse_noise, magnet=settings.magnet)
    larger: Larger = "ld" if machine.ld > machine.lq else "lq"
    rng = np.random.default_rng(5)
    errors, right, refused, moved = [], 0, 0, 0.0
    for k in range(searches):
        theta = float(rng.uniform(0, 2 * math.pi))
        angles, currents, travel = pulse_currents(machine, load, theta, pulses, seed=k)
        moved = max(moved, abs(travel) / machine.pole_pairs)
        if np.min(currents) <= 0:
            errors.append(math.pi / 2)
            refused += 1
            continue
        # the channels are read before each pulse, with the same noise
        rest = pulses.noise * current * rng.standard_normal(len(angles))
        found = search_pole(
            Capture("simulated", np.empty(0), {"field_angle": angles, "i_peak": currents, "i_rest": rest}),
            larger=larger,
        )
        if found.axis is None:
            errors.append(math.pi / 2)
        else:
            errors.append(abs((found.axis - theta + math.pi / 2) % math.pi - math.pi / 2))
        if found.theta is None:
            refused += 1
        else:
            right += abs((found.theta - theta + math.pi) % (2 * math.pi) - math.pi) < math.pi / 2
    angles, currents, _ = pulse_currents(machine, load, math.pi / 2, replace(pulses, noise=0.0, repeats=1))
    order = np.argsort(angles)
    mean = 0.5 * (machine.lq + machine.ld)
    return SearchOutlook(
        float(np.quantile(errors, 0.95)), right / searches, refused / searches, moved, saliency=(machine.lq - machine.ld) / mean,
        angle=np.append(angles[order], 2 * math.pi), example=np.append(currents[order], currents[order][0]),
    )  # fmt: skip


def align_table(outlook: AlignOutlook, pole_pairs: int) -> str:
    """Return the CSV table to fill in: the angles to hold in their order, the encoder's angle left empty."""
    rows = "".join(f"{math.degrees(a):.3f},\n" for a in outlook.fields)
    notes = (
        f"# pole_pairs: {pole_pairs}\n# current_a: {outlook.current:.4g}\n"
        "# how: turn the field slowly from angle to angle in this order, let the shaft rest, write the encoder's mechanical angle\n"
    )
    return f"{notes}field_angle [deg],angle [deg]\n{rows}"
