"""What stands against a run as it is asked for, and what a fault of the drive says about its cause."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.limits import limits_of
from crisp_compass.course.observed import forced_current, forced_torque, hand_over, observes
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.course.sensorless import by_injection, without_sensor
from crisp_compass.course.torque_mode import holds_torque
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.quantities import grouped, show

_CAUTION = Finding(
    "caution",
    "first-run",
    "Before a real first run clamp and uncouple the motor, set the supply's current limit, and keep an emergency stop within reach.",
)
#: What stands beside whatever can move a drive on a link.
DRIVE_MOVES = Finding(
    "caution",
    "drive-moves",
    "Nothing moves until you arm the drive. Then the shaft may start at once: motor clamped, people and loose things clear, load blocked, supply limited, and an emergency stop "
    "within reach, because software is none.",
)
_START_MOVES = Finding(
    "caution", "start-moves",
    "Start arms the drive, and the shaft may turn at once: motor clamped, people and loose things clear, load blocked, supply limited, and an emergency stop within reach, because "
    "software is none.",
)  # fmt: skip
_CAUSES = {
    "over-current": "the current passed the trip level",
    "under-voltage": "the supply fell below its minimum",
    "over-voltage": "the bus rose above its maximum",
    "over-speed": "the speed passed its limit",
    "overload": "more than the continuous current flowed for too long",
    "over-temperature": "the winding got warmer than the drive's limit",
    "stall": "the shaft stood still at full current for too long",
    "sensor lost": "the sensor of the angle shows what it cannot",
    "following error": "the shaft fell further behind its move than is allowed",
    "angle lost": "the estimated angle was not valid for too long",
    "no start": "the estimate did not become valid at the end of the start sequence",
    "pole not told": "the current along the axis did not tell which way the magnet points",
}
_NO_FOLLOW = "for too long the rotor did not follow the field, or the current stayed above the limit: less load, a slower ramp, or more boost"


@dataclass(frozen=True)
class Trip:
    """A fault that a run ended in: its name and cause, and speed [rad/s] and bus [V] as last told, the most torque current [A] just before (NaN: not told)."""

    fault: str
    cause: str
    speed: float
    current: float
    bus: float


def trip_of(bench: Bench, fault: str, trace: Mapping[str, FloatArray]) -> Trip:
    """Return what is to be remembered of a fault, from the telemetry before it."""
    last = {k: float(v[-1]) for k, v in trace.items() if len(v)}
    cause = fault_cause(bench, fault) if fault in _CAUSES else ""
    current = trace.get("i_q", np.empty(0))
    most = float(current[np.argmax(np.abs(current))]) if len(current) else math.nan
    return Trip(fault, cause, last.get("speed", math.nan), most, bus=last.get("v_bus", math.nan))


def slow_hold(bench: Bench) -> tuple[float, float] | None:
    """Return the speed [rad/s] asked for and the hand-over speed that it does not reach, where nothing but the back-EMF tells the angle."""
    s, hand_over = bench.settings.start_up, settled_value(bench, "start_up.hand_over")
    if not without_sensor(bench) or by_injection(bench) or s.low_current or hand_over is None:
        return None
    asked = abs(bench.settings.run.speed)
    return (asked, hand_over.value) if 0.0 < asked < hand_over.value else None


def _slow_text(asked: float, hand_over: float) -> str:
    return (
        f"{grouped(asked * RPM_PER_RAD_S)} rpm is asked for, below the hand-over at {grouped(hand_over * RPM_PER_RAD_S)} rpm, where the back-EMF "
        "is too small to tell the angle"
    )


def run_findings(bench: Bench, kind: str = "simulation") -> tuple[Finding, ...]:
    """Return the caution that belongs to a run on a ``kind`` of drive (``simulation``, ``link``, ``replay``), and what is known to go wrong with the speed asked for."""
    if kind != "simulation":
        return (_START_MOVES,) if kind == "link" else ()
    if bench.settings.run.holds == "torque" and holds_torque(bench):
        trips = bench.settings.run.speed_trip
        more = f"the over-speed trip at {grouped(trips * RPM_PER_RAD_S)} rpm ends that" if trips is not None else "set an over-speed trip on Limits"
        return _CAUTION, Finding("info" if trips is not None else "caution", "torque-runs-up", f"A torque that nothing takes runs the shaft up to where the voltage ends: {more}.")
    slow = slow_hold(bench)
    if observes(bench) and 0.0 < abs(bench.settings.run.speed) < hand_over(bench):
        torque, load = forced_torque(bench), abs(bench.settings.run.load)
        text = f"Below {grouped(hand_over(bench) * RPM_PER_RAD_S)} rpm no flux tells the angle: {show(forced_current(bench), 'A', 3)} are turned, which pull {show(torque, 'N·m', 3)} at most"
        text += f", less than the load of {show(load, 'N·m', 3)}." if load > torque else "."
        return _CAUTION, Finding("caution" if load > torque else "info", "forced-range", text)
    if slow is None:
        return (_CAUTION, *(f for f in limits_of(bench).findings if f.code in ("emf-above-bus", "beyond-voltage")))
    least = math.ceil(slow[1] * RPM_PER_RAD_S)
    text = f"{_slow_text(*slow)}: ask for {least} rpm or more, or set a current for low speed on Start-up."
    return _CAUTION, Finding("caution", "below-hand-over", text)


def fault_cause(bench: Bench, fault: str) -> str:
    """Return what a latched fault means on this bench, without a full stop."""
    if fault == "stall" and not closes_loops(bench):
        return _NO_FOLLOW
    slow = slow_hold(bench)
    if slow is not None and fault in ("angle lost", "no start"):
        return _slow_text(*slow)
    return _CAUSES[fault]
