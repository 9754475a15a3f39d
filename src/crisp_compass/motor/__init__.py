"""What a motor is: one module a family, registered here. Outside this package nobody asks which one it is."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import Plate
from crisp_compass.motor import brushed, induction, permanent_magnet, stepper
from crisp_compass.motor.family import Family

FAMILIES: dict[str, Family] = {
    key: module.FAMILY for module in (permanent_magnet, stepper, induction, brushed) for key in module.FAMILY.keys
}


def family_of(bench: Bench) -> Family:
    """Return the family of the bench's motor."""
    return FAMILIES[bench.settings.plate.family]


def pole_pairs_of(plate: Plate) -> int:
    """Return the pole pairs that the plate implies: typed, or by steps a turn, or by speed and frequency."""
    return FAMILIES[plate.family].pole_pairs(plate)
