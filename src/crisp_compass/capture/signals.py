"""The signal names of the capture format and the unit each is written in."""

from __future__ import annotations

#: Signal name → unit in files. ``logic`` marks 0/1 signals.
SIGNALS: dict[str, str] = {
    **dict.fromkeys(("v_ab", "v_bc", "v_ca", "v_a", "v_b", "v_c", "v_cmd", "v_d", "v_q", "v_bus", "v_m"), "V"),
    **dict.fromkeys(("i_a", "i_b", "i_c", "i_d", "i_q", "i_d_ref", "i_q_ref", "i_m"), "A"),
    **dict.fromkeys(("hall_1", "hall_2", "hall_3", "enc_a", "enc_b", "enc_z", "command"), "logic"),
    "angle": "deg",
    "speed": "rpm",
    "speed_ref": "rpm",
    "torque": "N·m",
    "temp": "degC",
    "l_ab": "H",
    "position": "",
    "field_angle": "deg",
    "i_peak": "A",
    "i_rest": "A",
}
TIME_NAMES = ("t", "time", "zeit", "temps", "tiempo")
#: What a person calls each signal, for screens and refusals.
MEANING: dict[str, str] = {
    "v_ab": "the voltage between A and B",
    "v_bc": "the voltage between B and C",
    "v_ca": "the voltage between C and A",
    "i_a": "the current into A",
    "v_m": "the armature's voltage",
    "i_m": "the armature's current",
    "v_cmd": "the commanded voltage along phase A",
    "hall_1": "hall sensor 1",
    "hall_2": "hall sensor 2",
    "hall_3": "hall sensor 3",
    "speed": "the speed",
    "angle": "the shaft angle",
    "position": "the position word of an absolute encoder, in counts",
    "field_angle": "the electrical direction of the current or pulse",
    "command": "the PWM command, 0/1 or volts",
    "i_rest": "what the channels read along the pulse before it",
    "i_peak": "the current along the pulse at its end",
}


def describe(name: str) -> str:
    """Return ``v_ab (the voltage between A and B)`` or the bare name."""
    return f"{name} ({MEANING[name]})" if name in MEANING else name
