"""What the simulated drive lets be set, with kinds and steps as drives have them."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.block import in_blocks
from crisp_compass.motor import family_of, turns_field
from crisp_compass.plant.parameters import OVER_SPEED, OVER_VOLTAGE, OVERLOAD, UNDER_VOLTAGE, Drive
from crisp_compass.sensing.sensor import ENCODER

#: Faults that can be masked, each with what of the firmware then never trips; what flows through the bridge is always watched.
MASKABLE: dict[int, tuple[str, float]] = {UNDER_VOLTAGE: ("v_min", 0.0), OVER_VOLTAGE: ("v_max", 1e9), OVER_SPEED: ("speed_trip", 1e9), OVERLOAD: ("i2t", 0.0)}
#: The settled value that the encoder's zero is.
ZERO = "commutation.zero_offset"


@dataclass(frozen=True)
class Parameter:
    """How a parameter is kept: its kind, the field of the firmware it sets, the settled value it holds."""

    name: str
    field: str
    unit: str
    bench: str | None
    text: str
    kind: str = "float32"
    scale: float = 1.0
    low: float = 0.0
    high: float = 1e6
    restart: bool = False
    value: float | None = None  # what it is made with, where that is not the firmware's field
    inverse: bool = False  # the firmware keeps one over it

    def held(self, drive: Drive) -> float:
        """Return what a drive is made with."""
        if self.value is not None:
            return self.value
        kept = float(getattr(drive.control, self.field.partition(" ")[0]))
        return 1.0 / kept if self.inverse else kept

    def fields(self, value: float) -> dict[str, float]:
        """Return the fields of the firmware that a value sets."""
        return dict.fromkeys(self.field.split(), 1.0 / value if self.inverse and value > 0 else value)


_GAINS = (
    ("kp_d", "V/A", "current loop, proportional, d"), ("ki_d", "V/(A·s)", "current loop, integral, d"), ("kp_q", "V/A", "current loop, proportional, q"),
    ("ki_q", "V/(A·s)", "current loop, integral, q"),
)  # fmt: skip
#: Limits and helpers that the sheet holds where they are set: name, field, unit, value that means none, settled value, text.
_WHERE_SET = (
    ("maximum_bus", "v_max", "V", 1e9, None, "trips above"), ("over_speed", "speed_trip", "rad/s", 1e9, None, "speed of the shaft at which it trips"),
    ("stall_time", "stall_time", "s", 1e9, None, "full current at standstill until it trips"), ("continuous_current", "i_continuous", "A", 0.0, None, "current that may flow for ever, peak"),
    ("overload", "i2t", "A²s", 0.0, None, "what the current's square may add above it"), ("weakening_current", "i_weak", "A", 0.0, None, "most current against the magnet, peak"),
    ("drag_cancel", "roll", "A", 0.0, None, "added while a torque is held, peak"), ("fold_start", "fold_start", "V", 0.0, None, "bus from which braking is taken back"),
    ("fold_end", "fold_end", "V", 0.0, None, "bus at which none is left"), ("low_start", "low_start", "V", 0.0, None, "bus below which driving torque is taken back"),
    ("low_end", "low_end", "V", 0.0, None, "bus at which none is left"), ("power_from", "power_from", "W", 0.0, None, "taken from the bus at most"),
    ("power_into", "power_into", "W", 0.0, None, "given back at most"), ("resistor_on", "brake_on", "V", 1e9, None, "bus above which the brake resistor is on"),
    ("resistor_off", "brake_off", "V", 1e9, None, "bus below which it is off"), ("position_gain", "kv", "1/s", 0.0, "motion.kv", "position loop, proportional"),
    ("move_speed", "move_speed", "rad/s", 1.0, "motion.speed", "speed of a move"), ("move_acceleration", "move_accel", "rad/s²", 1.0, "motion.accel", "acceleration of a move"),
    ("standing_window", "window", "rad", 0.0, "motion.window", "a shaft within it at the end of a move is left alone"), ("lost_after", "lost_limit", "rad", 0.0, None, "between field and shaft, from which on steps are lost"),
    ("corrections", "corrections", "", 0.0, None, "times that a move is begun anew after lost steps"), ("following_limit", "follow_limit", "rad", 0.0, "motion.follow_limit", "following error at which it trips"),
)  # fmt: skip


def _coarse(value: float) -> float:
    """Return a power of ten that leaves a value some thousand raw numbers: as drives have it, it rounds."""
    return float(f"1e{math.floor(math.log10(value)) - 3}") if value > 0 else 1e-3


def parameters_of(bench: Bench, drive: Drive) -> list[Parameter]:
    """Return what this family's drive lets be set."""
    control, found = drive.control, []
    for name, field, unit, key, text in (
        ("resistance", "r", "Ω", "resistance.resistance", "resistance of a phase"), ("ld", "ld", "H", "inductance.ld", "inductance along the magnet"),
        ("lq", "lq", "H", "inductance.lq", "inductance across it"), ("flux_linkage", "psi", "Wb", "flux.flux_linkage", "flux linkage, peak"),
    ):  # fmt: skip
        value = float(getattr(control, field))
        if value > 0 and settled_value(bench, key) is not None:
            found.append(Parameter(name, field, unit, key, text=text, kind="uint16" if field == "r" else "uint32", scale=_coarse(value if field == "r" else value / 1000), low=value / 100, high=value * 100, restart=True))
    if family_of(bench).own_circuit and control.rotor_rate > 0:
        for name, field, unit, text in (
            ("leakage_inductance", "ld lq", "H", "leakage inductance"), ("magnetizing_inductance", "lm", "H", "magnetizing inductance"),
            ("rotor_time_constant", "rotor_rate", "s", "rotor time constant"), ("magnetizing_current", "i_flux", "A", "magnetizing current, peak"),
        ):  # fmt: skip
            part = Parameter(name, field, unit, f"circuit.{name}", text=text, restart=True, inverse=name == "rotor_time_constant")
            value = part.held(drive)
            if value > 0 and settled_value(bench, f"circuit.{name}") is not None:
                found.append(replace(part, low=value / 100, high=value * 100))
    for name, unit, text in _GAINS:
        if getattr(control, name) > 0 and settled_value(bench, f"current_loop.{name}") is not None:
            found.append(Parameter(f"current_{name}", name, unit, f"current_loop.{name}", text=text))
    for name, unit, text in (("kp", "A/(rad/s)", "speed loop, proportional"), ("ki", "A/rad", "speed loop, integral")):
        if settled_value(bench, f"speed_loop.{name}") is not None and getattr(control, f"{name}_speed") > 0:
            found.append(Parameter(f"speed_{name}", f"{name}_speed", unit, f"speed_loop.{name}", text=text))
    if turns_field(bench) and drive.sensing.angle_sensor == ENCODER and not in_blocks(bench) and not family_of(bench).own_circuit:
        settled = settled_value(bench, ZERO)
        at = math.degrees(settled.value) % 360.0 if settled is not None else 0.0
        found.append(Parameter("encoder_zero", "angle_offset", "deg", ZERO if settled is not None else None, text="electrical angle where the position is zero", kind="uint16", scale=0.01, low=0.0, high=360.0, value=at))
    ramp = "speed_loop.ramp" if settled_value(bench, "speed_loop.ramp") is not None else None
    found += [
        Parameter("ramp", "ramp", "rad/s²", ramp, text="ramp of the speed", kind="uint32", scale=_coarse(control.ramp), low=control.ramp / 100, high=control.ramp * 100),
        Parameter("current_limit", "i_limit", "A", None, text="current limit, peak", kind="uint16", scale=0.01, low=0.0, high=min(control.i_limit * 4, 600.0)),
        Parameter("trip_level", "i_trip", "A", None, text="trips at once, peak", kind="uint16", scale=0.01, low=0.0, high=min(control.i_trip * 4, 600.0)),
        Parameter("minimum_bus", "v_min", "V", None, text="trips below", kind="uint16", scale=0.1, low=0.0, high=1500.0),
        Parameter("fault_mask", "", "", None, text="faults that do not trip it", kind="uint16", scale=1.0, low=0.0, high=65535.0, value=0.0),
    ]  # fmt: skip
    for name, field, unit, none, known, text in _WHERE_SET:
        value = float(getattr(control, field))
        if value != none:
            found.append(Parameter(name, field, unit, known if known and settled_value(bench, known) is not None else None, text=text, high=min(10 * value, 1e6)))
    return found
