"""What people type into a field beside a plain figure: ``1.8°`` for steps, ``2500 ppr`` for counts, ``50 Hz`` for a speed, ``3 s`` for a ramp."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from crisp_compass.errors import Refusal
from crisp_compass.quantities import UNITS, from_si, parse, show, significant

#: Lines of an encoder: each gives four counts.
_LINES = re.compile(r"\s*(ppr|lpr|cpr|lines?|pulses?|l/r|p/r)(\s*(/|per)\s*(turn|rev))?\.?\s*$", re.IGNORECASE)
_COUNTS = re.compile(r"\s*counts?(\s*(/|per)\s*(turn|rev))?\.?\s*$", re.IGNORECASE)
_STEP = re.compile(r"\s*(°|deg|degrees?)\s*(/|per)?\s*(full\s*)?(step)?\s*$", re.IGNORECASE)
_HERTZ = re.compile(r"[\d.,\s][kM]?\s*(Hz|hz|1/s)\s*$")
_VELOCITY = re.compile(r"(?<![A-Za-z])(mm|cm|m|km|ft|in)\s*/\s*(s|sec|min|h)\s*$|(?<![A-Za-z])(fpm|kph)\s*$")
_LENGTH = re.compile(r"(?<![A-Za-z])(µm|um|mm|cm|m|km|ft|in|inch)\s*$")
_SECONDS = re.compile(r"[\d.,\s](ms|s|sec|seconds?)\s*$", re.IGNORECASE)


@dataclass(frozen=True)
class Motor:
    """What the other forms need of a motor: pole pairs (None: not known), the top speed [rad/s], and how far the load moves for each radian of its shaft: ``travel`` [m], in the person's ``unit`` of velocity."""

    pole_pairs: float | None = None
    top_speed: float | None = None
    travel: float | None = None
    unit: str = "m/s"


def read(text: str, unit: str, *, base: str = "", kind: str = "", motor: Motor | None = None) -> float:
    """Turn what was typed into SI, as :func:`quantities.parse` does, and more.

    Parameters
    ----------
    kind
        ``steps`` (full steps a turn: also as the step's angle) or ``counts`` (×4: also as lines, pulses a turn); else empty.
    motor
        A speed may be given as electrical frequency, an acceleration as the time from rest to top speed; refused where pole pairs or
        top speed are not known.
    """
    motor = motor or Motor()
    if kind == "steps" and _STEP.search(text):
        angle = parse(_STEP.sub("", text), "")
        if not 0 < angle <= 90:
            raise Refusal(f"“{text.strip()}” is no step of a motor", "a full step of 1.8° makes 200 a turn")
        return round(360 / angle, 9)
    if kind == "counts":
        if _LINES.search(text):
            return 4 * parse(_LINES.sub("", text), "")
        text = _COUNTS.sub("", text)
    dimension = UNITS[unit].dimension
    if dimension == "angular speed" and _VELOCITY.search(text):
        if not motor.travel:
            raise Refusal(f"“{text.strip()}” needs to know what the shaft moves", "say it on Plate, Load side, or type the speed in rpm")
        return parse(text, "m/s") / motor.travel
    if dimension == "angle" and _LENGTH.search(text):
        if not motor.travel:
            raise Refusal(f"“{text.strip()}” needs to know what a turn moves", "say it on Plate, Load side, or type turns or degrees")
        return parse(text, "m") / motor.travel
    if dimension == "angular speed" and _HERTZ.search(text):
        if motor.pole_pairs is None:
            raise Refusal(f"“{text.strip()}” needs the pole pairs", "enter them on the plate, or type the speed in rpm")
        return 2 * math.pi * parse(text, "Hz") / motor.pole_pairs
    if dimension == "angular acceleration" and _SECONDS.search(text):
        if motor.top_speed is None:
            raise Refusal(f"“{text.strip()}” needs the top speed", "enter it on the plate, or type the ramp in rpm/s")
        seconds = parse(text, "s")
        if seconds <= 0:
            raise Refusal("a ramp takes more than no time", "type it like 2 s to top speed")
        return motor.top_speed / seconds
    if dimension == "voltage constant":  # of a brushed motor, Ke in V·s/rad is Kt in N·m/A and one over its speed constant
        for other in ("N·m/A", "rpm/V"):
            try:
                value = parse(text, other) if re.search(r"[A-Za-zµ]", text) else 0.0
            except Refusal:
                continue
            if value > 0:
                return value if other == "N·m/A" else 60 / (2 * math.pi * value)
    return parse(text, unit, base=base)


def equivalents(value: float, unit: str, motor: Motor) -> str:
    """Return what a speed of the shaft [rad/s] is beside rpm: electrical frequency, and the load's velocity; empty where neither is known, or it is no speed."""
    if UNITS[unit].dimension != "angular speed" or value == 0:
        return ""
    found = [] if motor.pole_pairs is None else [show(abs(value) * motor.pole_pairs / (2 * math.pi), "Hz")]
    if motor.travel:
        found.append(f"{significant(from_si(value * motor.travel, motor.unit))} {motor.unit}")
    return ", ".join(found)
