"""Three phases from three meter pairs, with the probes' own resistance."""

from __future__ import annotations

import cmath
import math
from dataclasses import dataclass

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding
from crisp_compass.quantities import show


@dataclass(frozen=True)
class MeterPhases:
    """Phase resistances of the star by name (``U``, ``V``, ``W``; empty with fewer than three pairs), their mean, and the imbalance.

    ``imbalance`` is the largest deviation from the mean over the mean, as a ratio.
    """

    phases: dict[str, Estimate]
    mean: Estimate
    imbalance: Estimate | None
    findings: tuple[Finding, ...]


def solve_pairs(
    pairs: dict[str, float],
    *,
    lead: float = 0.0,
    resolution: float | None = None,
    cable: float = 0.0,
    gain: float = 0.0,
    contact: float = 0.0,
) -> MeterPhases:
    """Solve the phases of a star from pair readings.

    Parameters
    ----------
    pairs
        ``uv``, ``vw``, ``wu`` → Ω as read, one to three of them.
    lead
        What the meter shows with its probes together, Ω; subtracted from each pair.
    resolution
        Last digit of the meter, Ω; None takes each reading's own. A reading is uncertain by resolution/√12
        (JCGM 100:2008, 4.3.7).
    gain, contact
        Standard uncertainties: of the meter's scale over the reading, common to all of them, and of the contacts of one
        reading, Ω.
    cable
        One lead of a cable between meter and motor, Ω; subtracted from each phase.

    Raises
    ------
    Refusal
        No pair, or pairs that are not larger than the probes.
    """
    known = {k: pairs[k] for k in ("uv", "vw", "wu") if k in pairs}
    if not known:
        raise Refusal("no pair is read yet", "type ruv, rvw and rwu into the ledger")
    if resolution is not None and resolution <= 0:
        raise Refusal("the meter's resolution must be above zero")
    net = {k: v - lead - 2 * cable for k, v in known.items()}
    for name, value in net.items():
        if value <= 0:
            raise Refusal(
                f"r{name} {show(known[name], 'Ω')} is not larger than the probes and the cable",
                "zero the probes again, or use a four-wire meter",
            )
    steps = {k: resolution or last_digit(v) for k, v in known.items()}
    squares = {k: step**2 / 12 + contact**2 for k, step in steps.items()}
    # without the probes' own reading nothing is known of them but that contacts are there
    u_lead = math.hypot((resolution or last_digit(lead)) / math.sqrt(12), contact) if lead > 0 else contact
    count = len(net)
    average = sum(net.values()) / count / 2
    common = math.hypot(0.5 * u_lead, gain * average)
    u_average = math.hypot(0.5 * math.sqrt(sum(squares.values())) / count, common)
    mean = Estimate.from_u(average, "Ω", u_average)
    findings = []
    coarsest = max(steps.values())
    if coarsest > 0.02 * 2 * average:
        text = f"The meter's step of {show(coarsest, 'Ω')} is {100 * coarsest / (2 * average):.0f} % of a pair: take a DC staircase for this winding."
        findings.append(Finding("caution", "meter-coarse", text))
    if count < 3:
        text = f"Only {count} of 3 pairs read: nothing is known about the balance."
        findings.append(Finding("caution", "pairs-missing", text))
        return MeterPhases({}, mean, None, tuple(findings))
    uv, vw, wu = net["uv"], net["vw"], net["wu"]
    u_random = 0.5 * math.sqrt(sum(squares.values()))
    u_phase = math.hypot(u_random, common)
    values = {"U": (uv + wu - vw) / 2, "V": (uv + vw - wu) / 2, "W": (vw + wu - uv) / 2}
    phases = {k: Estimate.from_u(v, "Ω", u_phase) for k, v in values.items()}
    worst = max(values, key=lambda k: abs(values[k] - average))
    off = abs(values[worst] - average) / average
    # one phase against the mean of three: gain and probes are common to both; the rest is a safe upper bound
    imbalance = Estimate.from_u(off, "", u_random / average)
    findings += _balance(values, worst, off, u_random / average, mean=average, resolution=coarsest)
    return MeterPhases(phases, mean, imbalance, tuple(findings))


def last_digit(value: float) -> float:
    """Return the step of the last digit that a reading was typed with (0.84 → 0.01), at most five digits below it."""
    for places in range(-6, 7):
        step = 10.0**-places
        if step <= abs(value) and abs(value / step - round(value / step)) < 1e-6:
            return step
    return max(abs(value), 1e-6) * 1e-5


def _balance(
    values: dict[str, float], worst: str, off: float, doubt: float, mean: float, resolution: float
) -> list[Finding]:
    spread = 100 * off
    # pairs that differ by no more than one step of the meter say nothing against the winding
    if off < max(2 * doubt, 1.01 * resolution / mean):
        text = f"The phases agree within what the meter shows ({spread:.2g} % apart, ±{200 * doubt:.2g} %)."
        return [Finding("info", "balanced", text)]
    if off < 0.03:
        return [Finding("info", "balanced", f"The phases agree within {spread:.2g} % (3 % is the usual limit).")]
    others = [v for k, v in values.items() if k != worst]
    rest = sum(others) / 2
    high = values[worst] > rest
    cause = "a joint, terminal or strand of that phase is bad" if high else "turns of that phase may be shorted"
    level = "stop" if off > 0.2 else "caution"
    text = f"Phase {worst} has {show(values[worst], 'Ω')}, the others {show(rest, 'Ω')}: {cause}. Check the terminals, then measure insulation and inductance of each phase."
    return [Finding("stop" if level == "stop" else "caution", "phase-differs", text)]


def of_three_pairs(uv: float, vw: float, wu: float) -> tuple[float, float]:
    """Return Ld and Lq [H] from three line-to-line inductances [H] at one place of the rotor.

    L_line/2 = (Ld + Lq)/2 − (Lq − Ld)/2·cos 2(θ − δ) with δ 120° apart (two-axis theory): three readings are mean and amplitude.
    """
    mean = (uv + vw + wu) / 6
    turns = (cmath.exp(1j * math.radians(a)) for a in (0.0, 240.0, 120.0))
    half = abs(sum(x / 2 * t for x, t in zip((uv, vw, wu), turns, strict=True))) * 2 / 3
    return mean - half, mean + half
