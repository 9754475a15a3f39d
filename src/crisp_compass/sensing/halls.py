"""Three hall switches: six sectors an electrical turn, and the speed from the time between their edges."""

from __future__ import annotations

from crisp_compass.sensing.sensor import HALLS, Sensor

SENSOR = Sensor(
    "halls",
    "halls",
    "halls",
    leads=(("H1", "hall_1"), ("H2", "hall_2"), ("H3", "hall_3"), ("+5 V", "+5 V"), ("0 V", "0 V")),
    kernel=HALLS,
    edges=6,
    turned="Read the hall table again: every sector moves by a third of an electrical turn.",
    mirrored="The hall sequence runs backwards against the field: read the table again before enabling.",
    sequence="hall sequence",
    turn_round="exchange two hall wires and capture the hall table anew",
    proven_by=("halls",),
)
