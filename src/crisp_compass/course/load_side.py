"""The load side of this bench: what a turn moves, and what that means at the shaft."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.bridge import travel_of
from crisp_compass.course.resonance import ratio_finding
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.motion.load_side import GRAVITY, LoadSide
from crisp_compass.motor import pole_pairs_of
from crisp_compass.quantities import from_si, grouped, show, significant


@dataclass(frozen=True)
class Moved:
    """What the bench's load is at the shaft: its ``speed`` [rad/s] and electrical frequency [Hz] at the wanted velocity (NaN: none wanted), the torque that moves it (``up``) and that it gives back
    (``down``, vertical), N·m; power at the load [W], reflected ``inertia`` [kg·m²] and that over the motor's (NaN where it is not known)."""

    side: LoadSide
    speed: float
    hertz: float
    up: float
    down: float
    power: float
    inertia: float
    ratio: float
    holds: bool
    findings: tuple[Finding, ...]


def load_side_of(bench: Bench) -> LoadSide:
    """Return the mechanism; raises Refusal naming what is missing."""
    s, travel = bench.settings.load_side, travel_of(bench)
    if travel is None:
        missing = {"none": ("nothing is said of what the shaft moves", "choose drum, wheel or screw", "kind"), "wheel": ("the diameter is missing", "enter that of drum, wheel or pulley", "diameter"), "screw": ("the lead is missing", "enter the travel for one turn", "lead")}[s.kind]
        raise Refusal(missing[0], missing[1], field=f"load_side.{missing[2]}")
    return LoadSide(travel, s.efficiency or 1.0)


def moved(bench: Bench) -> Moved:
    """Return what the load is at the shaft; raises Refusal naming what is missing."""
    s, side = bench.settings.load_side, load_side_of(bench)
    speed = side.shaft_speed(s.velocity) if s.velocity is not None else math.nan
    try:
        hertz = speed * pole_pairs_of(bench.settings.plate) / (2 * math.pi)
    except Refusal:
        hertz = math.nan
    weight = (s.mass or 0.0) * GRAVITY if s.way == "vertical" else 0.0
    rubs = s.force or 0.0
    down = max(side.driven(weight) - side.travel * rubs, 0.0) if weight else 0.0
    inertia = side.reflected(s.mass or 0.0)
    own = bench.settings.plate.inertia
    measured = settled_value(bench, "mechanics.inertia")
    motor = own if own is not None else measured.value if measured is not None else None
    ratio = inertia / motor if motor and inertia > 0 else math.nan
    holds = weight > 0 and down == 0.0
    found = Moved(side, speed, hertz, side.driving(weight + rubs), down=down, power=(weight + rubs) * (s.velocity or 0.0), inertia=inertia, ratio=ratio, holds=holds, findings=())
    return replace(found, findings=tuple(_findings(bench, found, weight)))


def _findings(bench: Bench, found: Moved, weight: float) -> list[Finding]:
    said = []
    top = bench.settings.plate.top_speed
    if math.isfinite(found.speed) and found.speed > top * (1 + 1e-9):
        said.append(Finding("caution", "faster-than-top", f"The wanted velocity takes {grouped(found.speed * RPM_PER_RAD_S)} rpm, above the top speed of {grouped(top * RPM_PER_RAD_S)} rpm: another ratio, or slower."))
    if weight:
        text = "A load that hangs falls when the motor lets go: a mechanical brake holds it, blocked for every test; lifting follows local codes and qualified people."
        said.append(Finding("caution", "hangs", text))
    if found.holds:
        said.append(Finding("info", "holds-itself", "At this efficiency the mechanism holds by itself (common practice: below one half); shocks and wear can still let it creep."))
    if math.isfinite(found.ratio):
        said.append(ratio_finding(found.ratio))
    return said


def as_load(bench: Bench) -> Bench:
    """Return the bench whose Run has this load, and its speed; raises Refusal naming what is missing.

    What hangs pulls with the torque that lifts it, down too: more than a mechanism with losses lets through, and so on the safe side of braking.
    """
    found, s = moved(bench), bench.settings.load_side
    fields: dict[str, object] = {"load": float(f"{found.up:.4g}"), "load_kind": "drives" if s.way == "vertical" and found.down > 0 else "brakes"}
    if math.isfinite(found.speed):
        fields["speed"] = float(f"{found.speed:.6g}")
    try:
        return enter(bench, "run", fields)
    except ValueError:
        raise Refusal("speed or torque at the shaft is beyond what can be simulated", "check ratio, diameter or lead, mass and force") from None


def way_text(bench: Bench, angle: float) -> str:
    """Return what an angle of the shaft [rad] is at the load: ``12.5 mm``; empty where nothing is said of it."""
    travel = travel_of(bench)
    return "" if travel is None else show(angle * travel, "m", 4)


def speed_text(bench: Bench, speed: float, digits: int = 4) -> str:
    """Return a shaft speed [rad/s] in rpm, and what that is at the load where something is said of it: ``1 146 rpm, 10.0 m/min``."""
    text = f"{grouped(float(f'{speed * RPM_PER_RAD_S:.{digits}g}'))} rpm"
    there = velocity_text(bench, speed)
    return f"{text}, {there}" if there else text


def velocity_text(bench: Bench, speed: float) -> str:
    """Return what a shaft speed [rad/s] is at the load: ``10.0 m/min``; empty where nothing is said of it."""
    travel = travel_of(bench)
    if travel is None:
        return ""
    unit = bench.settings.load_side.unit
    return f"{significant(from_si(speed * travel, unit))} {unit}"
