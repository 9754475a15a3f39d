"""Ke of a brushed motor: from its open armature while it coasts, or with R and the brushes' drop from running data.

Model. v = Ke·ω + R·i + V0·sign(i) + o, with o the offsets of the channels; open, v = Ke·ω + o. Kt = Ke (energy).

Both channels of a coast are noisy, so a plain regression of one on the other is biased (attenuation; W. A. Fuller, Measurement
Error Models, 1987, 1.1). The smooth course of the speed serves as the instrument instead (ibid. 1.4): its noise is averaged away
and what is left is independent of it. Running data are means over short blocks, in which the inductance adds L·Δi/Δt and a lag of the speed channel
τ·Δω/Δt, or the rows of a table; the odd samples of a block are the instrument of its even ones.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise, pile_up, quantum
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, IntArray, Result
from crisp_compass.identify.armature_friction import friction
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.guard import solvable

#: Rows of a table below which every row is a level.
_TABLE = 60
#: Pieces of the speed's smooth course.
_PIECES = 12


@dataclass(frozen=True)
class ArmatureResult(Result):
    """Ke with what a plot needs: ``speed`` [rad/s], ``voltage``, ``model``, ``residual`` [V], all (n,); ``running`` tells levels
    with current from an open armature over ``time`` (n,) [s]."""

    time: FloatArray
    speed: FloatArray
    voltage: FloatArray
    model: FloatArray
    residual: FloatArray
    running: bool


#: Change of the speed, of its highest, below which it is steady; a current so many times its noise flows; relative uncertainty from which
#: on Ke is not told.
_STEADY, _FLOWS, _KE_TOLD = 0.1, 8.0, 0.25


@solvable
@without_gaps
def fit_armature(capture: Capture) -> ArmatureResult:
    """Estimate Ke, and with current R and the brushes' drop.

    Parameters
    ----------
    capture
        ``v_m`` and ``speed`` of an open, coasting armature; or ``v_m``, ``i_m`` and ``speed`` running at several speeds and loads.

    Returns
    -------
    ArmatureResult
        ``ke`` [V·s/rad] and ``kt`` [N·m/A]; running also friction and inertia where nothing else is driven, ``resistance`` [Ω] and, where both directions of the current tell it,
        ``voltage_offset`` [V, drop of the brushes].

    Raises
    ------
    Refusal
        Missing, constant or clipped channels, too few different speeds, reversed signs.
    """
    family_of_capture(capture, "brushed")
    running = "i_m" in capture and not _open(capture)
    names = ("v_m", "speed", "i_m") if running else ("v_m", "speed")
    arrays = capture.require(*names, samples=4 if running else 30)
    for name, values in zip(names, arrays, strict=True):
        if (
            name == "v_m" and not running and _cut(values)
        ):  # levels of a running motor rest at their highest by themselves
            raise Refusal(f"{name} is cut off at the end of its range", "use a larger range", where=capture.source)
    if not running and _one_point(capture, arrays[1]):
        raise Refusal(
            "one operating point with current does not tell Ke from the drop across the armature",
            "run at several speeds and loads, or let the open armature coast",
            where=capture.source,
        )
    return _running(capture, *arrays) if running else _coasting(capture, *arrays)


def _one_point(capture: Capture, speed: FloatArray) -> bool:
    """Tell a steady current at a steady speed: a coast slows down, and an open armature's current is an offset at most."""
    if "i_m" not in capture or len(speed) < 8:
        return False
    i, fourth = capture["i_m"], max(len(speed) // 4, 1)
    slowed = abs(float(np.mean(speed[-fourth:]) - np.mean(speed[:fourth]))) > _STEADY * float(np.max(np.abs(speed)))
    return not slowed and abs(float(np.mean(i))) > _FLOWS * max(noise(i), quantum(i))


def _cut(values: FloatArray) -> bool:
    flags = pile_up(values)
    return bool(flags.any() and 0.05 < float(np.mean(flags)) < 0.95 and float(np.ptp(values[flags])) > 0)


def _open(capture: Capture) -> bool:
    """Tell a recorded current that is only noise and an offset: the armature is open."""
    i = capture["i_m"]
    return float(np.ptp(i)) == 0 or (len(i) >= _TABLE and float(np.std(i)) < 1.3 * noise(i))


def _smooth(time: FloatArray, values: FloatArray) -> FloatArray:
    """Return the smooth course (n,) of a channel: a cubic spline of few pieces."""
    x = (time - time[0]) / (time[-1] - time[0])
    knots = np.concatenate([[0.0] * 4, np.linspace(0, 1, _PIECES + 1)[1:-1], [1.0] * 4])
    basis = scipy.interpolate.BSpline.design_matrix(np.clip(x, 0, 1 - 1e-12), knots, 3)
    square: FloatArray = np.asarray((basis.T @ basis).todense())
    right: FloatArray = np.asarray(basis.T @ values)
    answer = np.linalg.solve(square + 1e-10 * float(np.trace(square)) / len(square) * np.eye(len(square)), right)
    return np.asarray(basis @ answer)


def _moving(speed: FloatArray) -> BoolArray:
    """Return the samples before the shaft stands: beyond that they say nothing of Ke, and bend the smooth course."""
    top = float(np.max(np.abs(speed)))
    moving = np.abs(speed) > max(0.03 * top, 4 * noise(speed))
    if not moving.any():
        raise Refusal("the speed does not stand out from its noise", "let the shaft turn faster, or map the speed")
    first, last = np.flatnonzero(moving)[[0, -1]]
    keep = np.zeros(len(speed), dtype=np.bool_)
    keep[first : last + 1] = True
    return keep


def _coasting(capture: Capture, v: FloatArray, speed: FloatArray) -> ArmatureResult:
    keep = _moving(speed)
    t, v, w = capture.time[keep], v[keep], speed[keep]
    if len(t) < 30:
        raise Refusal(f"{len(t)} samples while the shaft turns are too few", "sample faster", where=capture.source)
    course = _smooth(t, w)
    spread = float(np.ptp(course))
    findings = list(capture.findings)
    fixed = spread < 0.1 * float(np.max(np.abs(course)))  # one speed: an offset cannot be told from Ke
    ones = np.ones(len(t))
    instruments = course[:, None] if fixed else np.column_stack([course, ones])
    regressors = w[:, None] if fixed else np.column_stack([w, ones])
    answer = np.linalg.solve(instruments.T @ regressors, instruments.T @ v)
    ke = float(answer[0])
    if ke <= 0:
        raise Refusal(
            "the voltage falls while the speed rises",
            "one channel is reversed; map it with a minus sign (v_m=-v_m)",
            where=capture.source,
        )
    residual = v - regressors @ answer
    gain = np.linalg.solve(instruments.T @ regressors, instruments.T)[0]
    u = math.sqrt(float(np.sum(gain**2))) * float(np.std(residual)) * _correlated(residual)
    if fixed:
        u = math.hypot(u, 0.005 * ke)
        text = "The speed hardly changes, so an offset of the voltage cannot be told from Ke; half a per cent is allowed for it: let the shaft coast further."
        findings.append(Finding("caution", "one-speed", text))
    estimate = Estimate.from_u(ke, "V·s/rad", u, dof=max(len(t) - _PIECES, 1))
    low, high = float(np.min(np.abs(course))), float(np.max(np.abs(course)))
    method = f"open armature coasting from {high:.4g} to {low:.3g} rad/s; slope of voltage over speed"
    return ArmatureResult(
        {"ke": estimate, "kt": estimate.scaled(1.0, "N·m/A")},
        method,
        tuple(findings),
        t,
        speed=w,
        voltage=v,
        model=regressors @ answer,
        residual=residual,
        running=False,
    )


def _correlated(residual: FloatArray) -> float:
    """Return by how much slow parts of the residual (a bent line) widen what white noise would give, and quick ones (the
    commutator's ripple) narrow it: only what is left in the means of blocks moves the slope."""
    block = max(4, len(residual) // 60)
    means = residual[: len(residual) // block * block].reshape(-1, block).mean(axis=1)
    expected = float(np.std(residual)) / math.sqrt(block)
    return max(0.3, float(np.std(means)) / max(expected, 1e-300))


@dataclass(frozen=True)
class _Points:
    """What was read at k points: the voltage (k,) and the regressors (k, m) twice, each with noise of its own.

    ``shared`` (3,) are the variances of voltage, speed and current that all points of a plateau share, because the noise does not
    dither the converter's steps out; ``plateau`` (k,) numbers the plateaus.
    """

    v: FloatArray
    first: FloatArray
    second: FloatArray
    names: tuple[str, ...]
    shared: FloatArray
    plateau: IntArray


#: A sum of few even errors has shorter tails than a normal one of the same variance: 0.84 of it for one.
_SHORT = 0.84
#: Blocks of a running capture, and least samples in one.
_BLOCKS, _LEAST = 400, 8


def _points(capture: Capture, v: FloatArray, speed: FloatArray, i: FloatArray) -> _Points:
    if len(v) < _TABLE or not len(capture.time):
        table = np.column_stack([speed, i])
        return _Points(v, table, table, ("ke", "r"), shared=np.zeros(3), plateau=np.arange(len(v)))
    shared = np.array([_undithered(x) for x in (v, speed, i)])
    count = min(_BLOCKS, len(v) // _LEAST)
    size = len(v) // count // 2 * 2
    t, v, speed, i = (x[: count * size].reshape(count, size) for x in (capture.time, v, speed, i))
    quarter = max(size // 4, 1)
    span = t[:, -quarter:].mean(axis=1) - t[:, :quarter].mean(axis=1)
    halves = []
    for k in (0, 1):
        w_half, i_half = speed[:, k::2], i[:, k::2]
        part = max(quarter // 2, 1)
        slopes = [(x[:, -part:].mean(axis=1) - x[:, :part].mean(axis=1)) / span for x in (i_half, w_half)]
        halves.append(np.column_stack([w_half.mean(axis=1), i_half.mean(axis=1), *slopes]))
    keep = [0, 1]
    for column in (2, 3):  # a change that both halves see is one; else it is noise and stays out
        a, b = halves[0][:, column], halves[1][:, column]
        if min(float(np.ptp(a)), float(np.ptp(b))) > 0 and float(np.corrcoef(a, b)[0, 1]) > 0.3:
            keep.append(column)
    names = tuple(("ke", "r", "inductance", "lag")[k] for k in keep)
    calm = _calm(speed, i, quarter)
    moved = np.zeros(count, dtype=np.bool_)
    for x in (v.mean(axis=1), i.mean(axis=1), speed.mean(axis=1)):
        moved[1:] |= np.abs(np.diff(x)) > 0.02 * float(np.ptp(x))
    plateau = np.cumsum(moved).astype(np.int64)[calm]
    return _Points(v.mean(axis=1)[calm], halves[0][calm][:, keep], halves[1][calm][:, keep], names, shared=shared, plateau=plateau)


def _undithered(values: FloatArray) -> float:
    """Return the variance that the noise leaves of a converter's steps (B. Widrow, I. Kollár, Quantization Noise, 2008, ch. 4)."""
    step, sigma = quantum(values), noise(values)
    if step <= 0:
        return 0.0
    true = max(sigma**2 - step**2 / 12, 0.0)
    return step**2 / 12 * math.exp(-4 * math.pi**2 * true / step**2)


def _calm(speed: FloatArray, i: FloatArray, quarter: int) -> BoolArray:
    """Return the blocks (k,) through which the current keeps its direction and hardly moves; all where too few are calm."""

    def moves(x: FloatArray) -> FloatArray:
        change = np.abs(x[:, -quarter:].mean(axis=1) - x[:, :quarter].mean(axis=1))
        return np.asarray(np.maximum(change - 4 * noise(x.ravel()) / math.sqrt(quarter), 0) / np.max(np.abs(x)))

    beside = np.maximum(moves(i), 0.4 * moves(speed))
    # a change may fall into the neighbour's edge
    reach = np.maximum(beside, np.maximum(np.append(beside[1:], 0), np.append(0, beside[:-1])))
    calm = reach < 0.02
    return calm if calm.sum() >= 8 else beside < np.inf


def _running(capture: Capture, v: FloatArray, speed: FloatArray, i: FloatArray) -> ArmatureResult:
    points = _points(capture, v, speed, i)
    findings = list(capture.findings)
    current = 0.5 * (points.first[:, 1] + points.second[:, 1])
    flowing = np.abs(current) > 0.03 * float(np.max(np.abs(current)))
    points = _Points(
        points.v[flowing],
        points.first[flowing],
        points.second[flowing],
        points.names,
        shared=points.shared,
        plateau=points.plateau[flowing],
    )
    current = current[flowing]
    speeds = 0.5 * (points.first[:, 0] + points.second[:, 0])
    both = min((current > 0).sum(), (current < 0).sum()) >= 2
    names = (*points.names, "constant", *(("drop",) if both else ()))
    if len(points.v) < len(names) or float(np.ptp(speeds)) < 0.05 * float(np.max(np.abs(speeds))):
        raise Refusal(
            f"{len(points.v)} points with current are too few, or their speeds are all alike",
            "hold at least four points of different speeds and loads",
            where=capture.source,
        )
    further = [np.ones(len(current)), *([np.sign(current)] if both else [])]
    first, second = (np.column_stack([x, *further]) for x in (points.first, points.second))
    answer, covariance, dof = _solve(first, second, points)
    if answer[0] <= 0:
        raise Refusal(
            "the voltage falls while the speed rises",
            "one channel is reversed; map it with a minus sign (v_m=-v_m)",
            where=capture.source,
        )

    def estimate(name: str, unit: str) -> Estimate:
        k = names.index(name)
        u = math.sqrt(max(float(covariance[k, k]), 0.0))
        return Estimate.from_u(float(answer[k]), unit, u, dof=dof)

    found = {"ke": estimate("ke", "V·s/rad")}
    if found["ke"].u > _KE_TOLD * found["ke"].value:
        raise Refusal(
            "current and speed move together, so Ke cannot be told from the resistance",
            "hold at least four points of different speeds and loads",
            where=capture.source,
        )
    found["kt"] = found["ke"].scaled(1.0, "N·m/A")
    r = estimate("r", "Ω")
    if r.value > 0 and r.u < 0.25 * r.value:
        found["resistance"] = r
    else:
        text = "The current follows the speed, so the resistance cannot be told from Ke: vary the load at each speed, or take R with the shaft held."
        findings.append(Finding("caution", "resistance-not-resolved", text))
    if both:
        found["voltage_offset"] = estimate("drop", "V")
    else:
        text = "The current has one direction only: the brushes' drop cannot be told from an offset of the voltage, and is left out."
        findings.append(Finding("info", "brush-drop-unknown", text))
    if len(capture.time) >= _TABLE:
        shaft, more = friction(capture.time, speed, i, found["ke"])
        found |= shaft
        findings += more
    model = 0.5 * (first + second) @ answer
    order = np.argsort(speeds)
    return ArmatureResult(
        found,
        f"running data, {len(points.v)} points of different speed and load; Ke and R fitted together",
        tuple(findings),
        np.empty(0),
        speed=speeds[order],
        voltage=points.v[order],
        model=model[order],
        residual=(points.v - model)[order],
        running=True,
    )


def _solve(first: FloatArray, second: FloatArray, points: _Points) -> tuple[FloatArray, FloatArray, int]:
    """Solve with each half as the instrument of the other; return coefficients, covariance and degrees of freedom."""
    v = points.v
    norm = np.linalg.norm(first, axis=0)
    norm[norm == 0] = 1.0
    a, b = first / norm, second / norm
    answers, gains = [], []
    for x, z in ((a, b), (b, a)):
        gain = np.linalg.pinv(z.T @ x, rcond=1e-12) @ z.T
        gains.append(gain)
        answers.append(gain @ v)
    answer, gain = np.mean(answers, axis=0), np.mean(gains, axis=0)
    residual = v - 0.5 * (a + b) @ answer
    dof = max(len(v) - first.shape[1], 1)
    variance = float(residual @ residual) / dof
    moves = len(v) > _TABLE and float(np.ptp(residual[1:])) > 0 and float(np.ptp(residual[:-1])) > 0
    rho = float(np.corrcoef(residual[1:], residual[:-1])[0, 1]) if moves else 0.0
    most = 0.0 if points.shared.any() else 0.98  # what plateaus share for the converter's sake is counted apart
    rho = min(max(rho, 0.0), most) if math.isfinite(rho) else 0.0
    shared = (1 + rho) / (1 - rho)  # neighbours that share a part (a converter's step in a plateau) count for fewer
    variance *= shared
    dof = max(round(len(v) / shared) - first.shape[1], 1)
    numbers, place = np.unique(points.plateau, return_inverse=True)
    if points.shared.any() and len(v) > 3 * len(numbers):  # what a plateau shares is counted below, not twice
        inside = residual - (np.bincount(place, residual) / np.bincount(place))[place]
        variance = float(inside @ inside) / (len(v) - len(numbers))
    values = answer / norm
    sums = np.array([gain[:, points.plateau == k].sum(axis=1) for k in numbers])
    steps = _SHORT**2 * float(points.shared @ np.array([1.0, values[0] ** 2, values[1] ** 2]))
    covariance = (variance * (gain @ gain.T) + steps * (sums.T @ sums)) / np.outer(norm, norm)
    return values, covariance, dof
