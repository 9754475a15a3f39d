"""Phase resistance from a DC staircase.

Model. Between two terminals, third open: v_ab = 2·R·i_a + offset (of one winding or an armature, R·i), and where both directions
are there and say so a drop that follows the current's sign (a diode, a contact); brushes always have one. Through the drive's own bridge, current held along phase A, the voltage
lost to dead time grows with the current and then stays: ``identify.bridge_loss``. The slope is taken, never the quotient, so no
offset biases R.

Levels carry their own uncertainty; the line is fitted with the effective variance u_v² + (slope·u_i)² (P. R.
Bevington, D. K. Robinson, Data Reduction and Error Analysis, 3rd ed. 2003, 6.3). If the scatter exceeds what the
levels' uncertainties explain, u is enlarged by the Birge ratio (R. T. Birge, Phys. Rev. 40, 1932, 207).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from crisp_compass.capture.levels import Levels, find_levels
from crisp_compass.capture.model import Capture
from crisp_compass.capture.quality import noise, pile_up
from crisp_compass.conversions import resistance_at
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Estimate, Finding, FloatArray, Result
from crisp_compass.identify.bridge_loss import LossLine, fit_loss_line
from crisp_compass.identify.circuit import Terminals, family_of_capture, terminals_of
from crisp_compass.quantities import show

#: Standard uncertainties of a drop along the current's sign before it joins the model.
_DROP_SHOWS = 2.0


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
    current_name: str = "i_a"

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
    family: str | None = None,
    temperature_c: float | None = None,
    reference_c: float | None = None,
    rule: str = "iec",
    cable: float = 0.0,
) -> ResistanceResult:
    """Estimate the phase resistance from DC levels.

    Parameters
    ----------
    capture
        ``v_ab`` and ``i_a`` (terminals A and B, C open), or ``v_cmd`` and ``i_a`` (through the bridge); of a stepper
        ``v_a`` and ``i_a`` or ``v_b`` and ``i_b``, of a brushed motor ``v_m`` and ``i_m``.
    family
        ``pm``, ``stepper``, ``brushed`` or ``induction``; without it what the capture's note says, else ``pm``.
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
        ``resistance`` [Ω, phase of the star; winding; armature], ``voltage_offset`` [V; the brush drop of a brushed motor, left
        out where one direction cannot tell it], with temperatures ``resistance_at_reference`` [Ω].

    Raises
    ------
    Refusal
        Missing or constant channel, too few levels, currents all alike, reversed sign.
    """
    if not len(capture.time):
        raise Refusal(
            "there is no time column", "name it t [s] or map it: t=SOURCE", where=capture.source, code="channels"
        )
    kind = family_of_capture(capture, family)
    bridge = "v_ab" not in capture and "v_cmd" in capture
    at = Terminals("v_cmd", "i_a", 1.0, "through the bridge") if bridge else terminals_of(capture, kind)
    name = at.voltage
    v, i = capture.require(name, at.current, samples=20)
    levels = find_levels([v, i], exact=(0,) if bridge and _is_command(v) else ())
    findings = list(capture.findings)
    keep = _unclipped(capture, at, levels, findings)
    current, voltage = levels.means[:, 1], levels.means[:, 0]
    _check_levels(capture, current[keep], levels.u[keep, 1])
    offset: Estimate | None
    if bridge:
        line, keep = _through_bridge(levels, keep, findings, capture)
        value, offset = _checked(line.slope, findings, capture.source), line.loss
        columns: tuple[str, ...] = ("slope", "sign")
        curve: Callable[[FloatArray], FloatArray] = line.at
    else:
        fit, columns = _fit_brushes(levels, keep, findings) if at.brushes else _fit(levels, keep, findings)
        value, offset = _resistance(fit, at.factor, findings, capture.source), _offset(fit, columns, at)

        def curve(x: FloatArray) -> FloatArray:
            return np.asarray(_design(x, columns) @ fit.coefficients)

    model = curve(current)
    if cable:
        value = Estimate(value.value - cable, value.unit, value.u, value.low - cable, high=value.high - cable)
    estimates = {"resistance": value} if offset is None else {"resistance": value, "voltage_offset": offset}
    temperature = temperature_c if temperature_c is not None else capture.note_number("temperature_c")
    for option, given in (("--temperature", temperature), ("--reference-temperature", reference_c)):
        if given is not None and not -100 <= given <= 400:
            raise Refusal(f"{given:g} °C cannot be a winding's temperature", "give it in °C", where=option)
    if reference_c is not None and temperature is None:
        raise Refusal(
            "the winding's temperature is missing", "give --temperature too", where="--reference-temperature"
        )
    if reference_c is not None and temperature is not None:
        ratio = resistance_at(1.0, temperature, reference_c, rule)
        estimates["resistance_at_reference"] = value.scaled(ratio)
    grid = np.unique(np.concatenate([np.linspace(current.min(), current.max(), 60), [-1e-9, 1e-9]]))
    grid = grid[(grid >= current.min()) & (grid <= current.max())]
    spans = np.column_stack([capture.time[levels.first], capture.time[levels.last - 1]])
    return ResistanceResult(
        estimates, _method(at, int(keep.sum()), current), tuple(findings), current, voltage=voltage,
        residual=voltage - model, used=keep, spans=spans, line_current=grid, line_voltage=curve(grid), voltage_name=name, current_name=at.current,
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


def _unclipped(capture: Capture, at: Terminals, levels: Levels, findings: list[Finding]) -> BoolArray:
    """Leave out levels that a converter cut off: their samples sit at the rail and the others' line overshoots it."""
    keep = np.ones(len(levels.first), dtype=np.bool_)
    suspects = np.zeros((len(keep), 2), dtype=np.bool_)
    for column, channel in enumerate((at.voltage, at.current)):
        if channel == "v_cmd":
            continue
        flags = pile_up(capture[channel])
        suspects[:, column] = [
            float(np.mean(flags[a:b])) > 0.3 for a, b in zip(levels.first, levels.last, strict=True)
        ]
    sound = ~suspects.any(axis=1)
    for column, channel in enumerate((at.voltage, at.current)):
        if not suspects[:, column].any():
            continue
        clipped = suspects[:, column]
        if sound.sum() >= 3:
            other = 1 - column
            parts = [levels.means[:, other], np.ones(len(keep))]
            if at.brushes and sound.sum() > 3:  # their drop turns with the current
                parts.append(np.sign(levels.means[:, 1]))
            design = np.column_stack(parts)
            line, *_ = np.linalg.lstsq(design[sound], levels.means[sound, column], rcond=None)
            expected = design @ line
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
    slope = float(np.polyfit(current, voltage, 1)[0])
    floor = 1e-9 * float(np.ptp(voltage))
    for _ in range(4):
        sigma = np.sqrt(levels.u[keep, 0] ** 2 + (slope * levels.u[keep, 1]) ** 2 + floor**2)
        weighted, right = design / sigma[:, None], voltage / sigma
        norm = np.linalg.norm(weighted, axis=0)
        covariance = np.linalg.pinv((weighted / norm).T @ (weighted / norm)) / np.outer(norm, norm)
        coefficients = covariance @ weighted.T @ right
        slope = float(coefficients[0])
    chi2 = float(np.sum((right - weighted @ coefficients) ** 2))
    largest = float(np.max(np.abs(voltage - design @ coefficients)) / np.ptp(voltage))
    return _Fit(coefficients, covariance, chi2, len(current) - len(columns), reach=largest)


def _fit(levels: Levels, keep: BoolArray, findings: list[Finding]) -> tuple[_Fit, tuple[str, ...]]:
    """Fit a line; where both directions are there, a drop along the current's sign is tried beside it."""
    current = levels.means[keep, 1]
    columns: tuple[str, ...] = ("slope", "constant")
    fit = _solve(levels, keep, columns)
    clear = np.abs(current) > 0.02 * float(np.max(np.abs(current)))
    if min((current[clear] > 0).sum(), (current[clear] < 0).sum()) >= 2 and keep.sum() > 4:
        away = keep.copy()
        away[keep] = clear  # at rest a drop has no sign
        dropped = _solve(levels, away, ("slope", "sign", "constant"))
        drop, u = float(dropped.coefficients[1]), math.sqrt(float(dropped.covariance[1, 1])) * dropped.birge
        if (
            dropped.dof > 0
            and abs(drop) > _DROP_SHOWS * u
            and dropped.chi2 / dropped.dof < fit.chi2 / max(fit.dof, 1)
        ):
            fit, columns = dropped, ("slope", "sign", "constant")
            text = f"A drop of {show(abs(drop), 'V')} follows the current's sign (a diode, a contact, brushes); it is taken out of R."
            findings.append(Finding("caution" if abs(drop) > 4 * u else "info", "drop-follows-sign", text))
    if fit.dof > 0 and fit.probability < 1e-3 and fit.reach > 1e-4:
        _explain_misfit(levels, keep, columns, fit, findings=findings)
    return fit, columns


def _fit_brushes(levels: Levels, keep: BoolArray, findings: list[Finding]) -> tuple[_Fit, tuple[str, ...]]:
    """Fit a line with the brushes' drop, where both directions tell it; levels without current tell nothing of it."""
    current = levels.means[:, 1]
    flowing = keep & (np.abs(current) > 0.02 * float(np.max(np.abs(current[keep]))))
    sides = min((current[flowing] > 0).sum(), (current[flowing] < 0).sum())
    if sides < 2 or flowing.sum() < 4:
        side = np.sign(np.sum(np.sign(current[flowing])))
        one = flowing & (np.sign(current) == side)
        if one.sum() < 3:
            raise Refusal(
                "too few levels carry current in one direction", "3 levels of one sign, or 2 of each, are needed"
            )
        text = "The current has one direction only: the brushes' drop cannot be told from an offset of the voltage, and is left out; take levels of both signs."
        findings.append(Finding("info", "brush-drop-unknown", text))
        keep &= one
        columns: tuple[str, ...] = ("slope", "constant")
    else:
        keep &= flowing
        columns = ("slope", "sign", "constant")
    fit = _solve(levels, keep, columns)
    if fit.dof > 0 and fit.probability < 1e-3 and fit.reach > 1e-4:
        _explain_misfit(levels, keep, columns, fit, findings=findings)
    return fit, columns


def _through_bridge(
    levels: Levels, keep: BoolArray, findings: list[Finding], capture: Capture
) -> tuple[LossLine, BoolArray]:
    """Fit the levels that carry current, those of one sign where the other has fewer than two."""
    current = levels.means[:, 1]
    keep = keep & (np.abs(current) > 0.02 * float(np.max(np.abs(current[keep]))))
    if keep.sum() < 3:
        raise Refusal(
            "too few levels carry current",
            "at least 3 levels above a tenth of the largest are needed",
            where=capture.source,
        )
    if min((current[keep] > 0).sum(), (current[keep] < 0).sum()) < 2:
        side = np.sign(np.sum(np.sign(current[keep])))
        keep = keep & (np.sign(current) == side)
        findings.append(
            Finding(
                "info",
                "one-sided",
                "All levels lie on one side of zero: a current sensor offset cannot be separated from the bridge's voltage loss.",
            )
        )
        if keep.sum() < 3:
            raise Refusal(
                "too few levels lie on one side of zero",
                "at least 3 levels of one sign, or 2 of each, are needed",
                where=capture.source,
            )
    if _magnitudes(current[keep]) < 3:
        findings.append(
            Finding(
                "caution",
                "knee-unchecked",
                "Only two current magnitudes carry the result: whether the bridge's voltage loss is fully developed at the smaller one cannot be checked; take more levels.",
            )
        )
    line = fit_loss_line(current[keep], levels.means[keep, 0], levels.u[keep, 0], levels.u[keep, 1])
    part = float(np.min(line.grown(current[keep])))
    if part < 0.9 and line.loss.value > 2 * line.loss.u:
        text = f"At the smallest current {100 * (1 - part):.0f} % of the bridge's voltage loss is still missing; its growth is part of the fit."
        findings.append(Finding("info", "knee-fitted", text))
    if line.probability < 1e-3:
        residual = levels.means[keep, 0] - line.at(current[keep])
        share = float(np.max(np.abs(residual)) / np.ptp(levels.means[keep, 0]))
        if share > 1e-4:
            text = f"The levels scatter by up to {100 * share:.2g} % of the voltage, more than their noise explains; the error bar is widened accordingly."
            findings.append(Finding("caution", "levels-scatter", text))
    return line, keep


def _magnitudes(current: FloatArray) -> int:
    """Count distinct current magnitudes (a tenth of the largest apart)."""
    size = np.sort(np.abs(current))
    return int(1 + np.sum(np.diff(size) > 0.1 * size[-1])) if len(size) else 0


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
    slope, misfit = float(fit.coefficients[0]), fit.probability < 1e-3
    u = math.sqrt(float(fit.covariance[0, 0])) * (fit.birge if misfit else 1.0)
    estimate = Estimate.from_u(slope / factor, "Ω", u / factor, dof=fit.dof if misfit else math.inf)
    return _checked(estimate, findings, source)


def _checked(estimate: Estimate, findings: list[Finding], source: str) -> Estimate:
    if estimate.value <= 0:
        raise Refusal(
            "the voltage falls while the current rises",
            "one channel is reversed; map it with a minus sign (i_a=-i_a)",
            where=source,
        )
    if estimate.u > 0.05 * estimate.value:
        findings.append(
            Finding(
                "caution",
                "wide-error-bar",
                f"The error bar is {show(estimate.high - estimate.value, 'Ω', 2)} wide to each side; use larger currents or longer levels.",
            )
        )
    return estimate


def _offset(fit: _Fit, columns: tuple[str, ...], at: Terminals) -> Estimate | None:
    """Return what does not grow with the current: the constant, of a brushed motor the drop of its brushes."""
    if at.brushes and "sign" not in columns:
        return None
    index = columns.index("sign" if at.brushes else "constant")
    misfit = fit.probability < 1e-3
    u = math.sqrt(float(fit.covariance[index, index])) * (fit.birge if misfit else 1.0)
    return Estimate.from_u(float(fit.coefficients[index]), "V", u, dof=fit.dof if misfit else math.inf)


def _method(at: Terminals, used: int, current: FloatArray) -> str:
    reach = show(float(np.max(np.abs(current))), "A")
    sides = "both directions" if current.min() < 0 < current.max() else "one direction"
    return f"DC staircase {at.place}, {used} levels up to {reach}, {sides}; slope of voltage over current"
