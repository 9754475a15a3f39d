"""Halls alone, as a drive's status shows them while the shaft is turned: sequence, spacing, what is missing, pole pairs."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray, IntArray
from crisp_compass.identify.flux import HAND_STOP


@dataclass(frozen=True)
class HallStatus:
    """What the codes alone tell.

    ``sequence`` is the cycle of codes seen in the direction that prevailed; ``spacing_deg`` 60 or 120; ``cycles``
    electrical turns (net); ``pole_pairs`` where turns of the shaft were counted.
    """

    sequence: tuple[int, ...]
    spacing_deg: int
    cycles: float
    pole_pairs: int | None
    findings: tuple[Finding, ...]
    time: FloatArray
    codes: IntArray


@without_gaps
def read_status(capture: Capture, *, turns: float | None = None) -> HallStatus:
    """Read ``hall_1 hall_2 hall_3`` of a turning shaft, no voltages needed.

    ``turns`` are whole turns of the shaft counted by hand over the capture.

    Raises
    ------
    Refusal
        No turning, fewer than one cycle of six codes, a sensor that never switches (named), codes that jump at random.
    """
    halls = np.column_stack([capture[f"hall_{k}"] for k in (1, 2, 3)]).astype(int)
    codes = halls @ np.array([4, 2, 1])
    still = [k + 1 for k in range(3) if np.ptp(halls[:, k]) == 0]
    if len(still) == 3:
        raise Refusal("no hall changes", "turn the shaft at least one electrical turn", where=capture.source)
    if still:
        level = halls[0, still[0] - 1]
        raise Refusal(
            f"hall_{still[0]} stays at {level} while the others switch",
            "check its wire, its supply and its pull-up",
            where=capture.source,
        )
    findings = list(capture.findings)
    usual = _without_flicker(codes, findings)
    steps = usual[np.concatenate([[True], np.diff(usual) != 0])]
    if len(steps) < 7:
        raise Refusal(
            f"only {len(steps) - 1} changes of code are there",
            "turn at least one electrical turn",
            where=capture.source,
        )
    sequence, wrong = _cycle(steps)
    if len(sequence) != 6:
        raise Refusal(
            f"the codes run {' '.join(str(int(c)) for c in steps[:8])} …: no cycle of six",
            "check the ground and the supply of the halls, then each wire",
            where=capture.source,
        )
    place = {c: k for k, c in enumerate(sequence)}
    known = np.array([place[int(c)] for c in steps if int(c) in place])
    moves = (np.diff(known) + 3) % 6 - 3
    jumps = int(np.sum(np.abs(moves) != 1)) + wrong
    if jumps:
        share = 100 * jumps / max(len(moves), 1)
        if share > 40:
            raise Refusal(
                f"{jumps} of {len(moves)} changes of code skip a code: they jump at random",
                "check ground and supply of the halls, turn slower, or sample faster",
                where=capture.source,
            )
        text = f"{jumps} of {len(moves)} changes skip a code ({share:.2g} %): turned too fast for the sampling, or a wire with a bad contact."
        findings.append(Finding("caution", "codes-skipped", text))
    net = float(np.sum(np.where(np.abs(moves) == 1, moves, 0)))
    if np.sum(np.abs(moves) == 1) > 1.3 * abs(net):
        findings.append(Finding("info", "direction-changed", "The shaft turned both ways; cycles are counted net."))
    spacing = 60 if {0, 7} & set(sequence) else 120
    if spacing == 60:
        text = "The codes 0 and 7 belong to the cycle: 60° halls, or one sensor of 120° halls inverted. A firmware set to 120° sees invalid codes."
        findings.append(Finding("info", "sixty-degrees", text))
    return HallStatus(
        sequence,
        spacing,
        abs(net) / 6,
        _pole_pairs(abs(net) / 6, turns, findings),
        findings=tuple(findings),
        time=capture.time,
        codes=usual,
    )


def _without_flicker(codes: IntArray, findings: list[Finding]) -> IntArray:
    """Remove codes that stand far shorter than the usual: bounce, or sensors that do not switch in the same sample."""
    change = np.flatnonzero(np.diff(codes)) + 1
    if len(change) < 8:
        return codes
    out = codes.copy()
    lengths = np.diff(np.concatenate([change, [len(codes)]]))
    usual = float(np.median(lengths[lengths > 0.2 * np.quantile(lengths, 0.8)]))
    short = lengths <= max(1.0, 0.04 * usual)
    for begin, length in zip(change[short], lengths[short], strict=True):
        out[begin : begin + length] = out[begin - 1]
    if short.any() and usual > 4:
        text = f"{int(short.sum())} codes stood far shorter than the others and were left out: bounce or interference on the hall lines."
        findings.append(Finding("caution" if short.mean() > 0.02 else "info", "codes-flicker", text))
    return out


def _cycle(steps: IntArray) -> tuple[tuple[int, ...], int]:
    """Return the six codes in the order of the prevailing direction, and how many steps have no place in it."""
    follows = np.zeros((8, 8), dtype=int)
    for a, b in itertools.pairwise(steps):
        follows[a, b] += 1
    net = follows - follows.T
    both = follows + follows.T
    start = int(np.argmax(both.sum(axis=1)))
    forward = net if np.abs(net).sum() > 0.1 * both.sum() else both
    order = [start]
    while len(order) < 7:
        here = order[-1]
        candidates = forward[here].copy()
        candidates[order[1:]] = -1
        if len(order) < 6:
            candidates[start] = -1
        following = int(np.argmax(candidates))
        if candidates[following] <= 0:
            break
        order.append(following)
    if len(order) != 7 or order[6] != start:
        return (), 0
    inside = set(order[:6])
    return tuple(order[:6]), int(sum(1 for c in steps if int(c) not in inside))


def _pole_pairs(cycles: float, turns: float | None, findings: list[Finding]) -> int | None:
    if turns is None:
        return None
    if not turns > 0:
        raise Refusal(f"{turns:g} turns cannot be meant", "count the turns of the shaft", where="--turns")
    ratio = cycles / turns
    whole = round(ratio)
    # half a sector at each end of the capture, and a hand that stops within a tenth of a turn
    doubt = (1 / 6 + 2 * HAND_STOP * ratio) / turns
    if whole < 1 or abs(ratio - whole) > 0.3 or doubt > 0.45:
        text = f"{cycles:.1f} electrical turns in {turns:g} of the shaft are {ratio:.2f} pole pairs, not near a whole number: count more turns."
        findings.append(Finding("caution", "pole-pairs-unclear", text))
        return None
    return whole
