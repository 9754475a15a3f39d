"""A tachometer: a voltage that tells the speed alone, without steps."""

from __future__ import annotations

from crisp_compass.sensing.sensor import Sensor

SENSOR = Sensor(
    "tachometer",
    "tachometer",
    "tachometer",
    leads=(("tacho +", "tacho+"), ("tacho −", "tacho−")),
    steps=float(1 << 22),
    tells_angle=False,
    mirrored="Exchange the tachometer's two leads too, or the loop runs away.",
    sequence="tachometer",
    turn_round="exchange the tachometer's two leads",
)
