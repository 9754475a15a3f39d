"""Incremental encoder from a capture: resolution, direction, index, missing counts, channel phase, electrical zero.

A leading B counts up: (A, B) runs 00 → 10 → 11 → 01. Every edge is one count (×4); a change of both channels in one
sample is a missed count. The resolution is counts over shaft turns: between index pulses where there are two, else from
the angle channel, from turns counted by hand, or from the back-EMF with known pole pairs. The electrical angle at the
index is that of the back-EMF (:mod:`crisp_compass.identify.emf`), taken between the pulse's two edges.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.commutation.counted_zero import counted_zero
from crisp_compass.commutation.motion import direction_of, motion_of, turns_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray, IntArray
from crisp_compass.identify.emf import EmfFit

#: How much more a common number of lines weighs where the turns were not whole.
_USUAL = 50.0
#: Counts over all turns by which whole lines may be missed and still count as counted.
_COUNTED_WELL = 0.6
#: Uncertainty [°] from which on the counts tell the zero, whatever the voltages alone would say.
_COUNTS_DO = 2.0
#: Lines a turn that are made (common practice).
COMMON_LINES = (
    50, 64, 96, 100, 120, 125, 128, 144, 150, 180, 192, 200, 240, 250, 256, 300, 360, 384, 400, 500, 512, 600, 720, 768, 800, 900,
    1000, 1024, 1200, 1250, 1270, 1500, 1800, 2000, 2048, 2400, 2500, 3000, 3600, 4000, 4096, 5000, 6000, 8192, 10000, 16384,
)  # fmt: skip


@dataclass(frozen=True)
class EncoderResult:
    """What the capture tells; None where it does not.

    ``counts_per_rev`` is ×4; ``candidates`` (lines, weight) ranked; ``direction`` +1 where counts rise when the motor turns
    A → B → C; ``zero_offset_deg`` θe in the middle of the index pulse with ``zero_u_deg``; ``phase_deg`` from A's rise to
    B's rise while counting up (90 is ideal); ``missed`` changes of both channels at once.
    """

    counts_per_rev: int | None
    candidates: tuple[tuple[int, float], ...]
    direction: int | None
    zero_offset_deg: float | None
    zero_u_deg: float | None
    index_pulses: int
    pole_pairs: int | None
    phase_deg: float | None
    missed: int
    net_counts: int
    method: str
    findings: tuple[Finding, ...]
    time: FloatArray
    counts: IntArray

    @property
    def lines_per_rev(self) -> int | None:
        """Lines a turn: a quarter of the counts."""
        return None if self.counts_per_rev is None else self.counts_per_rev // 4


@without_gaps
def read_encoder(
    capture: Capture, *, revolutions: float | None = None, pole_pairs: int | None = None
) -> EncoderResult:
    """Evaluate ``enc_a enc_b``, perhaps ``enc_z``, ``angle`` and line voltages.

    Parameters
    ----------
    revolutions
        Turns of the shaft over the capture, counted by hand.
    pole_pairs
        For the resolution from back-EMF where nothing else tells it; the note ``pole_pairs`` is used otherwise.

    Raises
    ------
    Refusal
        A missing or still channel (named), too few counts, sampling too slow to follow the channels.
    """
    a, b = (capture[n].astype(int) for n in ("enc_a", "enc_b"))
    for name, values in (("enc_a", a), ("enc_b", b)):
        if np.ptp(values) == 0:
            raise Refusal(
                f"{name} stays at {values[0]} throughout",
                "check its wire, supply and pull-up, and turn the shaft",
                where=capture.source,
            )
    if revolutions is not None and not (revolutions > 0 and math.isfinite(revolutions)):
        raise Refusal(
            f"{revolutions:g} revolutions cannot be meant", "count the turns of the shaft", where="--revolutions"
        )
    findings = list(capture.findings)
    counts, missed = _decode(a, b)
    edges = int(np.sum(np.abs(np.diff(counts)))) + missed
    if edges < 8:
        raise Refusal(f"{edges} counts are too few", "turn the shaft further", where=capture.source)
    if missed > 0.02 * edges:
        raise Refusal(
            f"both channels change at once in {missed} of {edges} counts: the sampling does not follow them",
            "sample faster or turn slower",
            where=capture.source,
        )
    if missed:
        text = f"{missed} of {edges} counts were missed (both channels changed in one sample): turn slower, or look for a bad contact."
        findings.append(Finding("caution", "counts-missed", text))
    pulses = _pulses(capture)
    fit = motion_of(capture, findings)
    p = pole_pairs if pole_pairs is not None else capture.note_number("pole_pairs")
    if p is not None and (p < 1 or p != int(p)):
        raise Refusal(
            f"{p:g} pole pairs are not possible", "pole pairs are a whole number from 1 up", where="--pole-pairs"
        )
    resolution, candidates, how = _resolution(capture, counts, pulses, fit, revolutions=revolutions, p=p, findings=findings)
    direction = direction_of(capture, counts, fit, findings)
    pairs = int(p) if p is not None else _pole_pairs(counts, fit, resolution, p, findings=[])
    zero, zero_u = _zero(capture, counts, pulses, fit, resolution=resolution, pairs=pairs, findings=findings)
    phase = _phase(capture.time, a, b, counts, findings=findings)
    seen = _pole_pairs(counts, fit, resolution, p, findings=findings)
    net = f"{int(counts[-1] - counts[0])}".replace("-", "−")
    method = f"{edges} counts, {net} net" + (f"; {how}" if how else "")
    return EncoderResult(
        resolution, candidates, direction, zero, zero_u_deg=zero_u, index_pulses=len(pulses), pole_pairs=seen, phase_deg=phase, missed=missed, net_counts=int(counts[-1] - counts[0]), method=method,
        findings=tuple(findings), time=capture.time, counts=counts,
    )  # fmt: skip


def _decode(a: IntArray, b: IntArray) -> tuple[IntArray, int]:
    """Return the running count (n,) and how often both channels changed at once."""
    place = np.where(a == 0, np.where(b == 0, 0, 3), np.where(b == 0, 1, 2))
    step = (np.diff(place) + 2) % 4 - 2
    missed = int(np.sum(step == -2))
    # two counts are missed together; their sign is that of the motion before
    moving = np.where(np.abs(step) == 1, step, 0)
    last = np.maximum.accumulate(np.where(moving != 0, np.arange(len(moving)), 0))
    step = np.where(step == -2, 2 * np.where(moving[last] == 0, 1, moving[last]), step)
    return np.concatenate([[0], np.cumsum(step)]), missed


def _pulses(capture: Capture) -> list[tuple[int, int]]:
    """Return first and last sample of every index pulse that lies whole in the capture."""
    if "enc_z" not in capture:
        return []
    z = capture["enc_z"].astype(int)
    edges = np.flatnonzero(np.diff(z))
    rises, falls = edges[z[edges + 1] == 1] + 1, edges[z[edges + 1] == 0]
    falls = falls[falls >= rises[0]] if len(rises) else falls[:0]
    return [(int(r), int(f)) for r, f in zip(rises, falls, strict=False)]


def _resolution(
    capture: Capture, counts: IntArray, pulses: list[tuple[int, int]], fit: EmfFit | None, revolutions: float | None, p: float | None,
    findings: list[Finding],
) -> tuple[int | None, tuple[tuple[int, float], ...], str]:  # fmt: skip
    """Return counts a turn, ranked candidates in lines, and how they were found."""
    ratio, doubt, how = turns_of(capture, counts, fit, revolutions, p=p)
    spacing = _between_pulses(counts, pulses, ratio, findings)
    if spacing is not None:
        return spacing, ((spacing // 4, 1.0),), "counts between index pulses"
    if ratio is None:
        text = "Nothing tells how far the shaft turned: give --revolutions, an angle channel, two index pulses, or voltages with pole pairs."
        findings.append(Finding("caution", "resolution-unknown", text))
        return None, (), ""
    candidates = _candidates(ratio / 4, max(doubt / 4, 0.26 / 4))
    whole = round(ratio / 4)
    if revolutions is not None and whole >= 1 and abs(ratio - 4 * whole) <= _COUNTED_WELL / revolutions:
        # whole lines to a count: the shaft was turned as far as was said
        usual = [str(lines) for lines, _ in candidates if lines in COMMON_LINES and lines != whole]
        if whole not in COMMON_LINES:
            other = f"; {usual[0]} would be a usual number, if the turns were not quite whole" if usual else ", which is not a common number: check the turns counted"
            text = f"{whole} lines a turn were counted{other}."
            findings.append(Finding("info", "resolution-uncommon", text))
        return 4 * whole, ((whole, 1.0), *(c for c in candidates if c[0] != whole)), how
    best = candidates[0][0]
    if len(candidates) > 1 and candidates[1][1] > 0.2 * candidates[0][1]:
        others = ", ".join(str(lines) for lines, _ in candidates[1:4])
        text = f"{best} lines fit best, but {others} fit too: turn the shaft more often, or capture two index pulses."
        findings.append(Finding("caution", "resolution-unsure", text))
    if best not in COMMON_LINES:
        findings.append(
            Finding("caution", "resolution-uncommon", f"{best} lines a turn are not common: check the turns counted.")
        )
    return 4 * best, candidates, how


def _candidates(lines: float, u: float) -> tuple[tuple[int, float], ...]:
    """Rank whole numbers of lines near ``lines``; what was counted counts, and common ones weigh a little more than others."""
    reach = max(4 * u, 1.0)
    near = {round(lines), *(c for c in COMMON_LINES if abs(c - lines) < reach)}
    weights = {}
    for n in near:
        if n >= 1:
            fit = math.exp(-0.5 * ((n - lines) / max(u, 0.05)) ** 2)
            weights[n] = fit * (_USUAL if n in COMMON_LINES else 1.0)
    total = sum(weights.values()) or 1.0
    ranked = sorted(((n, w / total) for n, w in weights.items()), key=lambda x: -x[1])
    return tuple(ranked) if total > 1e-9 else ((round(lines), 1.0),)


def _between_pulses(
    counts: IntArray, pulses: list[tuple[int, int]], ratio: float | None, findings: list[Finding]
) -> int | None:
    """Return counts a turn from index to index; None with fewer than two different pulses."""
    if len(pulses) < 2:
        return None
    middles = np.array([0.5 * (counts[f] + counts[r]) for r, f in pulses])
    steps = np.abs(np.diff(middles))
    steps = steps[steps > 6]  # turning back over the same pulse is no turn
    if not len(steps):
        return None
    one = float(np.min(steps)) if ratio is None else ratio
    turns = np.maximum(np.round(steps / one), 1)
    whole = float(np.median(steps / turns))
    value = 4 * round(whole / 4)
    off = int(np.sum(np.abs(steps - turns * value) > 2.5))
    if off:
        text = f"{off} of {len(steps)} turns between index pulses do not hold {value} counts: counts are lost or added; check screen, supply and pull-ups."
        findings.append(Finding("caution", "counts-between-index", text))
    if ratio is not None and abs(value / ratio - 1) > 0.15:
        text = f"Between index pulses there are {value} counts, by the turns {ratio:.0f}: the index comes more than once a turn, or the turns are miscounted."
        findings.append(Finding("caution", "index-disagrees", text))
    return value


def _zero(
    capture: Capture, counts: IntArray, pulses: list[tuple[int, int]], fit: EmfFit | None, resolution: int | None, pairs: int | None,
    findings: list[Finding],
) -> tuple[float | None, float | None]:  # fmt: skip
    """Return θe [°] in the middle of the index pulse and its standard uncertainty."""
    counted = counted_zero(capture, counts, resolution, pairs) if resolution and pairs else None
    if fit is None and counted is None:
        return None, None
    t = capture.time
    found, whole = [], []
    for rise, fall in pulses:
        if rise < 1 or fall + 1 >= len(t):
            continue
        if counted is not None:
            whole.append(counted.angle_at(0.25 * float(counts[rise] + counts[rise - 1] + counts[fall] + counts[fall + 1])))
        if fit is None or t[rise] < fit.time[0] or t[fall] > fit.time[-1]:
            continue
        at_edges = np.interp([0.5 * (t[rise] + t[rise - 1]), 0.5 * (t[fall] + t[fall + 1])], fit.time, fit.theta)
        found.append(float(np.mean(at_edges)))
    if counted is not None and whole:
        by_counts = _mean_zero(np.array(whole), math.hypot(counted.u, counted.turn / math.sqrt(12)), findings)
        if by_counts[1] < _COUNTS_DO or fit is None or not found:
            return by_counts
    if not found:
        if "enc_z" in capture:
            text = "No whole index pulse lies where the back-EMF is known: turn at least one turn of the shaft."
            findings.append(Finding("caution", "no-index", text))
        return None, None
    assert fit is not None
    step = float(np.median(np.abs(np.diff(np.interp(t, fit.time, fit.theta)))))
    # how well the fit holds the angle shows in its flux (same covariance, in rad) and in the channels' own phases
    doubt = 2 * float(np.max(fit.psi_u / fit.psi)) + float(np.max(np.abs(fit.phase_error)))
    return _mean_zero(np.array(found), math.hypot(step / math.sqrt(12 * len(found)), doubt), findings)


def _mean_zero(found: FloatArray, u: float, findings: list[Finding]) -> tuple[float, float]:
    """Return the mean of θe (k,) [rad] at the index pulses, in °, with ``u`` [rad] of each and their scatter in its uncertainty."""
    unit = np.exp(1j * found)
    mean = complex(np.mean(unit))
    spread = np.degrees(np.abs(np.angle(unit / (mean / abs(mean))))) if abs(mean) > 0.1 else np.array([180.0])
    if float(np.max(spread)) > 15:
        text = f"The index lies at different electrical angles (up to {float(np.max(spread)):.0f}° apart): it slips, or the voltages are from another motor."
        findings.append(Finding("stop", "index-scatters", text))
    u_deg = math.hypot(max(math.degrees(u), 0.02), float(np.std(spread)) / math.sqrt(len(found)))
    if u_deg > 0.5:
        text = f"The zero is known to ±{2 * u_deg:.1f}° only: turn more electrical turns, more evenly, or sample the voltages better."
        findings.append(Finding("caution", "zero-unsure", text))
    return math.degrees(float(np.angle(mean))) % 360, u_deg


def _phase(time: FloatArray, a: IntArray, b: IntArray, counts: IntArray, findings: list[Finding]) -> float | None:
    """Return the angle from A's rise to B's rise while counting up [°], the mean over whole cycles."""
    rises_a = np.flatnonzero((np.diff(a) == 1) & (np.diff(counts) > 0)) + 1
    rises_b = np.flatnonzero((np.diff(b) == 1) & (np.diff(counts) > 0)) + 1
    if len(rises_a) < 6 or len(rises_b) < 4:
        rises_a = np.flatnonzero((np.diff(a) == 1) & (np.diff(counts) < 0)) + 1
        rises_b = np.flatnonzero((np.diff(b) == 1) & (np.diff(counts) < 0)) + 1
    if len(rises_a) < 6 or len(rises_b) < 4:
        return None
    found = []
    for first, second in itertools.pairwise(rises_a):
        inside = rises_b[(rises_b > first) & (rises_b < second)]
        if len(inside) == 1 and abs(int(counts[second]) - int(counts[first])) == 4:
            found.append(float((time[inside[0]] - time[first]) / (time[second] - time[first])))
    if len(found) < 4:
        return None
    share = 360 * float(np.mean(found))  # single cycles are as coarse as the sampling
    phase = share if share < 180 else 360 - share  # counting down B rises first
    if abs(phase - 90) > 35:
        text = f"B follows A by {phase:.0f}° instead of 90°: the scanning head is out of place or a channel's level is wrong; counts will be lost at speed."
        findings.append(Finding("caution", "channel-phase", text))
    return phase


def _pole_pairs(
    counts: IntArray, fit: EmfFit | None, resolution: int | None, known: float | None, findings: list[Finding]
) -> int | None:
    if fit is None or resolution is None:
        return None
    inside = np.interp(fit.index, np.arange(len(counts)), counts)
    turns = float(np.ptp(inside)) / resolution
    if turns < 0.3:
        return None
    ratio = float(np.ptp(fit.theta)) / (2 * math.pi) / turns
    whole = round(ratio)
    if whole < 1 or abs(ratio - whole) > 0.2:
        return None
    if known is not None and int(known) != whole:
        text = f"Counts and back-EMF show {whole} pole pairs, not the given {known:.0f}: resolution, turns or pole pairs are wrong."
        findings.append(Finding("caution", "pole-pairs-disagree", text))
    return whole
