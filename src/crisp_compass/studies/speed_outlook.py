"""What a person asks of a designed speed loop, by theory and by the simulated drive: rows of words and figures."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.speed_design import (
    armature_tells,
    counts_of,
    filters_of,
    plant_of,
    rated_load_step,
    sensor_lowest_speed,
    slow_loop,
    timed_by_edges,
)
from crisp_compass.estimates import FloatArray
from crisp_compass.identify.speed_response import first_step
from crisp_compass.loops.filters import NO_FILTERS
from crisp_compass.loops.speed import SpeedDesign, margins_of
from crisp_compass.loops.speed_figures import sensor_noise, swing_answer
from crisp_compass.quantities import grouped, show
from crisp_compass.studies.speed_trial import SpeedTrial

Row = tuple[str, str, str]
_NONE = "–"


def _rpm(speed: float) -> str:
    return f"{grouped(float(f'{speed * RPM_PER_RAD_S:.3g}'))} rpm"


def _or_none(value: float, text: str) -> str:
    return text if math.isfinite(value) else _NONE


def designed_step(design: SpeedDesign, *, filtered: bool) -> tuple[float, float]:
    """Return overshoot [%] and settling to ±2 % [s] of the true speed by theory."""
    ts, crossover = design.loop.ts, design.margins.crossover_hz
    steps = int(min(max(8 / crossover / ts, 60), 60000)) if math.isfinite(crossover) else 2000
    y = design.step(steps, filtered=filtered)
    t: FloatArray = np.arange(-1, steps).astype(np.float64) * ts
    over, _, settling = first_step(t, np.concatenate([[0.0], np.ones(steps)]), np.concatenate([[0.0], y]))
    return over, settling


def figures(bench: Bench, design: SpeedDesign, trial: SpeedTrial | None, *, waits: bool = False) -> list[Row]:
    """Return name, figure by theory and figure of the simulated drive; a dash where there is none, dots while it ``waits`` for its trial."""
    none = "…" if waits and trial is None else _NONE
    filtered = bench.settings.speed_loop.set_point == "filtered"
    if not design.margins.stable:
        return []
    over, settling = designed_step(design, filtered=filtered)
    plant = plant_of(bench)
    rows: list[Row] = [
        ("overshoot" + (", set-point filtered" if filtered else ""), _or_none(over, f"{over:.0f} %"), _or_none(trial.overshoot, f"{trial.overshoot:.0f} %") if trial else none),
        ("settles to ±2 %", _or_none(settling, show(settling, "s", 2)), _or_none(trial.settling, show(trial.settling, "s", 2)) if trial else none),
    ]
    loaded = rated_load_step(bench, design)
    if loaded is not None:
        torque, step = loaded
        rows += [
            (f"dip at a sudden {show(torque, 'N·m', 2)}", _rpm(step.dip * torque), _rpm(trial.dip * torque) if trial else none),
            ("a tenth of it left after", show(step.recovery, "s", 2), show(trial.recovery, "s", 2) if trial else none),
            ("stiffness", show(step.stiffness, "N·m/rad", 3), ""),
        ]
    run = bench.settings.run
    if run.swing and not armature_tells(bench):
        at = trial.at if trial is not None else abs(run.speed)
        answer = swing_answer(plant, design.kp, design.ki, run.swing_order * at / (2 * math.pi))
        rows.append((f"swings at {grouped(at * RPM_PER_RAD_S)} rpm by", f"±{_rpm(answer * run.swing)}" if answer is not None else _NONE, f"±{_rpm(trial.swing)}" if trial and math.isfinite(trial.swing) else none))
    counts = counts_of(bench)
    noise = sensor_noise(plant, design.kp, design.ki, counts) if counts is not None else None
    if noise is not None or trial is not None:
        rows.append((
            "current's ripple, turning", f"{show(noise[0], 'A', 2)} rms" if noise else _NONE,
            f"{show(trial.noise, 'A', 2)} rms" if trial else none,
        ))  # fmt: skip
    if noise is not None and counts is not None:
        lowest = 2 * math.pi / counts * min(plant.loop_hz, 2 * math.pi * plant.filter_hz if plant.filter_hz else math.inf)
        rows += [
            ("kick of one count at rest", show(noise[1], "A", 2), ""),
            ("single counts below", _rpm(lowest), ""),
        ]
    slow = slow_loop(bench, design)
    if slow is not None:
        m = slow
        told = f"{show(m.crossover_hz, 'Hz')}, {m.phase_margin_deg:.0f}°" if m.stable and math.isfinite(m.crossover_hz) and math.isfinite(m.phase_margin_deg) else "no crossing" if m.stable else "unstable"
        rows.append((f"below {_rpm(bench.settings.speed_loop.slow_below or 0.0)}", told, ""))
    if timed_by_edges(bench):
        slowest = sensor_lowest_speed(bench, design)
        rows.append(("calm down to", _rpm(slowest) if slowest < 1e5 else "no speed", ""))
    return rows


def filters_cost(bench: Bench, design: SpeedDesign) -> str:
    """Return what the filters of the torque current cost in margin with these very gains, in a sentence; empty without one."""
    filters = filters_of(bench)
    if not filters.any or armature_tells(bench):
        return ""
    bare = margins_of(replace(plant_of(bench), filters=NO_FILTERS), design.kp, design.ki)
    if not (math.isfinite(bare.phase_margin_deg) and math.isfinite(design.margins.phase_margin_deg)):
        return ""
    cost = bare.phase_margin_deg - design.margins.phase_margin_deg
    named = [f"low-pass at {show(filters.low_pass_hz, 'Hz')}"] if filters.low_pass_hz else []
    named += [f"notch at {show(filters.notch.hz, 'Hz')}"] if filters.notch else []
    text = " and ".join(named)
    effect = f"costs {cost:.1f}°" if cost >= 0 else f"gives {-cost:.1f}°"
    return f"{text[:1].upper()}{text[1:]} in the torque current: {show(filters.lag(1 / plant_of(bench).loop_hz), 's')} of lag, {effect} of margin with these gains."

