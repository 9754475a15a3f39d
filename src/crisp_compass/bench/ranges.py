"""What physics allows on a motor bench, once: the models of the bench file refuse everything outside.

Inside these ranges every function, page, export and record gives a finite answer or one sentence. They are wide on purpose, from
watch motors to ship drives; they stop figures that only a slip or a damaged file can make.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

#: Largest magnitude of any figure that the file can hold: meters write an open circuit as 1e12, insulation as 1e13.
MOST = 1e15

Finite = Annotated[float, Field(allow_inf_nan=False, ge=-MOST, le=MOST)]
Ohm = Annotated[float, Field(ge=1e-6, le=1e5, allow_inf_nan=False)]
Henry = Annotated[float, Field(ge=1e-9, le=10, allow_inf_nan=False)]
Weber = Annotated[float, Field(ge=1e-7, le=100, allow_inf_nan=False)]
Inertia = Annotated[float, Field(ge=1e-10, le=1e4, allow_inf_nan=False)]
Viscous = Annotated[float, Field(ge=0, le=1e3, allow_inf_nan=False)]
Torque = Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)]
TorqueSome = Annotated[float, Field(ge=1e-7, le=1e6, allow_inf_nan=False)]
AmpereOrNone = Annotated[float, Field(ge=0, le=1e5, allow_inf_nan=False)]
SpeedOrRest = Annotated[float, Field(ge=0, le=2.1e5, allow_inf_nan=False)]
Ampere = Annotated[float, Field(ge=1e-4, le=1e5, allow_inf_nan=False)]
Volt = Annotated[float, Field(ge=0.1, le=1e5, allow_inf_nan=False)]
Bus = Annotated[float, Field(ge=0.5, le=1500, allow_inf_nan=False)]
#: Mechanical, rad/s: from a turn an hour to two million rpm.
Speed = Annotated[float, Field(ge=1e-3, le=2.1e5, allow_inf_nan=False)]
Watt = Annotated[float, Field(ge=1e-4, le=1e8, allow_inf_nan=False)]
Duration = Annotated[float, Field(ge=0, le=1e-2, allow_inf_nan=False)]
Loop = Annotated[float, Field(ge=0.01, le=1e6, allow_inf_nan=False)]

Key = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]{0,40}$")]
ValueKey = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z_]{0,20}\.[a-z][a-z0-9_]{0,40}$")]
#: A time as written; what is printed into other files must not hold anything else.
When = Annotated[str, StringConstraints(pattern=r"^[0-9A-Za-z:.+\- ]{0,40}$")]
Name = Annotated[str, StringConstraints(max_length=200)]
Text = Annotated[str, StringConstraints(max_length=4000)]
Long = Annotated[str, StringConstraints(max_length=100_000)]
HallCode = Annotated[str, StringConstraints(pattern=r"^[0-7]$")]
Order = Annotated[str, StringConstraints(pattern=r"^(ABC|ACB|BAC|BCA|CAB|CBA)$")]
Digest = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{0,64}$")]

#: Values that may stand beside what settling must settle: unit, least and most magnitude.
MORE_VALUES: dict[str, tuple[str, float, float]] = {
    "inertia": ("kg·m²", 1e-12, 1e4), "viscous": ("N·m·s/rad", 0, 1e3), "coulomb": ("N·m", 0, 1e6), "temperature": ("degC", 0, 1000),
    "v_limit": ("V", 0, 1500), "v_command": ("V", 0, 1500), "v_usable": ("V", 0, 1500), "dead_time_voltage": ("V", 0, 1500),
    "loop_delay": ("s", 0, 1), "period_counts": ("", 1, 1e9), "dead_time_counts": ("", 0, 1e9), "phase_margin": ("rad", 0, 10),
    "saturated_inductance": ("H", 1e-10, 10), "saturation_current": ("A", 1e-6, 1e5), "counts_per_rev": ("", 1, 1e9), "direction": ("", 1, 1),
    "zero_offset": ("rad", 0, 10), "bits": ("", 1, 64), "turn_bits": ("", 0, 64), "rotor_time_constant": ("s", 1e-6, 1e3), "kp_pair": ("V/A", 1e-9, 1e7),
    "ke": ("V·s/rad", 1e-8, 100), "ki_pair": ("V/(A·s)", 1e-9, 1e11), "advance": ("rad", 0, 1.1),
    "inject_volts": ("V", 1e-6, 1500), "track_hz": ("Hz", 1e-3, 1e6), "pole_current": ("A", 1e-5, 1e6), "pole_time": ("s", 1e-6, 10),
    "kv": ("1/s", 1e-3, 1e5), "ahead": ("", 0, 1), "rounding": ("s", 0, 10), "follow_limit": ("rad", 0, 6.3e6), "window": ("rad", 0, 6.3e6),
}  # fmt: skip
#: Readings of the checks before power.
CHECK_READINGS: dict[str, tuple[str, ...]] = {
    "insulation_motor": ("phase_u", "phase_v", "phase_w"), "probe_zero": ("lead",), "pairs": ("uv", "vw", "wu"),
    "insulation_drive": ("phase_u", "phase_v", "phase_w"), "frame": ("frame",), "polarity": ("link",), "limit": ("limit",),
    "terminals": (), "clamped": (), "brake": (), "stop_button": (),
}  # fmt: skip
