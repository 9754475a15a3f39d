"""An absolute encoder: the angle as a word over a pair of data and a pair of clock leads (common practice)."""

from __future__ import annotations

from crisp_compass.sensing.sensor import Sensor

SENSOR = Sensor(
    "absolute",
    "absolute encoder",
    "encoder",
    leads=(("data +", "data+"), ("data −", "data−"), ("clock +", "clock+"), ("clock −", "clock−"), ("+5 V", "+5 V"), ("0 V", "0 V")),
    counted=True,
    turned="Find the encoder's zero again.",
    mirrored="Invert the encoder's direction too, or the loop runs away; find its zero again.",
    sequence="encoder",
    turn_round="set the encoder's count direction in the drive",
    proven_by=("absolute", "encoder", "alignment", "pole_search"),
)
