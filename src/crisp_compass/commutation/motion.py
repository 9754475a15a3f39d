"""How far and which way the shaft turned while an encoder was read: from back-EMF, an angle channel, or turns by hand."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray, IntArray
from crisp_compass.identify.emf import GEOMETRY, EmfFit, fit_emf
from crisp_compass.identify.flux import HAND_STOP, voltages_of
from crisp_compass.quantities import counted

Counts = IntArray | FloatArray


def motion_of(capture: Capture, findings: list[Finding]) -> EmfFit | None:
    """Fit the back-EMF where two voltages are there; a fit that fails is said, not raised."""
    if sum(name in capture for name in GEOMETRY) < 2:
        return None
    try:
        fit = fit_emf(capture.time, voltages_of(capture), capture.source)
    except Refusal as refusal:
        findings.append(
            Finding("caution", "voltages-not-used", f"The voltages could not be used: {refusal.problem}.")
        )
        return None
    if not fit.vectorial or float(np.max(np.abs(fit.phase_error))) > math.radians(12):
        text = "The voltages do not turn like a three-phase machine's: direction and zero stay undetermined. Check which lead each probe is on."
        findings.append(Finding("caution", "voltages-not-used", text))
        return None
    return fit


def turns_of(
    capture: Capture, counts: Counts, fit: EmfFit | None, revolutions: float | None, p: float | None
) -> tuple[float | None, float, str]:
    """Return counts a turn, its standard uncertainty, and the source in words."""
    net = abs(float(counts[-1] - counts[0]))
    if "angle" in capture:
        angle = np.unwrap(capture["angle"])
        span = float(np.ptp(angle))
        if span > 0.3:
            slope, base = np.polyfit(angle, counts, 1)
            rest = counts - slope * angle - base
            u = float(np.std(rest)) / max(float(np.std(angle)), 1e-9) / math.sqrt(max(len(angle) / 20, 1))
            return abs(float(slope)) * 2 * math.pi, 2 * math.pi * u, "turns by the angle channel"
    by_hand = None if revolutions is None else net / revolutions
    by_hand_u = 0.0 if revolutions is None else HAND_STOP * net / revolutions**2
    if fit is not None and p is not None:
        inside = np.interp(fit.time, capture.time, counts)
        slope, base = np.polyfit(fit.theta, inside, 1)
        rest = inside - slope * fit.theta - base
        u = float(np.std(rest)) / max(float(np.std(fit.theta)), 1e-9) / math.sqrt(max(len(fit.theta) / 20, 1))
        by_emf = abs(float(slope)) * 2 * math.pi * p
        # turns counted decide where the two differ: the pole pairs may be wrong, and are then named
        if by_hand is None or abs(by_emf - by_hand) < 4 * by_hand_u:
            return by_emf, 2 * math.pi * p * u, f"turns by back-EMF and {counted(int(p), 'pole pair')}"
    return by_hand, by_hand_u, "" if by_hand is None else f"{revolutions:g} turns counted"


def direction_of(capture: Capture, counts: Counts, fit: EmfFit | None, findings: list[Finding]) -> int | None:
    """Return +1 where the counts rise when the motor turns A → B → C, −1 where they fall; None where nothing tells."""
    for time, motion in (
        (None if fit is None else fit.time, None if fit is None else fit.theta),
        (capture.time, np.unwrap(capture["angle"]) if "angle" in capture else None),
    ):
        if time is None or motion is None:
            continue
        mine = np.interp(time, capture.time, counts)
        product = float(np.sum((mine - mine.mean()) * (motion - motion.mean())))
        if product != 0:
            return 1 if product > 0 else -1
    text = "Neither two voltages nor an angle are there, so which way the counts run stays undetermined against A → B → C."
    findings.append(Finding("caution", "direction-unknown", text))
    return None
