"""A captured command signal: its duty over time, and the speed that it asks for."""

from __future__ import annotations

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.pwm_outlook import bench_command_map
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.modulation.command_input import CommandMap, CommandSignal
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_CAUTION = (
    "The motor starts when the duty passes its lower end: clamp it, keep clear, and have the supply's limit set."
)
_NOTE = "Direction and enable are two digital inputs beside it: set them before the command rises. Some drives want the command off and on again after power-up."
_DIAL = DialView(caption="A command asks for speed")


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the speed that the command asks for, or how finely a command can ask."""
    try:
        mapped = bench_command_map(bench)
    except Refusal as refusal:
        return Said("–", "", refusal.sentence, dial=_DIAL)
    boxes = (Box("The command input", _rows(mapped, evidence), _NOTE),)
    if evidence is None and mapped.by == "frequency":
        slope = (mapped.speed_high - mapped.speed_low) / (mapped.band_high - mapped.band_low) * RPM_PER_RAD_S
        reason = f"From {show(mapped.band_low, 'Hz')} to {show(mapped.band_high, 'Hz')}. Drop a capture of the command (0/1 or volts). {_caution(mapped)}"
        return Said(f"{slope:.3g} rpm", "for each hertz of the command", reason, dial=_DIAL, boxes=boxes)
    if evidence is None:
        presumed = presumed_text(bench, "plate", "top_speed")
        return Said(
            f"{mapped.steps} steps",
            f"of {mapped.speed_step * RPM_PER_RAD_S:.3g} rpm between the two duties",
            f"{presumed} Drop a capture of the command (0/1 or volts). {_CAUTION}".strip(),
            dial=_DIAL,
            boxes=boxes,
        )
    frequency, duty = evidence.estimates["frequency"].value, evidence.estimates["duty"].value
    level, text = mapped.judge(frequency, duty)
    found = Finding("stop" if level == "stop" else "caution", "command", text)
    return Said(
        f"{grouped(_asked(mapped, evidence) * RPM_PER_RAD_S)} rpm",
        f"asked for by {100 * duty:.2f} % at {show(frequency, 'Hz', 4)}",
        f"{evidence.method}. {_caution(mapped)}",
        findings=(found,) if level != "info" else (),
        dial=_DIAL,
        boxes=boxes,
    )


def _asked(mapped: CommandMap, evidence: Evidence) -> float:
    """Return the speed asked for, rad/s; none outside the legal band."""
    frequency, duty = evidence.estimates["frequency"].value, evidence.estimates["duty"].value
    return mapped.asked(frequency, duty)


def _caution(mapped: CommandMap) -> str:
    return _CAUTION if mapped.by == "duty" else _CAUTION.replace("the duty passes its lower end", "the frequency comes into its band")


def _rows(mapped: CommandMap, evidence: Evidence | None) -> tuple[tuple[str, str], ...]:
    by_duty = [
        ("steps of the command", str(mapped.steps)),
        ("one step", f"{mapped.speed_step * RPM_PER_RAD_S:.3g} rpm"),
        ("ten times finer", f"{10 * mapped.steps} steps"),
        ("half speed, analogue", show(mapped.counterpart(mapped.speed_high / 2), "V")),
        ("below the lower duty", "the motor stands"),
    ]
    by_frequency = [
        ("one hertz", f"{mapped.asked(mapped.band_low + 1.0, 0.5) * RPM_PER_RAD_S:.3g} rpm"),
        ("half speed", show(0.5 * (mapped.band_low + mapped.band_high), "Hz")),
        ("half speed, analogue", show(mapped.counterpart(mapped.speed_high / 2), "V")),
    ]
    rows = by_duty if mapped.by == "duty" else by_frequency
    rows = [*rows, ("outside the band, or level held", "nothing, or a fault")]
    if evidence is not None:
        found = evidence.estimates
        rows += [
            ("frequency", show(found["frequency"].value, "Hz", 4)),
            ("duty", f"{100 * found['duty'].value:.2f} %"),
            ("jitter of the period", f"{100 * found['jitter'].value:.2g} %"),
        ]
    return tuple(rows)


def map_pane(bench: Bench, evidence: Evidence | None) -> Pane:
    """Return speed over duty, with what the command asks for; raises Refusal where the map is not possible."""
    mapped, grid = bench_command_map(bench), np.linspace(0, 1, 201)
    if mapped.by == "frequency":
        return _by_frequency(mapped, evidence)
    speeds = np.array([mapped.speed(float(d)) for d in grid]) * RPM_PER_RAD_S
    curves = [Curve("speed asked for", "measured", 100 * grid, speeds)]
    if evidence is not None:
        x, y = 100 * evidence.estimates["duty"].value, _asked(mapped, evidence) * RPM_PER_RAD_S
        curves.append(Curve("this command", "here", np.array([x]), np.array([y]), shape="points"))
    return Pane("speed over duty", ("duty of the command", "%"), ("speed asked for", "rpm"), tuple(curves))


def _by_frequency(mapped: CommandMap, evidence: Evidence | None) -> Pane:
    hertz = np.linspace(0.8 * mapped.band_low, 1.1 * mapped.band_high, 201)
    speeds = np.array([mapped.asked(float(f), 0.5) for f in hertz]) * RPM_PER_RAD_S
    curves = [Curve("speed asked for", "measured", hertz, speeds)]
    if evidence is not None:
        x, y = evidence.estimates["frequency"].value, _asked(mapped, evidence) * RPM_PER_RAD_S
        curves.append(Curve("this command", "here", np.array([x]), np.array([y]), shape="points"))
    return Pane("speed over frequency", ("frequency of the command", "Hz"), ("speed asked for", "rpm"), tuple(curves))


def panes(_: Capture, result: CommandSignal) -> tuple[Pane, ...]:
    """Return the duty over time."""
    n = len(result.duties)
    curve = Curve("duty", "fit", result.rises[:n], 100 * result.duties)
    return (Pane("duty over time", ("time", "s"), ("duty", "%"), (curve,), printed=True),)


VIEW = View(said, panes)
