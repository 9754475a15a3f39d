"""What kind of firmware a bench needs: one answer that templates, configuration and vectors read."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, Literal

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.block import in_blocks
from crisp_compass.course.bridge import plan_bench_pwm
from crisp_compass.course.drive import build_drive, sees_speed
from crisp_compass.course.observed import observes
from crisp_compass.course.open_loop import closes_loops, steps_open, watches
from crisp_compass.course.position import holds_position
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.errors import Refusal
from crisp_compass.modulation.pwm import PwmFigures
from crisp_compass.motor import family_of, turns_field
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.simulation import with_floats
from crisp_compass.sensing import SENSORS
from crisp_compass.sensorless.estimator import FLUX

Kind = Literal["magnet", "sensorless", "block", "rotor", "hertz", "armature", "stepping"]
#: Legs of the bridge by windings: three of a star, two for each winding of its own.
LEGS = {3: 3, 2: 4, 1: 2}
_CURRENTS = {
    3: "of phases A, B and C; C is minus the sum of the others where two are sensed",
    2: "of windings A and B; the third is not used",
    1: "of the armature; the others are not used",
}
_LEGS_TEXT = {
    3: "Legs 0 A, 1 B, 2 C.",
    2: "Legs 0 and 1 winding A, 2 and 3 winding B.",
    1: "Legs 0 and 1, the armature between them.",
}
CALLED: dict[Kind, str] = {
    "magnet": "field orientation on magnets by a sensor's angle",
    "sensorless": "field orientation on magnets without a sensor, with its start",
    "block": "six-step commutation with one current controller",
    "rotor": "indirect field orientation of an induction motor by a sensor",
    "hertz": "volts over frequency of an induction motor",
    "armature": "current and speed of a brushed motor",
    "stepping": "a stepper turned without a sensor",
}
_SENSOR_TEXT = {
    "encoder": "the encoder's counter at x4",
    "halls": "three hall inputs",
    "tachometer": "the tachometer's input",
    "none": "no sensor of angle or speed",
}


@dataclass(frozen=True)
class Plan:
    """The bench as its loops see it, its simulated drive, its PWM, and which parts of the firmware it takes."""

    bench: Bench
    drive: Drive
    pwm: PwmFigures
    kind: Kind
    windings: int
    sensor: str
    context: dict[str, Any] = field(repr=False)

    @property
    def called(self) -> str:
        """What this firmware does, in a few words."""
        if self.context["watches"]:
            return "a stepper whose field is turned, watched by an encoder"
        return "field orientation of an induction motor without a sensor" if self.context["observed"] else CALLED[self.kind]

    @property
    def count(self) -> float:
        """The least way [rad] that a place is told in: a count of the encoder, an entry of the current table of a motor that is stepped."""
        c, m = self.drive.control, self.drive.machine
        return float(2 * math.pi / (4 * m.pole_pairs * c.microsteps if self.kind == "stepping" else self.drive.sensing.counts_per_rev))

    @property
    def legs(self) -> int:
        """Legs of the bridge."""
        return LEGS[self.windings]


def _kind(bench: Bench) -> Kind:
    if not closes_loops(bench):
        return "hertz"
    if family_of(bench).own_circuit:
        return "rotor"
    if steps_open(bench):
        return "stepping"
    if in_blocks(bench):
        return "block"
    if without_sensor(bench):
        return "sensorless"
    return "magnet" if turns_field(bench) else "armature"


def _sensor(bench: Bench, kind: Kind) -> str:
    sensor = SENSORS[bench.settings.sensor.kind]
    if kind == "stepping":
        return "encoder" if watches(bench) and holds_position(bench) else "none"
    if kind in ("sensorless", "hertz") or sensor.key not in bench.settings.plate.sensors:
        return "none"
    if sensor.edges:
        return "halls"
    return "encoder" if sensor.counted else sensor.key


def plan_of(bench: Bench) -> Plan:
    """Return what firmware this bench needs; raises Refusal naming what is missing or does not fit."""
    bench = standing(bench)
    drive = with_floats(build_drive(bench))
    figures = plan_bench_pwm(bench)
    counts = settled_value(bench, "pwm.period_counts")
    if counts is not None and round(counts.value) != figures.period_counts:
        raise Refusal("the PWM is edited, not settled", "settle it on the PWM leg, or take the edit back")
    kind = _kind(bench)
    windings = bench.settings.plate.windings
    sensor = _sensor(bench, kind)
    observed = kind == "rotor" and observes(bench)
    has_angle = (kind in ("magnet", "block", "rotor") and not observed) or (sensor == "encoder" and kind != "stepping")
    if has_angle and sensor not in ("halls", "encoder"):
        raise Refusal("the firmware needs a sensor's angle", "choose an encoder or halls on the plate")
    if kind in ("magnet", "block") and sensor == "encoder":  # with a zero that nobody found the motor may run away
        for key in ("zero_offset", "direction"):
            need(bench, f"commutation.{key}")
    pwm, start = bench.settings.pwm, drive.start
    moves = kind == "stepping" and holds_position(bench)
    moves = moves or (kind in ("magnet", "block", "rotor", "armature") and not observed and sensor == "encoder" and drive.control.kv > 0)
    injects = kind == "sensorless" and drive.injected.volts > 0
    weakens = kind in ("magnet", "sensorless") and drive.control.i_weak > 0
    watched = kind == "stepping" and sensor == "encoder"
    parts = ["cc_current"] + [
        part
        for part, wanted in (
            ("cc_angle", has_angle), ("cc_position", moves), ("cc_weakening", weakens), ("cc_estimator", kind == "sensorless"), ("cc_injection", injects), ("cc_block", kind == "block"),
            ("cc_rotor", kind == "rotor"), ("cc_stepping", kind == "stepping"), ("cc_watch", watched), ("cc_hertz", kind == "hertz"),
        )
        if wanted
    ]  # fmt: skip
    titles = {"halls": "the rotor's angle from three halls", "encoder": "the rotor's angle from an encoder"}
    context: dict[str, Any] = {
        "kind": kind, "observed": observed, "field_off": kind == "rotor" and drive.control.field_off > 0, "windings": windings, "legs": LEGS[windings], "sensor": sensor, "scheme": pwm.scheme, "decay": pwm.decay,
        "shunts": pwm.shunts if windings == 3 else "in-line", "centred": pwm.aligned == "centre", "min_pulse": pwm.min_pulse > 0, "torque": kind not in ("hertz", "stepping"),
        "injects": injects, "weakens": weakens, "overload": drive.control.i2t > 0, "brakes": drive.control.brakes > 0, "too_hot": bench.settings.run.temp_trip is not None,
        "filtered": drive.control.set_point > 0, "rounded": drive.control.jerk > 0, "ranged": drive.control.slow_below > 0, "ahead_inertia": drive.control.ahead_inertia > 0, "ahead_viscous": drive.control.ahead_viscous > 0,
        "ahead_coulomb": drive.control.ahead_coulomb > 0, "smoothed": drive.control.torque_share < 1, "notched": drive.control.notch_b1 != 0, "folds": drive.control.fold_end > 0, "chops": drive.control.brake_on < 1e8,
        "moves": moves, "homes": moves and bench.settings.homing.reference != "here", "points": moves and bool(bench.points), "limits_rows": moves and kind != "stepping" and any(p.torque is not None for p in bench.points), "stands": moves and drive.control.window > 0, "follows": moves and drive.control.follow_limit > 0, "lows": drive.control.low_start > 0, "power_from": drive.control.power_from > 0, "power_into": drive.control.power_into > 0,
        "power": drive.control.power_from > 0 or drive.control.power_into > 0, "stalls": drive.control.stall_time < 1e8 and kind != "stepping",
        "watches": watched, "holds_lost": watched and drive.control.lost_holds > 0, "idles": kind == "stepping" and drive.control.idle_share < 1,
        "rolls": drive.control.roll > 0, "rolls_forward": drive.control.roll_knee <= 0,
        "retries": kind == "sensorless" and start.retries > 0, "catches": start.catch > 0, "low_speed": start.low_current > 0 and not injects, "dead_time": start.dead_voltage > 0,
        "by_flux": drive.estimator.kind == FLUX, "dq": kind in ("magnet", "sensorless"), "has_angle": has_angle, "parts": parts,
        "timer_hz": pwm.timer_hz, "v_max": drive.control.v_max < 1e8, "speed_trip": drive.control.speed_trip < 1e8 and sees_speed(bench), "loop_divider": pwm.loop_divider, "sensor_title": titles.get(sensor, ""), "currents_text": _CURRENTS[windings],
        "legs_text": _LEGS_TEXT[windings], "sensor_text": _SENSOR_TEXT[sensor], "count_type": "uint16_t" if figures.period_counts < 1 << 16 else "uint32_t",
    }  # fmt: skip
    return Plan(bench, drive, figures, kind, windings=windings, sensor=sensor, context=context)


def whole_delay(plan: Plan) -> tuple[int, float]:
    """Return the whole periods that a voltage waits, and the part of a period [1] for which the one before still stands."""
    computing = plan.drive.control.delay_samples - 0.5  # the hold is the other half period of the delay
    whole = math.floor(computing + 1e-9)
    return whole, max(computing - whole, 0.0)
