"""Absolute encoder from its position word: bits, single or multi turn, sense, stuck lines, electrical zero in counts.

The word counts 0 … 2ⁿ − 1 and wraps. How far it runs in one turn of the shaft comes from an angle channel, from turns
counted by hand, or from the back-EMF with known pole pairs; the nearest power of two is the single-turn resolution,
what the word holds beyond it are turns. θe = ±p·2π·word/counts + zero by the back-EMF (:mod:`..identify.emf`).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.commutation.angles import circular_mean, wrap
from crisp_compass.commutation.motion import direction_of, motion_of, turns_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray, IntArray
from crisp_compass.identify.emf import EmfFit


@dataclass(frozen=True)
class AbsoluteResult:
    """What the position word tells; None where it does not.

    ``bits`` of one turn (None where it is no power of two), ``turn_bits`` of the turn counter seen so far (0 for single
    turn), ``direction`` +1 where the word rises when the motor turns A → B → C, ``zero_offset_deg`` θe in the middle of
    word 0 with ``zero_u_deg``, ``offset_counts`` the word within the first electrical turn at which θe = 0. ``position`` (n,) is
    the unwrapped word.
    """

    counts_per_rev: int | None
    bits: int | None
    turn_bits: int
    direction: int | None
    zero_offset_deg: float | None
    zero_u_deg: float | None
    offset_counts: float | None
    pole_pairs: int | None
    jumps: int
    method: str
    findings: tuple[Finding, ...]
    time: FloatArray
    position: FloatArray


@without_gaps
def read_absolute(
    capture: Capture, *, revolutions: float | None = None, pole_pairs: int | None = None
) -> AbsoluteResult:
    """Evaluate ``position`` (the word, counts) with ``angle``, turns by hand or two line voltages.

    Raises
    ------
    Refusal
        A word that stands still, is no whole number or negative; sampling too slow to follow it.
    """
    word = _words(capture)
    findings = list(capture.findings)
    stuck = _stuck(word)
    if stuck:
        bits = ", ".join(str(b) for b in stuck)
        text = f"Bit {bits} never changes though higher ones do: check its line, or how the word is put together."
        findings.append(Finding("stop", "bit-stuck", text))
    modulus = _modulus(word)
    position, jumps, wrapped = _unwrap(word, modulus, stuck, findings, source=capture.source)
    p = pole_pairs if pole_pairs is not None else capture.note_number("pole_pairs")
    fit = motion_of(capture, findings)
    ratio, doubt, how = turns_of(capture, position, fit, revolutions, p=p)
    counts, bits_one = _resolution(ratio, doubt, modulus, wrapped, findings=findings)
    turn_bits = 0
    if counts is not None and modulus > counts:
        turn_bits = max(modulus // counts, 1).bit_length() - 1
    if counts is not None and turn_bits and not wrapped:
        text = f"The word goes past one turn: a turn counter of {turn_bits} bits or more stands above the {bits_one or counts} of one turn."
        findings.append(Finding("info", "multi-turn", text))
    direction = direction_of(capture, position, fit, findings)
    zero, u = _zero(capture.time, position, counts, direction, p=p, fit=fit, findings=findings)
    offset = None
    if zero is not None and counts is not None and p and direction:
        turn = counts / p
        offset = (-direction * zero / 360 * turn) % turn
    method = f"word of {int(np.min(word))} to {int(np.max(word))}" + (f"; {how}" if how else "")
    return AbsoluteResult(
        counts, bits_one, turn_bits, direction, zero_offset_deg=zero, zero_u_deg=u, offset_counts=offset, pole_pairs=int(p) if p else None, jumps=jumps, method=method,
        findings=tuple(findings), time=capture.time, position=position,
    )  # fmt: skip


def _words(capture: Capture) -> IntArray:
    values = capture["position"]
    wrong = np.flatnonzero((values != np.round(values)) | (values < 0))
    if len(wrong):
        raise Refusal(
            f"sample {int(wrong[0]) + 1}: {values[wrong[0]]:g} is no position word",
            "whole counts from 0 up are needed",
            where=capture.source,
        )
    if np.ptp(values) == 0:
        raise Refusal(
            f"position stays at {values[0]:g} throughout",
            "turn the shaft, and check the encoder's supply and clock",
            where=capture.source,
        )
    if np.max(values) >= 2**40:
        raise Refusal("the position word has more than 40 bits", "check how it is put together", where=capture.source)
    return np.asarray(values, dtype=np.int64)


def _modulus(word: IntArray) -> int:
    """Return where the word wraps: a power of two, or what it reaches where it wraps clearly before one."""
    # a single disturbed sample must not decide how many bits the word has
    calm = np.median(np.stack([word[:-2], word[1:-1], word[2:]]), axis=0) if len(word) > 2 else word
    most = int(np.max(calm))
    power = 1 << most.bit_length()
    wraps = bool(np.any(np.abs(np.diff(calm)) > 0.5 * np.ptp(calm)))
    return most + 1 if wraps and power > 1.02 * (most + 1) else power


def _stuck(word: IntArray) -> list[int]:
    """Return the bits that stay though the word moves across many of their steps."""
    span = int(np.ptp(word))
    steps = np.abs(np.diff(word))
    fine = float(np.median(steps[steps > 0]))  # a coarse capture never shows the lowest bits change evenly
    stuck = []
    for bit in range(int(np.max(word)).bit_length()):
        weight = 1 << bit
        values = (word >> bit) & 1
        if np.ptp(values) == 0 and span > 4 * weight and (fine < weight or bit == 0):
            stuck.append(bit)
    return stuck


def _unwrap(
    word: IntArray, modulus: int, stuck: list[int], findings: list[Finding], source: str
) -> tuple[FloatArray, int, bool]:
    """Return the running position, how many jumps are no motion, and whether the word wrapped."""
    step = np.diff(word)
    folded = (step + modulus // 2) % modulus - modulus // 2
    wrapped = bool(np.any(np.abs(step) > modulus // 2))
    usual = float(np.quantile(np.abs(folded), 0.9))
    limit = max(8 * usual, 4.0, *(4.0 * (1 << bit) for bit in stuck))  # a stuck line makes jumps of its own
    wild = np.abs(folded) > limit
    jumps = int(np.sum(wild))
    if jumps > 0.02 * len(step) or usual > modulus / 4:
        raise Refusal(
            f"the word jumps by more than the shaft can turn in {jumps} of {len(step)} samples",
            "check the lines and the bit order, or sample faster",
            where=source,
        )
    if jumps:
        text = f"The word jumps in {jumps} samples by more than the shaft can turn: a line is disturbed, or the word is read while it changes."
        findings.append(Finding("caution", "position-jumps", text))
    # a jump and its way back cancel; a jump that stays is a lost position and stays in
    return np.concatenate([[0.0], np.cumsum(folded)]) + float(word[0]), jumps, wrapped


def _resolution(
    ratio: float | None, doubt: float, modulus: int, wrapped: bool, findings: list[Finding]
) -> tuple[int | None, int | None]:
    """Return counts of one turn and its bits."""
    if ratio is None:
        text = "Nothing tells how far the shaft turned: give --revolutions, an angle channel, or voltages with pole pairs."
        findings.append(Finding("caution", "resolution-unknown", text))
        return None, None
    bits = round(math.log2(max(ratio, 1.0)))
    power = 1 << bits
    if abs(power / ratio - 1) <= max(0.06, 3 * doubt / ratio):
        return power, bits
    value = round(ratio)
    text = f"One turn holds about {value} counts, which is no power of two: check the turns counted, the bit order, or whether the word is scaled."
    findings.append(Finding("caution", "no-power-of-two", text))
    return value, None


def _zero(
    time: FloatArray, position: FloatArray, counts: int | None, direction: int | None, p: float | None, fit: EmfFit | None,
    findings: list[Finding],
) -> tuple[float | None, float | None]:  # fmt: skip
    """Return θe [°] at word 0 and its standard uncertainty."""
    if fit is None or counts is None or direction is None or not p:
        return None, None
    inside = np.interp(fit.time, time, position)
    rest = fit.theta - direction * p * inside * 2 * math.pi / counts
    start = circular_mean(rest)
    spread = wrap(rest - start)
    if float(np.std(spread)) > math.radians(20):
        text = (
            "The voltages do not follow the word: pole pairs, counts of a turn or the sampling of the two disagree."
        )
        findings.append(Finding("stop", "zero-unsure", text))
        return None, None
    value = start + float(np.mean(spread))
    independent = max(len(fit.time) / 40, 1.0)
    step = 2 * math.pi * p / counts
    doubt = 2 * float(np.max(fit.psi_u / fit.psi)) + float(np.max(np.abs(fit.phase_error)))
    u = math.sqrt(float(np.var(spread)) / independent + step**2 / 12 / independent + doubt**2)
    return math.degrees(value) % 360, math.degrees(u)
