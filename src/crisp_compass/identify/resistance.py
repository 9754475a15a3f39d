"""Phase resistance from a DC staircase.

Model. Between two terminals, third open: v_ab = 2·R·i_a + offset. Through the drive's own bridge, current held
along phase A: v_cmd = R·i_a + s·sign(i_a) + c, where s is the voltage lost to dead time and switches (4/3 of one
leg's loss, docs/theory.md “Dead time”) and c covers an offset of the current sensor. The slope is taken, never the
quotient, so no offset biases R. Near zero current the dead-time voltage is not fully developed; those levels are
left out until the rest lie on the model.

Levels carry their own uncertainty; the line is fitted with the effective variance u_v² + (slope·u_i)² (P. R.
Bevington, D. K. Robinson, Data Reduction and Error Analysis, 3rd ed. 2003, 6.3). If the scatter exceeds what the
levels' uncertainties explain, u is enlarged by the Birge ratio (R. T. Birge, Phys. Rev. 40, 1932, 207).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.levels import Levels, find_levels
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise, pile_up
from crisp_compass.conversions import resistance_at
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Result
from crisp_compass.identify.circuit import circuit_factor
from crisp_compass.quantities import show

#: Part of the largest current below which the dead-time voltage is not relied on (common practice).
_KNEE_REACH = 0.22
#: Standard deviation of the part of the voltage loss that may still be missing at the smallest current used. It
#: enters as a decaying term with this prior, so good data decide it and poor data widen the error bar.
_KNEE_DOUBT = 0.05


@dataclass(frozen=True)
class ResistanceResult(Result):
    """Resistance with what a plot needs.

    ``current`` [A], ``voltage`` [V], ``residual`` [V] and ``used`` have shape (k,), one entry a level; ``spans``
    (k, 2) holds the settled stretch of each in s; ``line_current``/``line_voltage`` (m,) trace the fitted model.
    """

    current: FloatArray
    voltage: FloatArray
    residual: FloatArray
    used: BoolArray
    spans: FloatArray
    line_current: FloatArray
    line_voltage: FloatArray
    voltage_name: str

    def settled_lines(self) -> tuple[FloatArray, FloatArray]:
        """Return the settled stretches as one broken line: time [s] and mean current [A], NaN between them."""
        gap = np.full(len(self.current), np.nan)
        x = np.column_stack([self.spans, gap]).ravel()
        y = np.column_stack([self.current, self.current, gap]).ravel()
        return x, y


@dataclass(frozen=True)
class _Fit:
    coefficients: FloatArray
    covariance: FloatArray
    chi2: float
    dof: int
    knee: float  # significance of a voltage loss that is still growing, in standard deviations
    reach: float  # largest residual as a part of the voltage span

    @property
    def probability(self) -> float:
        return float(scipy.special.chdtrc(self.dof, self.chi2)) if self.dof > 0 else 1.0

    @property
    def birge(self) -> float:
        return math.sqrt(max(self.chi2 / self.dof, 1.0)) if self.dof > 0 else 1.0


def fit_resistance(
    capture: Capture,
    *,
    temperature_c: float | None = None,
    reference_c: float | None = None,
    rule: str = "iec",
    cable: float = 0.0,
) -> ResistanceResult:
    """Estimate the phase resistance from DC levels.

    Parameters
    ----------
    capture
        ``v_ab`` and ``i_a`` (terminals A and B, C open), or ``v_cmd`` and ``i_a`` (through the bridge).
    temperature_c
        Winding temperature during the capture, °C; without it the note ``temperature_c`` is used.
    reference_c
        Temperature to bring the result to, °C.
    rule
        Copper's rule, ``iec`` (235) or ``ieee`` (234.5).
    cable
        Resistance of one lead, Ω, subtracted from each phase.

    Returns
    -------
    ResistanceResult
        ``resistance`` [Ω, phase of the star], ``voltage_offset`` [V], with temperatures
        ``resistance_at_reference`` [Ω].

    Raises
    ------
    Refusal
        Missing or constant channel, too few levels, currents all alike, reversed sign.
    """
    bridge = "v_ab" not in capture and "v_cmd" in capture
    name = "v_cmd" if bridge else "v_ab"
    factor = 1.0 if bridge else circuit_factor(capture)
    v, i = capture.require(name, "i_a", samples=20)
    levels = find_levels([v, i], exact=(0,) if bridge and _is_command(v) else ())
    findings = list(capture.findings)
    keep = _unclipped(capture, name, levels, findings)
    current, voltage = levels.means[:, 1], levels.means[:, 0]
    _check_levels(capture, current[keep], levels.u[keep, 1])
    fit, keep, columns = _fit(levels, keep, bridge, findings, capture)
    model = _design(current, columns) @ fit.coefficients
    value = _resistance(fit, factor, findings, capture.source)
    if cable:
        value = Estimate(value.value - cable, value.unit, value.u, value.low - cable, value.high - cable)
    estimates = {"resistance": value, "voltage_offset": _offset(fit, columns)}
    temperature = temperature_c if temperature_c is not None else capture.note_number("temperature_c")
    for option, given in (("--temperature", temperature), ("--reference-temperature", reference_c)):
        if given is not None and not -100 <= given <= 400:
            raise Refusal(f"{given:g} °C cannot be a winding's temperature", "give it in °C", where=option)
    if reference_c is not None and temperature is None:
        raise Refusal(
            "the winding's temperature is not known", "give --temperature too", where="--reference-temperature"
        )
    if reference_c is not None and temperature is not None:
        ratio = resistance_at(1.0, temperature, reference_c, rule)
        estimates["resistance_at_reference"] = value.scaled(ratio)
    grid = np.unique(np.concatenate([np.linspace(current.min(), current.max(), 60), [-1e-9, 1e-9]]))
    grid = grid[(grid >= current.min()) & (grid <= current.max())]
    spans = np.column_stack([capture.time[levels.first], capture.time[levels.last - 1]])
    return ResistanceResult(
        estimates, _method(bridge, columns, int(keep.sum()), current), tuple(findings), current, voltage,
        voltage - model, keep, spans, grid, _design(grid, columns) @ fit.coefficients, name,
    )  # fmt: skip


def _is_command(values: FloatArray) -> bool:
    """A commanded voltage has no noise; a measured one is treated as measured even under that name."""
    return noise(values) < 1e-6 * float(np.ptp(values)) or len(np.unique(values)) < len(values) / 10


def _check_levels(capture: Capture, current: FloatArray, u: FloatArray) -> None:
    if len(current) < 3:
        raise Refusal(
            f"{len(current)} settled current level{'s' if len(current) != 1 else ''} found",
            "a staircase of at least 3 levels is needed, each held until the current is steady",
            where=capture.source,
        )
    span = float(np.ptp(current))
    if span < 0.02 * float(np.max(np.abs(current))) or span < 10 * float(np.median(u)):
        raise Refusal(
            "the current levels are all alike",
            "spread them, best from a tenth of rated current up to it",
            where=capture.source,
        )


def _unclipped(capture: Capture, name: str, levels: Levels, findings: list[Finding]) -> BoolArray:
    """Leave out levels that a converter cut off: their samples sit at the rail and the others' line overshoots it."""
    keep = np.ones(len(levels.first), dtype=np.bool_)
    suspects = np.zeros((len(keep), 2), dtype=np.bool_)
    for column, channel in enumerate((name, "i_a")):
        if channel == "v_cmd":
            continue
        flags = pile_up(capture[channel])
        suspects[:, column] = [
            float(np.mean(flags[a:b])) > 0.3 for a, b in zip(levels.first, levels.last, strict=True)
        ]
    sound = ~suspects.any(axis=1)
    for column, channel in enumerate((name, "i_a")):
        if not suspects[:, column].any():
            continue
        clipped = suspects[:, column]
        if sound.sum() >= 3:
            other = 1 - column
            slope, base = np.polyfit(levels.means[sound, other], levels.means[sound, column], 1)
            expected = slope * levels.means[:, other] + base
            reach = float(np.ptp(levels.means[sound, column]))
            beyond = np.abs(expected) - np.abs(levels.means[:, column])
            clipped = clipped & (beyond > 0.01 * reach + 6 * levels.u[:, column])
        elif sound.sum() < 3:
            same = [
                int((np.abs(levels.means[:, column] - m) < 1e-9 + 3 * u).sum())
                for m, u in zip(levels.means[:, column], levels.u[:, column], strict=True)
            ]
            clipped = clipped & (np.array(same) > 1)
        if clipped.any():
            keep &= ~clipped
            findings.append(
                Finding(
                    "caution",
                    "clipped-levels-left-out",
                    f"{int(clipped.sum())} level(s) were left out: {channel} is cut off at the end of its range.",
                )
            )
    if keep.sum() < 3 and not keep.all():
        raise Refusal(
            "the channels are cut off at the end of their range on most levels",
            "use a larger range",
            where=capture.source,
        )
    return keep


def _design(current: FloatArray, columns: tuple[str, ...]) -> FloatArray:
    parts = {"slope": current, "sign": np.sign(current), "constant": np.ones_like(current)}
    return np.column_stack([parts[c] for c in columns])


def _solve(levels: Levels, keep: BoolArray, columns: tuple[str, ...]) -> _Fit:
    current, voltage = levels.means[keep, 1], levels.means[keep, 0]
    design = _design(current, columns)
    tail = "sign" in columns
    if tail:
        size = np.abs(current)
        smallest = np.where(current > 0, *(np.min(size[side], initial=np.inf) for side in (current > 0, current < 0)))
        decay = np.exp(-4 * (size / smallest - 1))
        design = np.column_stack([design, -np.sign(current) * decay])
    loss = 0.0
    slope = float(np.polyfit(current, voltage, 1)[0])
    floor = 1e-9 * float(np.ptp(voltage))
    for _ in range(4):
        sigma = np.sqrt(levels.u[keep, 0] ** 2 + (slope * levels.u[keep, 1]) ** 2 + floor**2)
        weighted, right = design / sigma[:, None], voltage / sigma
        if tail and loss > 0:
            row = np.zeros(design.shape[1])
            row[-1] = 1 / (_KNEE_DOUBT * loss)
            weighted, right = np.vstack([weighted, row]), np.append(right, 0.0)
        elif tail:
            weighted = weighted[:, :-1]
        norm = np.linalg.norm(weighted, axis=0)
        covariance = np.linalg.pinv((weighted / norm).T @ (weighted / norm)) / np.outer(norm, norm)
        coefficients = covariance @ weighted.T @ right
        slope = float(coefficients[0])
        loss = abs(float(coefficients[1])) if tail else 0.0
    chi2 = float(np.sum((right - weighted @ coefficients) ** 2))
    m = len(columns)
    knee = abs(float(coefficients[m])) / math.sqrt(float(covariance[m, m])) if len(coefficients) > m else 0.0
    largest = float(np.max(np.abs(voltage - design[:, :m] @ coefficients[:m])) / np.ptp(voltage))
    return _Fit(coefficients[:m], covariance[:m, :m], chi2, len(current) - m, knee, largest)


def _fit(
    levels: Levels, keep: BoolArray, bridge: bool, findings: list[Finding], capture: Capture
) -> tuple[_Fit, BoolArray, tuple[str, ...]]:
    current = levels.means[:, 1]
    largest = float(np.max(np.abs(current[keep])))
    columns: tuple[str, ...] = ("slope", "constant")
    if bridge:
        keep = keep & (np.abs(current) > 0.02 * largest)
        outer = keep & (np.abs(current) > _KNEE_REACH * largest)
        if _magnitudes(current[outer]) >= 3:
            keep = outer
        if keep.sum() < 3:
            raise Refusal(
                "too few levels carry current",
                "at least 3 levels above a tenth of the largest are needed",
                where=capture.source,
            )
        both = min((current[keep] > 0).sum(), (current[keep] < 0).sum()) >= 2
        columns = ("slope", "sign", "constant") if both else ("slope", "sign")
        if not both:
            side = np.sign(np.sum(np.sign(current[keep])))
            keep = keep & (np.sign(current) == side)
            findings.append(
                Finding(
                    "info",
                    "one-sided",
                    "All levels lie on one side of zero: a current sensor offset cannot be told from the bridge's voltage loss.",
                )
            )
            if keep.sum() < 3:
                raise Refusal(
                    "too few levels lie on one side of zero",
                    "at least 3 levels of one sign, or 2 of each, are needed",
                    where=capture.source,
                )
    fit = _solve(levels, keep, columns)
    if bridge and _magnitudes(current[keep]) < 3:
        findings.append(
            Finding(
                "caution",
                "knee-unchecked",
                "Only two current magnitudes carry the result: whether the bridge's voltage loss is fully developed at the smaller one cannot be checked; take more levels.",
            )
        )
    if bridge:
        fit, keep = _leave_out_knee(levels, keep, columns, fit, findings)
    if fit.dof > 0 and fit.probability < 1e-3 and fit.reach > 1e-4:
        _explain_misfit(levels, keep, columns, fit, findings)
    return fit, keep, columns


def _magnitudes(current: FloatArray) -> int:
    """Count distinct current magnitudes (a tenth of the largest apart)."""
    size = np.sort(np.abs(current))
    return int(1 + np.sum(np.diff(size) > 0.1 * size[-1])) if len(size) else 0


def _leave_out_knee(
    levels: Levels, keep: BoolArray, columns: tuple[str, ...], fit: _Fit, findings: list[Finding]
) -> tuple[_Fit, BoolArray]:
    """Drop the smallest currents while that brings the rest clearly closer to the model."""
    current = np.abs(levels.means[:, 1])
    best, best_keep = fit, keep
    trial = keep.copy()
    while trial.sum() - 1 > len(columns) and (best.probability < 0.05 or best.knee > 1.5):
        smallest = np.min(current[trial])
        trial = trial & ~((current < smallest * 1.1 + 1e-12) & trial)
        signs = np.sign(levels.means[trial, 1])
        if (
            trial.sum() <= len(columns)
            or _magnitudes(current[trial]) < 3
            or ("constant" in columns and min((signs > 0).sum(), (signs < 0).sum()) < 2)
        ):
            break
        candidate = _solve(levels, trial, columns)
        if best.knee > 1.5 or candidate.chi2 / candidate.dof < 0.5 * best.chi2 / max(best.dof, 1):
            best, best_keep = candidate, trial.copy()
    dropped = int(keep.sum() - best_keep.sum())
    if dropped:
        findings.append(
            Finding(
                "info",
                "knee-left-out",
                f"{dropped} level(s) near zero current were left out: the bridge's dead-time voltage is not fully developed there.",
            )
        )
    return best, best_keep


def _explain_misfit(
    levels: Levels, keep: BoolArray, columns: tuple[str, ...], fit: _Fit, findings: list[Finding]
) -> None:
    current, voltage = levels.means[keep, 1], levels.means[keep, 0]
    residual = voltage - _design(current, columns) @ fit.coefficients
    relative = float(np.max(np.abs(residual)) / np.ptp(voltage))
    heating = np.column_stack([_design(current, columns), current * current**2])
    bent, *_ = np.linalg.lstsq(heating, voltage, rcond=None)
    remaining = voltage - heating @ bent
    grows = bent[-1] * fit.coefficients[0] > 0
    explained = len(current) > heating.shape[1] and float(np.sum(remaining**2)) < 0.25 * float(np.sum(residual**2))
    if explained and grows:
        text = "The voltage grows faster than the current: the winding probably warmed up during the capture; use shorter or smaller levels."
        findings.append(Finding("caution", "self-heating", text))
    else:
        text = f"The levels scatter by up to {100 * relative:.2g} % of the voltage, more than their noise explains; the error bar is widened accordingly."
        findings.append(Finding("caution", "levels-scatter", text))


def _resistance(fit: _Fit, factor: float, findings: list[Finding], source: str) -> Estimate:
    slope = float(fit.coefficients[0])
    if slope <= 0:
        raise Refusal(
            "the voltage falls while the current rises",
            "one channel is reversed; map it with a minus sign (i_a=-i_a)",
            where=source,
        )
    misfit = fit.probability < 1e-3
    u = math.sqrt(float(fit.covariance[0, 0])) * (fit.birge if misfit else 1.0)
    estimate = Estimate.from_u(slope / factor, "Ω", u / factor, dof=fit.dof if misfit else math.inf)
    if estimate.u > 0.05 * estimate.value:
        findings.append(
            Finding(
                "caution",
                "wide-error-bar",
                f"The error bar is {show(estimate.high - estimate.value, 'Ω', 2)} wide to each side; use larger currents or longer levels.",
            )
        )
    return estimate


def _offset(fit: _Fit, columns: tuple[str, ...]) -> Estimate:
    index = columns.index("sign") if "sign" in columns else columns.index("constant")
    misfit = fit.probability < 1e-3
    u = math.sqrt(float(fit.covariance[index, index])) * (fit.birge if misfit else 1.0)
    return Estimate.from_u(float(fit.coefficients[index]), "V", u, dof=fit.dof if misfit else math.inf)


def _method(bridge: bool, columns: tuple[str, ...], used: int, current: FloatArray) -> str:
    reach = show(float(np.max(np.abs(current))), "A")
    through = "through the bridge" if bridge else "between A and B"
    sides = "both directions" if current.min() < 0 < current.max() else "one direction"
    return f"DC staircase {through}, {used} levels up to {reach}, {sides}; slope of voltage over current"
