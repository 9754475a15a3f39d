"""Thermal resistances and time constants of a motor from its winding while it is heated, or cools.

A winding's temperature answers to its loss like a ladder of two bodies, in Foster's form T = T_a + Σ K_i·(g_i ∗ P) with K_i > 0; for given time constants that is linear, so two are searched and the rest is least
squares (variable projection: G. H. Golub, V. Pereyra, SIAM J. Numer. Anal. 10, 1973). The ladder winding → housing → air follows from partial fractions. The winding tells its temperature by a sensor, or by its resistance
with copper's rule of IEC 60034-1: R(t) = R_0·(235 + T)/(235 + T_0).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture import Capture
from crisp_compass.conversions import COPPER_RULES
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray
from crisp_compass.identify.circuit import family_of_capture, terminals_of

_COPPER = COPPER_RULES["iec"]
#: Points that a capture is averaged to, the fewest that are read, and time constants a decade that are tried.
_POINTS, _FEWEST, _PER_DECADE = 400, 12, 7
#: From how much on residuals that hang together tell of more bodies than two, and what that leaves in doubt of R_w, R_h and the two times: relative, as with simulated motors of more bodies.
_STRUCTURED, _LADDER_DOUBT = 5.0, (0.1, 0.05, 0.1, 0.08)
#: Sum of squares where nothing fits.
_NO_FIT = 1e290
#: Uncertainty of a noted temperature at the start, K.
_U_START = 0.5


@dataclass(frozen=True)
class Heating:
    """``time`` (n,) s, ``measured`` and ``model`` (n,) °C of the winding, ``power`` (n,) W; ``two`` where winding and housing are told apart."""

    estimates: dict[str, Estimate]
    method: str
    findings: tuple[Finding, ...]
    time: FloatArray
    measured: FloatArray
    model: FloatArray
    power: FloatArray
    two: bool


@dataclass(frozen=True)
class _Told:
    """What is fitted: ``y`` is a temperature or a resistance, ``by_resistance`` with the temperature ``start`` [°C] at its cold end; ``weight`` of each point."""

    time: FloatArray
    y: FloatArray
    power: FloatArray
    before: float
    by_resistance: bool
    start: float
    weight: FloatArray


def fit_heating(capture: Capture, *, start: float | None = None, loss: float | None = None, lead: float = 0.0, family: str | None = None) -> Heating:
    """Fit thermal resistances [K/W] and time constants [s].

    ``start`` [°C] of the cold motor (else the note ``temperature_c``) where its resistance tells the temperature; ``loss`` [W] that had warmed the motor through before the capture begins (else the note ``loss_w``,
    else none: it begins cold); ``lead`` [Ω] in series with the winding. Raises Refusal naming what is missing.
    """
    told = _read(capture, start, loss, lead, family=family)
    span = float(told.time[-1])
    low, high = math.log(max(0.5 * float(np.median(np.diff(told.time))), span / 1000)), math.log(20 * span)
    one = _search_one(told, low, high)
    if one.squares >= _NO_FIT:
        raise Refusal("the winding does not get warmer with the heat put into it", "look at the channels and their signs", where=capture.source, code="heating")
    two = _search_two(told, low, high)
    n = len(told.y)
    is_two = two is not None and n * math.log(one.squares / two.squares) > 3 * math.log(n) + 4
    best = two if is_two and two is not None else one
    return _result(told, best, span, is_two)


def _read(capture: Capture, start: float | None, loss: float | None, lead: float, family: str | None) -> _Told:
    if not len(capture.time):
        raise Refusal("it has no time column", "a course of time is needed", where=capture.source)
    noted = {k: capture.note_number(k) for k in ("temperature_c", "loss_w")}
    start = noted["temperature_c"] if start is None else start
    loss = noted["loss_w"] if loss is None else loss
    if loss is not None and loss < 0:
        raise Refusal(f"a loss of {loss:g} W is not possible", "it is above zero", where=capture.source)
    terminals = terminals_of(capture, family_of_capture(capture, family)) if "temp" not in capture or _has_terminals(capture, family) else None
    channels = ["temp"] if "temp" in capture else []
    if terminals is not None:
        channels += [terminals.voltage, terminals.current]
    if len(capture.time) < _FEWEST:
        raise Refusal(f"it has {len(capture.time)} rows", f"at least {_FEWEST} are needed", where=capture.source)
    for name in channels:  # a supply may well hold one of them still: all else of `require` is asked of the fit
        if not np.isfinite(capture[name]).all():
            raise Refusal(f"the column {name} holds values that are no numbers", "leave out those rows", where=capture.source)
    products = [capture[terminals.voltage] * capture[terminals.current] - lead * capture[terminals.current] ** 2] if terminals is not None else []
    time, values = _thinned(capture.time - capture.time[0], [capture[c] for c in channels] + products)
    power = np.maximum(values[-1], 0.0) if products else np.zeros(len(time))
    before = loss or 0.0
    if before == 0.0 and float(np.max(power)) <= 0.0:
        raise Refusal("nothing says how much heat there was", "record voltage and current, or give the loss before the capture began: --loss W", where=capture.source)
    if "temp" in capture:
        return _Told(time, values[0], power, before, by_resistance=False, start=math.nan, weight=np.ones(len(time)))
    if start is None:
        raise Refusal("the temperature of the cold motor is missing", "note it: # temperature_c: 22, or --temperature", where=capture.source)
    if not -60 <= start <= 150:
        raise Refusal(f"{start:g} °C is no temperature of a cold motor", "check it", where=capture.source)
    v, i = values[0], values[1]
    least = 0.02 * float(np.max(np.abs(i)))
    if float(np.min(np.abs(i))) < max(least, 1e-9):
        raise Refusal("the current is nothing for a while, where the winding's resistance cannot be told", "leave a small current on while it cools, at least 2 % of the largest", where=capture.source)
    return _Told(time, v / i - lead, power, before, by_resistance=True, start=start, weight=np.abs(i) / np.max(np.abs(i)))  # the voltage's noise is the same at any current


def _has_terminals(capture: Capture, family: str | None) -> bool:
    try:
        at = terminals_of(capture, family_of_capture(capture, family))
    except Refusal:
        return False
    return at.voltage in capture and at.current in capture


def _thinned(time: FloatArray, columns: list[FloatArray]) -> tuple[FloatArray, list[FloatArray]]:
    """Return time and columns as means over at most ``_POINTS`` equal stretches; those without a sample are left out."""
    if len(time) <= _POINTS:
        return time, columns
    place = np.minimum((time / time[-1] * _POINTS).astype(np.int64), _POINTS - 1)
    count = np.bincount(place, minlength=_POINTS)
    there = count > 0
    mean = [np.bincount(place, weights=c, minlength=_POINTS)[there] / count[there] for c in (time, *columns)]
    return mean[0], mean[1:]


@dataclass(frozen=True)
class _Fit:
    taus: tuple[float, ...]
    base: float
    gains: FloatArray
    squares: float
    model: FloatArray


def _response(told: _Told, taus: FloatArray) -> FloatArray:
    """Return g ∗ P (n, m) [W] for time constants (m,): what bodies of 1 K/W show, the power taken as linear between the points."""
    a = 1.0 / taus
    found = np.empty((len(told.time), len(taus)))
    # before the first point what stood there had stood since nought
    found[0] = told.before * np.exp(-told.time[0] * a) + told.power[0] * -np.expm1(-told.time[0] * a)
    steps = np.diff(told.time)
    for k, h in enumerate(steps):
        x = a * h
        e = np.exp(-x)
        newer = np.where(x < 1e-4, 0.5 * x, 1.0 + np.expm1(-x) / np.maximum(x, 1e-12))
        found[k + 1] = found[k] * e + (1.0 - e - newer) * told.power[k] + newer * told.power[k + 1]
    return found


def _least(told: _Told, columns: FloatArray) -> tuple[FloatArray, FloatArray, float]:
    """Return base and gains, the model and the weighted sum of squares; gains of the wrong sign are no fit."""
    columns = np.column_stack([np.ones(len(told.y)), columns])
    scale = np.maximum(np.max(np.abs(columns), axis=0), 1e-30)
    x, *_ = np.linalg.lstsq(columns / scale * told.weight[:, None], told.y * told.weight, rcond=None)
    x = x / scale
    model = columns @ x
    squares = max(float(np.sum(((told.y - model) * told.weight) ** 2)), 1e-24 * float(np.sum(told.y**2)) + 1e-300)
    return x, model, squares if np.all(x[1:] > 0) else _NO_FIT


def _solve(told: _Told, taus: tuple[float, ...]) -> _Fit:
    x, model, squares = _least(told, _response(told, np.array(taus)))
    return _Fit(taus, float(x[0]), x[1:], squares, model=model)


def _search_one(told: _Told, low: float, high: float) -> _Fit:
    grid = np.linspace(low, high, 60)
    bases = _response(told, np.exp(grid))
    squares = [_least(told, bases[:, [k]])[2] for k in range(len(grid))]
    k = int(np.argmin(squares))
    found = scipy.optimize.minimize_scalar(
        lambda g: _solve(told, (math.exp(g),)).squares, bounds=(grid[max(k - 1, 0)], grid[min(k + 1, 59)]), method="bounded", options={"xatol": 1e-6}
    )
    return min((_solve(told, (math.exp(float(found.x)),)), _solve(told, (math.exp(grid[k]),))), key=lambda f: f.squares)


def _search_two(told: _Told, low: float, high: float) -> _Fit | None:
    grid = np.linspace(low, high, max(int(_PER_DECADE * (high - low) / math.log(10)), 8))
    bases = _response(told, np.exp(grid))
    tried = [(_least(told, bases[:, [a, b]])[2], a, b) for a in range(len(grid)) for b in range(a + 1, len(grid))]
    squares, a, b = min(tried)
    if squares >= _NO_FIT:
        return None
    found = scipy.optimize.minimize(  # type: ignore[call-overload]
        lambda g: math.log(_solve(told, (math.exp(g[0]), math.exp(g[1]))).squares) if low - 1 < min(g) and max(g) < high + 1 else 1e6,
        np.array([grid[a], grid[b]]), method="Nelder-Mead", options={"xatol": 1e-6, "fatol": 1e-9, "maxiter": 300},
    )  # fmt: skip
    fit = _solve(told, tuple(sorted(math.exp(g) for g in found.x)))
    return fit if fit.squares < _NO_FIT and fit.taus[1] > 1.5 * fit.taus[0] else None


def _per_kelvin(told: _Told, base: float) -> float:
    """Return what of ``y`` one kelvin makes."""
    return base / (_COPPER + told.start) if told.by_resistance else 1.0


def _ladder(k: FloatArray, taus: FloatArray) -> FloatArray:
    """Return R_w, R_h [K/W], R_w·C_w and R_h·C_h [s] of Foster's K_i, τ_i; of one body R_h and its time constant.

    Z(s) = Σ K_i/(1 + s·τ_i) = 1/(s·C_w + 1/(R_w + R_h/(1 + s·R_h·C_h))), by comparing the coefficients of numerator and denominator.
    """
    if len(k) == 1:
        return np.array([k[0], taus[0]])
    whole, q = k.sum(), k[0] * taus[1] + k[1] * taus[0]
    a1, a2 = taus.sum(), taus[0] * taus[1]
    # Z = (whole + q·s)/(1 + a1·s + a2·s²): C_w from s → ∞, and what is left of 1/Z − s·C_w = (1 + (a1 − C_w·whole)·s)/(whole + q·s)
    cw = a2 / q
    rest = a1 - cw * whole
    rw = q / rest
    rh = whole - rw
    housing_time = rest  # 1/(1 + s·R_h·C_h) of the rest, as R_w + R_h/(1 + s·T) = (whole + R_w·T·s)/(1 + T·s)
    return np.array([rw, rh, rw * cw, housing_time])


def _result(told: _Told, fit: _Fit, span: float, is_two: bool) -> Heating:
    per = _per_kelvin(told, fit.base)
    values = _ladder(fit.gains / per, np.array(fit.taus))
    covariance = _covariance(told, fit)
    jacobian = _slopes(told, fit)
    u = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", jacobian, covariance, jacobian), 0.0))
    if (hanging := _hang_together((told.y - fit.model) * told.weight)) > _STRUCTURED:
        u = np.hypot(u, np.array(_LADDER_DOUBT if is_two else _LADDER_DOUBT[1::2]) * values)
    if told.by_resistance:  # a start that is off scales every thermal resistance
        of_start = _U_START / (_COPPER + told.start)
        u[: 2 if is_two else 1] = np.hypot(u[: 2 if is_two else 1], of_start * values[: 2 if is_two else 1])
    names = (("to_housing", "K/W"), ("to_air", "K/W"), ("winding_time", "s"), ("housing_time", "s")) if is_two else (("whole", "K/W"), ("time", "s"))
    estimates = {name: Estimate.from_u(float(v), unit, float(e), dof=max(len(told.y) / 8 - 5, 1)) for (name, unit), v, e in zip(names, values, u, strict=True)}
    base = told.start if told.by_resistance else fit.base
    measured, model = ((told.y - fit.base) / per + base, (fit.model - fit.base) / per + base)
    findings = _findings(told, fit, span, is_two, model=model, more=hanging > _STRUCTURED)
    by = "resistance" if told.by_resistance else "sensor"
    method = f"{'winding and housing' if is_two else 'one body'}, the winding's temperature by its {by}" + (f", cooling from {told.before:g} W" if told.before else "")
    return Heating(estimates, method, tuple(findings), told.time, measured=measured, model=model, power=told.power, two=is_two)


def _parameters(fit: _Fit) -> FloatArray:
    return np.array([fit.base, *fit.gains, *fit.taus])


def _covariance(told: _Told, fit: _Fit) -> FloatArray:
    """Return the covariance of base, gains and time constants; residuals that hang together count as fewer."""
    p = _parameters(fit)
    count = len(fit.taus)

    def model(q: FloatArray) -> FloatArray:
        return np.asarray((q[0] + _response(told, q[1 + count :]) @ q[1 : 1 + count]) * told.weight)

    columns = []
    for k in range(len(p)):
        step = np.zeros(len(p))
        step[k] = 1e-4 * abs(p[k]) + 1e-12
        columns.append((model(p + step) - model(p - step)) / (2 * step[k]))
    j = np.column_stack(columns)
    scale = np.maximum(np.linalg.norm(j, axis=0), 1e-300)
    residual = (told.y - fit.model) * told.weight
    variance = float(np.sum(residual**2)) / max(len(residual) - len(p), 1) * _hang_together(residual)
    inverse = np.linalg.pinv((j / scale).T @ (j / scale), rcond=1e-13)
    return np.asarray(variance * inverse / np.outer(scale, scale))


def _hang_together(residual: FloatArray) -> float:
    """Return by how much residuals that follow one another raise the variance of a mean: 1 + 2·Σρ_k until ρ falls to nothing."""
    r = residual - residual.mean()
    power = float(np.sum(r**2))
    if power <= 0:
        return 1.0
    total = 1.0
    for lag in range(1, len(r) // 4):
        rho = float(np.sum(r[lag:] * r[:-lag])) / power
        if rho < 0.05:
            break
        total += 2 * rho
    return max(total, 1.0)


def _slopes(told: _Told, fit: _Fit) -> FloatArray:
    """Return how the ladder's values (m,) change with base, gains and time constants."""
    p, count = _parameters(fit), len(fit.taus)

    def values(q: FloatArray) -> FloatArray:
        return _ladder(q[1 : 1 + count] / _per_kelvin(told, q[0]), q[1 + count :])

    columns = []
    for k in range(len(p)):
        step = np.zeros(len(p))
        step[k] = 1e-5 * abs(p[k]) + 1e-12
        columns.append((values(p + step) - values(p - step)) / (2 * step[k]))
    return np.column_stack(columns)


def _findings(told: _Told, fit: _Fit, span: float, is_two: bool, model: FloatArray, *, more: bool) -> list[Finding]:
    found = []
    rise = float(np.ptp(model))
    if rise < 5.0:
        raise Refusal(f"the winding's temperature changes by {rise:.2g} K only", "heat it by 20 K or more, or let it cool from there", code="heating")
    slow = fit.taus[-1]
    if slow > 10 * span:
        raise Refusal("the end of the warming is not in sight: thermal resistances cannot be told from it", "record longer, or with more current (never beyond the winding's limit)", code="heating")
    if slow > 0.8 * span:
        found.append(Finding("caution", "short-heating", f"The slow body takes {slow:.3g} s and the capture {span:.3g} s: what it leads to in the end is extrapolated. Two to three time constants tell it."))
    if not is_two:
        found.append(Finding("caution", "one-body", "Winding and housing cannot be told apart here: a short overload heats the winding faster than one body says. Record the first seconds finely, or with more current."))
    if more and is_two:
        found.append(Finding("info", "more-bodies", "What the two bodies leave out hangs together: the motor has more of them, as most have. Temperatures and times by two are good to some 10 to 15 %."))
    if told.by_resistance and told.before == 0.0:
        found.append(Finding("info", "cold-start", f"The motor is taken as at {told.start:g} °C throughout when the capture begins, which the air stays at: let it rest for hours before."))
    return found
