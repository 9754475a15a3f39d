"""Electrical zero by DC alignment: a current held at known electrical angles, the shaft read where it comes to rest.

A current vector at the electrical angle α pulls the rotor's flux towards α; friction holds it back by h, sin h =
T_c / (Kt·I), short of α from whichever side it came. So with the encoder's own angle m (mechanical, from its zero)

    α = σ·p·m + zero + s·h + e,     s = +1 came from below, −1 from above,

σ = ±1 the encoder's sense, e cogging and reading. Two sides separate h from the zero; positions over a whole turn of
the shaft average cogging out. The side is that of the travel from the row before. Least squares; u from the scatter between
places (sandwich estimate with the places as clusters).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.model import Capture
from crisp_compass.commutation.angles import circular_mean, wrap
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray

_MOST_POLE_PAIRS = 100
#: Least length of the mean unit vector of what is left: a lag of 41° on either side.
_FOLLOWS = 0.75


@dataclass(frozen=True)
class AlignmentResult:
    """Zero and what goes with it, angles in rad.

    ``zero`` is θe where the encoder reads zero (positive rotation A → B → C); ``hysteresis`` h is None where the shaft
    was approached from one side only; ``direction`` +1 where the encoder's angle rises with A → B → C. ``commanded``,
    ``lag`` (how far short of the commanded angle the rotor stands once the zero is taken off) and ``side`` are (n,).
    """

    zero: Estimate
    hysteresis: Estimate | None
    direction: int
    pole_pairs: int
    commanded: FloatArray
    lag: FloatArray
    side: FloatArray
    method: str
    findings: tuple[Finding, ...]

    def offset_counts(self, counts_per_rev: int) -> float:
        """Return the count, within one electrical turn, at which θe = 0."""
        turn = counts_per_rev / self.pole_pairs
        return (-self.direction * self.zero.value / (2 * math.pi) * turn) % turn


def alignment_current(kt: float, coulomb: float, within: float) -> float:
    """Return the current [A peak] that leaves friction ``coulomb`` [N·m] a lag of ``within`` [rad electrical].

    From Kt·I·sin h = T_c, ``kt`` in N·m per A of phase peak.
    Raises Refusal for figures that are not above zero.
    """
    if not (kt > 0 and 0 < within < math.pi / 2 and coulomb >= 0):
        raise Refusal("the alignment current cannot be computed", "the torque constant must be above zero")
    return coulomb / (kt * math.sin(within))


def read_alignment(capture: Capture, *, pole_pairs: int) -> AlignmentResult:
    """Evaluate a table of ``field_angle`` (electrical, as commanded) and ``angle`` (mechanical, by the encoder).

    Parameters
    ----------
    capture
        One row for every position at rest, in the order they were gone to; both (n,) rad.
    pole_pairs
        Of the motor; a number that does not fit is refused, and the one that fits is named.

    Raises
    ------
    Refusal
        Fewer than three positions, a shaft that does not move, positions that do not follow the field.
    """
    alpha, mechanical = _positions(capture, pole_pairs)
    side = _sides(alpha)
    direction = _sense(alpha, mechanical, pole_pairs, capture.source)
    findings = list(capture.findings)
    offset = alpha - direction * pole_pairs * mechanical
    start = circular_mean(offset)
    y = wrap(offset - start)
    sides = {int(s) for s in side if s}
    both = sides == {1, -1} and min(np.sum(side == 1), np.sum(side == -1)) >= 2
    columns = [np.ones(len(y)), side] if both else [np.ones(len(y))]
    design = np.column_stack(columns)
    used = side != 0 if both else np.ones(len(y), dtype=bool)
    solution, *_ = np.linalg.lstsq(design[used], y[used], rcond=None)
    rest = y - design @ solution
    # what cogging does at one place it does from either side: the places are independent, not the rows
    places = np.unique(np.round(alpha[used], 4), return_inverse=True)[1]
    count = int(places.max()) + 1
    dof = count - design.shape[1]
    if dof < 1:
        raise Refusal(
            f"{count} different angles are too few to tell the scatter",
            "hold the current at more angles",
            where=capture.source,
        )
    inverse = np.linalg.inv(design[used].T @ design[used])
    pull = np.zeros((count, design.shape[1]))
    np.add.at(pull, places, design[used] * rest[used, None])
    covariance = count / dof * (inverse @ pull.T @ pull @ inverse)
    u = math.sqrt(float(covariance[0, 0]))
    if not both:
        u = math.hypot(u, math.radians(10) / math.sqrt(3))
        findings.append(Finding(
            "caution", "one-side", "All positions were reached from one side: friction holds the rotor short of the field and cannot be separated from the zero. Come back over the same angles from the other side.",
        ))  # fmt: skip
    zero = Estimate.from_u(_turn(start + float(solution[0])), "rad", u, dof=dof)
    hysteresis = None
    if both:
        hysteresis = Estimate.from_u(float(solution[1]), "rad", math.sqrt(float(covariance[1, 1])), dof=dof)
        _judge_friction(hysteresis, findings)
    worst = math.degrees(float(np.max(np.abs(rest[used]))))
    if worst > 10:
        row = int(np.argmax(np.where(used, np.abs(rest), 0.0))) + 1
        findings.append(Finding(
            "caution", "positions-scatter", f"Position {row} lies {worst:.0f}° from the others: the shaft was held, the current too small, or a count lost.",
        ))  # fmt: skip
    span = float(np.ptp(np.unwrap(alpha))) / (2 * math.pi)
    if span < 0.9:
        findings.append(Finding(
            "caution", "part-of-a-turn", f"The positions cover {span:.1f} electrical turns: cogging and an uneven winding are not averaged out.",
        ))  # fmt: skip
    method = f"{int(used.sum())} positions at rest over {span:.1f} electrical turns, {'both sides' if both else 'one side'}"
    lag = np.asarray(wrap(y - float(solution[0])))
    return AlignmentResult(zero, hysteresis, direction, pole_pairs, commanded=alpha, lag=lag, side=side, method=method, findings=tuple(findings))


def _positions(capture: Capture, pole_pairs: int) -> tuple[FloatArray, FloatArray]:
    """Return field and shaft angles (n,) rad, refused where they cannot tell a zero."""
    alpha, mechanical = capture["field_angle"], capture["angle"]
    if pole_pairs < 1:
        raise Refusal("the pole pairs are a whole number from 1 up", where="--pole-pairs")
    if len(alpha) < 3:
        raise Refusal(
            f"{len(alpha)} positions are too few", "hold the current at three angles or more", where=capture.source
        )
    if np.ptp(alpha) < math.radians(10):
        raise Refusal(
            "the field was never turned", "hold the current at angles spread over a turn", where=capture.source
        )
    if np.ptp(mechanical) < 1e-9:
        raise Refusal(
            "the shaft did not follow the field at all",
            "raise the current, free the shaft, and check the encoder",
            where=capture.source,
        )
    return alpha, mechanical


def propose_fields(pole_pairs: int, places: int = 17) -> FloatArray:
    """Return angles (2·places − 1,) [rad, electrical] to hold the current at: evenly over one turn of the shaft and back.

    A prime number of places falls into step with no common number of slots, so that cogging averages out.
    """
    up = 2 * math.pi * pole_pairs * np.arange(places) / places
    return np.concatenate([up, up[-2::-1]])


def _sides(alpha: FloatArray) -> FloatArray:
    """Return from which side each position was reached: +1 from below, −1 from above, 0 for the first row.

    Angles written within one turn are taken the short way round; angles beyond it as they stand.
    """
    step = np.diff(alpha)
    if float(np.min(alpha)) >= -1e-9 and float(np.max(alpha)) <= 2 * math.pi + 1e-9:
        step = wrap(step)
    return np.concatenate([[0.0], np.sign(np.where(np.abs(step) < 1e-9, 0.0, step))])


def _turn(angle: float) -> float:
    return angle % (2 * math.pi)


def _sense(alpha: FloatArray, mechanical: FloatArray, pole_pairs: int, source: str) -> int:
    """Return the encoder's sense; refuse where neither fits, naming the pole pairs that would."""

    def unity(p: int, sign: int) -> float:
        return float(abs(np.mean(np.exp(1j * (alpha - sign * p * mechanical)))))

    found = {sign: unity(pole_pairs, sign) for sign in (1, -1)}
    best = max(found, key=lambda s: found[s])
    others = {p: max(unity(p, 1), unity(p, -1)) for p in range(1, _MOST_POLE_PAIRS + 1) if p != pole_pairs}
    # with a handful of places some other number always fits, and numbers far off fall into step with the places
    close = {p: value for p, value in others.items() if p <= 2 * pole_pairs + 4}
    better = [p for p, value in close.items() if value > 0.98 and found[best] < 0.9 and len(alpha) >= 6]
    if found[best] > _FOLLOWS and not better:
        if found[best] - found[-best] > 0.02:
            return best
        raise Refusal(
            "the positions fit either sense of the encoder", "add positions a quarter of a turn apart", where=source
        )
    near = better or [p for p, value in others.items() if value > 0.95]
    hint = f"{near[0]} pole pairs would fit; " if near else ""
    raise Refusal(
        f"the shaft does not follow the field with {pole_pairs} pole pairs",
        f"{hint}check the pole pairs, the counts a turn and that the shaft is free",
        where=source,
    )


def _judge_friction(hysteresis: Estimate, findings: list[Finding]) -> None:
    h = math.degrees(hysteresis.value)
    if hysteresis.high < 0:
        findings.append(Finding(
            "caution", "rotor-leads", f"The rotor stands {-h:.1f}° ahead of the field in its travel: the rows are not in the order in which they were gone to, or it was pushed.",
        ))  # fmt: skip
    elif h > 20:
        findings.append(Finding(
            "caution", "friction-large", f"Friction holds the rotor {h:.0f}° short of the field: {math.sin(math.radians(min(h, 80))) / math.sin(math.radians(10)):.1f} times the current would leave 10°, if the winding bears it.",
        ))  # fmt: skip
