"""No sensor: an estimator tells the angle, or a brushed motor's armature voltage the speed, or nothing has to."""

from __future__ import annotations

from crisp_compass.sensing.sensor import ARMATURE, Sensor

SENSOR = Sensor(
    "none",
    "none",
    "sensor",
    kernel=ARMATURE,
    tells_angle=False,
    sequence="sensor",  # a motor without one may have a capture of one
    turn_round="turn the sensor's direction round in the drive",
)
