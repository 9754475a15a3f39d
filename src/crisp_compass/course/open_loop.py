"""Which loops are closed; stepping without a sensor: whether this bench's firmware turns a field and believes that the rotor follows, and with what current."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.motor import family_of
from crisp_compass.sensing import SENSORS


def closes_loops(bench: Bench) -> bool:
    """Tell whether the firmware controls currents: volts over frequency does not."""
    return not (family_of(bench).own_circuit and bench.settings.circuit.firmware == "volts-per-hertz")


def steps_open(bench: Bench) -> bool:
    """Tell whether nothing measures the angle of a motor that can be stepped: no speed loop is closed, and none is designed."""
    return family_of(bench).open_loop and not SENSORS[bench.settings.sensor.kind].tells_angle


def wanted_current(bench: Bench) -> float:
    """Return the length of the current vector that a stepper is to be turned with, A peak: as entered, else the rated one."""
    rms = bench.settings.stepping.current
    return math.sqrt(2) * rms if rms is not None else rated_peak(bench.settings.plate)


def stepping_current(bench: Bench) -> float:
    """Return the length of the current vector that the field is turned with, A peak: the wanted one within the run's limit."""
    return min(wanted_current(bench), bench.settings.run.i_limit)
