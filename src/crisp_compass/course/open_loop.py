"""Which loops are closed; stepping without a sensor: whether this bench's firmware turns a field and believes that the rotor follows, and with what current."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.sensing import SENSORS


def closes_loops(bench: Bench) -> bool:
    """Tell whether the firmware controls currents: volts over frequency does not."""
    return not (family_of(bench).own_circuit and bench.settings.circuit.firmware == "volts-per-hertz")


def steps_open(bench: Bench) -> bool:
    """Tell whether the field of a motor that can be stepped is turned by itself, without an angle or with an encoder that only watches: no speed loop is closed, and none is designed."""
    return family_of(bench).open_loop and (not SENSORS[bench.settings.sensor.kind].tells_angle or watches(bench))


def watches(bench: Bench) -> bool:
    """Tell whether an encoder watches that the shaft follows a stepped field, instead of closing loops."""
    sensor = SENSORS[bench.settings.sensor.kind]
    return family_of(bench).open_loop and sensor.counted and sensor.key in bench.settings.plate.sensors and bench.settings.stepping.encoder == "watches"


def full_step(bench: Bench) -> float:
    """Return a full step [rad] of the shaft, a quarter of an electrical turn."""
    return 0.5 * math.pi / pole_pairs_of(bench.settings.plate)


def wanted_current(bench: Bench) -> float:
    """Return the length of the current vector that a stepper is to be turned with, A peak: as entered, else the rated one."""
    rms = bench.settings.stepping.current
    return math.sqrt(2) * rms if rms is not None else rated_peak(bench.settings.plate)


def stepping_current(bench: Bench) -> float:
    """Return the length of the current vector that the field is turned with, A peak: the wanted one within the run's limit."""
    return min(wanted_current(bench), bench.settings.run.i_limit)
