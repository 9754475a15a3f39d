"""What a sensorless estimator says of a measured capture, and where a true angle is beside it, how far it is off and why."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Level, Result
from crisp_compass.files import write_atomically
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.sensorless.estimator import BACK_EMF, FLUX, SEEN, Estimator, clear, over_rows

METHODS = {"back-emf": BACK_EMF, "flux": FLUX}
_SQRT3 = math.sqrt(3.0)
#: Noise of the angle [rad rms] that the loop is meant to leave at a tenth of the highest speed.
_NOISE_GOAL = math.radians(0.8)
#: Standard error of the angle at the ends of a valid piece [rad], by method: what the attack on random captures left (docs/theory.md).
_END = {"back-emf": math.radians(2.0), "flux": math.radians(6.0)}
#: Below this the rest is not worth a cause [rad rms].
_NOTHING = math.radians(0.5)


@dataclass(frozen=True)
class AngleError:
    """Error of the electrical angle over the valid rows [rad]: ``mean`` (estimated less true), ``rms``, ``most`` (absolute).

    ``delay`` [s] is how late a constant delay would make the estimate, where most of the error grows with the speed like one (else 0); ``cause`` a word for the likeliest cause of
    what is left or of the whole, empty where nothing stands out, and ``share`` its share of the mean square.
    """

    mean: float
    rms: float
    most: float
    delay: float
    cause: str
    share: float


@dataclass(frozen=True)
class Observed(Result):
    """What the estimator says, row by row (n,): ``time`` [s], ``angle`` [rad, electrical, 0 to 2π], ``speed`` [rad/s, mechanical],
    ``emf`` [V, phase peak], ``valid``; ``valid_from`` [s] or None; ``error`` where the true angle is known, and ``deviation`` (n,) [rad]; ``current`` (n,) [A] across the estimated rotor."""

    time: FloatArray
    angle: FloatArray
    speed: FloatArray
    emf: FloatArray
    valid: BoolArray
    valid_from: float | None
    error: AngleError | None
    deviation: FloatArray | None
    estimator: Estimator
    pole_pairs: int
    current: FloatArray


def _two_windings(capture: Capture) -> tuple[FloatArray, FloatArray]:
    va, vb, ia, ib = capture.require("v_a", "v_b", "i_a", "i_b", samples=50)
    return np.column_stack([va, vb]), np.column_stack([ia, ib])


def _three_phases(capture: Capture) -> tuple[FloatArray, FloatArray]:
    ia, ib = capture.require("i_a", "i_b", samples=50)
    if "i_c" in capture:
        mean = (ia + ib + capture["i_c"]) / 3
        ia, ib = ia - mean, ib - mean
    if "v_ab" in capture or "v_bc" in capture:
        v_ab, v_bc = capture.require("v_ab", "v_bc", samples=50)
        v = np.column_stack([(2 * v_ab + v_bc) / 3, v_bc / _SQRT3])
    else:
        v_a, v_b, v_c = capture.require("v_a", "v_b", "v_c", samples=50)
        v = np.column_stack([(2 * v_a - v_b - v_c) / 3, (v_b - v_c) / _SQRT3])
    return v, np.column_stack([ia, (ia + 2 * ib) / _SQRT3])


#: How α and β lie in the channels of each kind of motor with magnets.
_VECTORS = {"pm": _three_phases, "stepper": _two_windings}


def space_vectors(capture: Capture, kind: str) -> tuple[FloatArray, FloatArray]:
    """Return voltages and currents as α and β, both (n, 2); raises Refusal where channels are missing or constant."""
    if kind not in _VECTORS:
        raise Refusal(
            "the estimators are for motors with magnets",
            "load a capture of a three-phase magnet motor or a stepper",
            where=capture.source,
            code="family",
        )
    return _VECTORS[kind](capture)


@without_gaps
def observe(
    capture: Capture,
    *,
    r: float,
    ld: float,
    lq: float,
    psi: float,
    pole_pairs: int,
    method: str = "back-emf",
    family: str | None = None,
    loop_hz: float | None = None,
    correction: float | None = None,
) -> Observed:
    """Run an estimator over a capture.

    Parameters
    ----------
    capture
        ``i_a``, ``i_b`` at the row's instant and ``v_ab``, ``v_bc`` (or ``v_a``, ``v_b``, ``v_c``; a stepper's two windings) averaged over the period that
        ends there; perhaps the true ``angle`` (mechanical).
    r, ld, lq, psi, pole_pairs
        The motor's constants per phase, Ω, H, H, Wb.
    method
        ``back-emf`` or ``flux``.
    loop_hz, correction
        Natural frequency of the phase-locked loop [Hz] and correction rate of the flux [1/s]; chosen from the capture's noise and speed
        where left out.

    Raises
    ------
    Refusal
        Impossible constants, missing or short channels, another family's capture.
    """
    for name, value in (("--r", r), ("--ld", ld), ("--lq", lq), ("--psi", psi), ("--pole-pairs", pole_pairs)):
        if not (value > 0 and math.isfinite(value)):
            raise Refusal(f"{value:g} is not possible", "a value above zero is needed", where=name)
    for name, rate in (("--loop-hz", loop_hz), ("--correction", correction)):
        if rate is not None and not (rate > 0 and math.isfinite(rate)):
            raise Refusal(f"{rate:g} is not possible", "a value above zero is needed", where=name)
    if method not in METHODS:
        raise Refusal(f"“{method}” is no method", f"use {' or '.join(METHODS)}", where="--method")
    v, i = space_vectors(capture, family_of_capture(capture, family))
    t = capture.time
    ts = float(np.median(np.diff(t)))
    estimator = tuned(Estimator(ts, r, ld, lq, psi=psi, kind=float(METHODS[method])), t, v, i, loop_hz=loop_hz, correction=correction)
    out = np.zeros((len(t), 4))
    known = np.zeros(SEEN)
    clear(known, float(i[0, 0]), float(i[0, 1]))
    over_rows(estimator, t, v, i, 1.6 * ts, known, out)
    angle, speed, emf, valid = out[:, 0], out[:, 1] / pole_pairs, out[:, 2], out[:, 3] > 0.5
    findings = list(capture.findings)
    estimates: dict[str, Estimate] = {}
    valid_from = float(t[np.argmax(valid)]) if valid.any() else None
    if valid.any():
        estimates["speed"] = _mean_speed(t, angle, speed, valid, pole_pairs=pole_pairs, method=method)
    else:
        findings.append(_never(estimator, out))
    if valid.any() and np.any(np.diff(valid.astype(np.int8)) < 0):
        lost = int(np.sum(np.diff(valid.astype(np.int8)) < 0))
        text = f"The estimate was valid and was lost again {lost} time{'s' if lost > 1 else ''}; the rows say when."
        findings.append(Finding("caution", "estimate-lost", text))
    per_turn = _samples_per_turn(speed * pole_pairs, valid, ts)
    if per_turn < 10:
        text = f"At the highest speed there are only {per_turn:.1f} samples to an electrical turn; ten or more are usual."
        findings.append(Finding("caution", "few-samples-per-turn", text))
    error, deviation = None, None
    if "angle" in capture:
        deviation = _wrap(angle - pole_pairs * capture["angle"])
        if valid.any():
            error = _explained(estimator, deviation, angle, speed * pole_pairs, i=i, emf=emf, valid=valid, t=t)
            findings += _said(error, estimator)
    across = i[:, 1] * np.cos(angle) - i[:, 0] * np.sin(angle)
    said = "back-EMF observer" if method == "back-emf" else "flux observer"
    natural = math.sqrt(estimator.ki) / (2 * math.pi)
    text = f"{said} with a phase-locked loop of {natural:.3g} Hz, period {ts * 1e6:.4g} µs"
    return Observed(
        estimates, text, tuple(findings), t, angle=angle % (2 * math.pi), speed=speed, emf=emf, valid=valid, valid_from=valid_from, error=error, deviation=deviation, estimator=estimator,
        pole_pairs=pole_pairs, current=across,
    )  # fmt: skip


def tuned(
    o: Estimator, t: FloatArray, v: FloatArray, i: FloatArray, loop_hz: float | None, correction: float | None
) -> Estimator:
    """Return the estimator with gains chosen for a capture: as quick as its noise allows, never quicker than a sixteenth of its sampling."""
    dt = np.maximum(np.diff(t), 1e-12)[:, None]
    size = _running_size(v[1:] - 0.5 * o.r * (i[1:] + i[:-1]) - o.lq * np.diff(i, axis=0) / dt)
    top = max(float(np.quantile(size, 0.98)), 1e-12)
    low = max(0.1 * top, float(np.quantile(size, 0.05)))
    top_speed = top / o.psi
    noise_v, noise_i = _scatter(v), _scatter(i)
    # a loop with ζ = 1 leaves √(1.25·ω_n·Ts)·σ_v/E of the voltages' white noise, and L·σ_i·ω_n/E of the currents', which is differenced
    by_voltage = (_NOISE_GOAL * low / max(noise_v, 1e-12)) ** 2 / (1.25 * o.ts)
    by_current = _NOISE_GOAL * low / max(noise_i * o.lq, 1e-15)
    most = min(0.08 / o.ts, max(0.7 * top_speed, 2 * math.pi * 10))
    natural = min(max(by_voltage, 0.0), by_current, most)
    # slower than the speed changes it would fall behind: a lag of 0.07 rad at the strongest acceleration is the least it must keep up with
    span = max(len(size) // 40, 1)
    steepest = float(np.quantile(np.abs(size[span:] - size[:-span]), 0.95)) / (span * o.ts) / o.psi
    natural = max(natural, min(max(0.02 * top_speed, 2 * math.pi * 5, math.sqrt(steepest / 0.07)), most))
    if loop_hz is not None:
        natural = 2 * math.pi * loop_hz
        if natural > 0.5 / o.ts:
            raise Refusal(
                f"{loop_hz:g} Hz is too quick for rows {o.ts * 1e6:.4g} µs apart",
                f"at most {0.5 / o.ts / (2 * math.pi):.4g} Hz can be followed",
                where="--loop-hz",
            )
    share = 4 * natural * o.ts / (1 + 4 * natural * o.ts)
    floor = 5 * math.hypot(noise_v * math.sqrt(share / (2 - share)), noise_i * o.lq / o.ts * share)
    k = correction if correction is not None else min(max(0.1 * top_speed, 4.0), 0.2 / o.ts)
    return o._replace(
        kp=2 * natural,
        ki=natural**2,
        filter=4 * natural,
        correction=k,
        catch=0.5 * natural,
        offset=0.05,
        floor=floor,
        spread=math.radians(15.0),
        hold=2 * math.pi,
    )


def _running_size(raw: FloatArray) -> FloatArray:
    """Return the smoothed length (n,) of a noisy vector."""
    width = max(3, min(64, len(raw) // 16))
    power = np.convolve(np.sum(raw**2, axis=1), np.ones(width) / width, mode="valid")
    return np.asarray(np.sqrt(np.maximum(power, 0.0)))


def _scatter(values: FloatArray) -> float:
    """Return the noise of one component (n, 2) below a wave of a few samples a turn: from eighth differences, whose noise grows by √12,870."""
    eighth = np.diff(values, 8, axis=0)
    return float(np.median(np.abs(eighth))) / 0.6745 / math.sqrt(12870) if len(eighth) else 0.0


def _wrap(angle: FloatArray) -> FloatArray:
    return np.asarray((angle + math.pi) % (2 * math.pi) - math.pi)


def _samples_per_turn(speed: FloatArray, valid: BoolArray, ts: float) -> float:
    """Return the samples of one electrical turn at the highest valid speed [rad/s, electrical]."""
    most = float(np.max(np.abs(speed[valid]), initial=0.0))
    return 2 * math.pi / (most * ts) if most > 0 else math.inf


def _pieces(valid: BoolArray) -> list[tuple[int, int]]:
    """Return first and last row of each run of valid rows."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], valid.astype(np.int8), [0]])))
    return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def _mean_speed(
    t: FloatArray, angle: FloatArray, speed: FloatArray, valid: BoolArray, pole_pairs: int, method: str
) -> Estimate:
    """Return the mean mechanical speed over the valid rows: angle travelled over time, its error that of the angles at the ends."""
    travelled = lasted = 0.0
    pieces = [(a, b) for a, b in _pieces(valid) if b > a]
    for a, b in pieces:
        travelled += float(np.sum(_wrap(np.diff(angle[a : b + 1]))))
        lasted += float(t[b] - t[a])
    if lasted <= 0:
        return Estimate.from_u(float(np.mean(speed[valid])), "rad/s", float(np.max(np.abs(speed[valid]))))
    u = math.sqrt(2 * len(pieces)) * _END[method] / lasted / pole_pairs
    return Estimate.from_u(travelled / lasted / pole_pairs, "rad/s", u)


def _never(o: Estimator, out: FloatArray) -> Finding:
    """Say why the estimate was never valid."""
    strong = out[:, 2] > 0.5 * float(np.quantile(out[:, 2], 0.98))
    emf, speed = (float(np.median(np.abs(out[strong, k]))) if strong.any() else 0.0 for k in (2, 1))
    if emf < 2 * o.floor or speed == 0:
        text = "No back-EMF stands out of the noise: the motor is at rest or turns too slowly for an estimate."
        return Finding("caution", "never-valid", text)
    turns = np.abs(np.sum(_wrap(np.diff(out[:, 0])))) / (2 * math.pi)
    ratio = emf / (o.psi * speed)
    if turns > 2 and abs(ratio - 1) > o.length:
        text = f"The voltage turns evenly but is {ratio:.2f} of what the flux linkage says at that speed: ψ of {emf / speed:.4g} Wb would fit."
        return Finding("caution", "amplitude", text)
    text = "The estimate was never valid for a whole electrical turn: the capture is too short, too noisy or the constants do not fit."
    return Finding("caution", "never-valid", text)


def _explained(
    o: Estimator,
    deviation: FloatArray,
    angle: FloatArray,
    w: FloatArray,
    i: FloatArray,
    emf: FloatArray,
    valid: BoolArray,
    t: FloatArray,
) -> AngleError:
    """Split the error over the valid rows: what looks like a delay, and which one cause explains most of it."""
    d, w, th = deviation[valid], w[valid], angle[valid]
    middle = math.atan2(float(np.mean(np.sin(d))), float(np.mean(np.cos(d))))
    d = middle + _wrap(d - middle)  # an error near half a turn is not torn in two
    mean, rms, most = float(np.mean(d)), float(np.sqrt(np.mean(d**2))), float(np.max(np.abs(d)))
    drift, travelled = float(np.sum(_wrap(np.diff(d)))), float(np.sum(_wrap(np.diff(th))))
    if abs(drift) > 4 * math.pi:  # the error itself turns
        true = travelled - drift
        return AngleError(mean, rms, most, 0.0, cause="sense" if true * travelled < 0 else "pole-pairs", share=1.0)
    if abs(mean) > 0.75 * math.pi:
        return AngleError(mean, rms, most, 0.0, cause="half-turn", share=1.0)
    c, s = np.cos(th - d), np.sin(th - d)  # in the true frame, so that the error does not explain itself
    i_d, i_q = i[valid, 0] * c + i[valid, 1] * s, i[valid, 1] * c - i[valid, 0] * s
    over = 1.0 / np.where(np.abs(w) > 1e-9, w, np.inf)
    slope = np.gradient(w, t[valid]) if len(w) > 2 else np.zeros(len(w))
    causes = {
        "zero": [np.ones(len(d))],
        "delay": [w],
        "inductance": [i_q],
        "resistance": [i_d * over],
        "offset": [c * over, s * over],
        "dead-time": [np.sin(6 * th) * over, np.cos(6 * th) * over],
        "lag": [slope],
    }
    total = float(np.sum(d**2))
    best, share, delay, late = "", 0.0, 0.0, 0.0
    varied = float(np.std(w)) > 0.05 * float(np.mean(np.abs(w)))
    for name, columns in causes.items():
        x = np.column_stack(columns)
        norm = np.linalg.norm(x, axis=0)
        if float(norm.min()) <= 1e-12 or (name == "delay" and not varied):
            continue
        answer = np.linalg.lstsq(x / norm, d, rcond=None)[0]
        part = 1 - float(np.sum((d - x / norm @ answer) ** 2)) / total if total > 0 else 0.0
        if name == "delay":
            delay, late = -float(answer[0] / norm[0]), part
        if part > share + 0.02:
            best, share = name, part
    delay = delay if late > 0.4 and rms > _NOTHING else 0.0
    if rms < _NOTHING or share < 0.4:
        best, share = "", 0.0
    return AngleError(mean, rms, most, delay, cause=best, share=share)


#: What each kind of error looks like and what makes it.
_CAUSES = {
    "sense": "turns on and on: estimate and true angle turn against each other, two phases are exchanged or the angle is reversed",
    "pole-pairs": "turns on and on: estimate and true angle do not turn equally fast, the pole pairs are wrong",
    "half-turn": "points to the other pole: channels are exchanged or reversed, or the true angle's zero is half a turn off",
    "zero": "is the same at every speed: the zero of the true angle, or, where the current hardly changes, the inductance",
    "delay": "grows with the speed: voltage, current and true angle are not of the same instant",
    "inductance": "follows the torque current: the inductance that is given",
    "resistance": "follows i_d over the speed: the resistance that is given",
    "offset": "comes once a turn and is stronger at low speed: an offset of currents or voltages",
    "dead-time": "comes six times a turn and is stronger at low speed: the voltage is the commanded one and lacks the dead time",
    "lag": "follows the acceleration: the loop is too slow",
}


def _said(error: AngleError, o: Estimator) -> list[Finding]:
    found = []
    level: Level = "caution" if error.rms > math.radians(5) else "info"
    if error.cause:
        text = f"{error.share * 100:.0f} % of the angle's error ({math.degrees(error.rms):.2g}° rms) {_CAUSES[error.cause]}."
        found.append(Finding(level, f"cause-{error.cause}", text))
    elif error.rms > math.radians(5):
        text = f"The angle is off by {math.degrees(error.rms):.2g}° rms, and no single cause explains it."
        found.append(Finding(level, "cause-unknown", text))
    if abs(error.delay) > 0.2 * o.ts:
        side = "behind" if error.delay > 0 else "ahead of"
        text = f"The estimate is {abs(error.delay) * 1e6:.3g} µs {side} the true angle: {abs(error.delay) / o.ts:.2g} sampling periods."
        found.append(Finding("info", "constant-delay", text))
    return found


def write_rows(path: Path, found: Observed) -> None:
    """Write the estimate row by row as CSV: time [s], electrical angle [deg, 0 to 360], mechanical speed [rpm], back-EMF [V], valid."""
    import polars as pl  # a third of a second to load, for whoever reads a file

    degrees = np.round(np.degrees(found.angle), 4) % 360.0
    table = {
        "t [s]": np.round(found.time, 9),
        "theta_e_est [deg]": degrees,
        "speed_est [rpm]": np.round(found.speed * 30 / math.pi, 4),
        "emf [V]": np.round(found.emf, 6),
        "valid": found.valid.astype(np.int64),
    }
    write_atomically(path, pl.DataFrame(table).write_csv())
