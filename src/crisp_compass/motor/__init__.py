"""What a motor is: one module a family, with its ``FAMILY``. Outside this package nobody asks which one it is."""

from __future__ import annotations

import importlib
import pkgutil

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import Plate
from crisp_compass.motor.family import Family, Winding

_MODULES = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
#: Families by what ``plate.family`` may say.
FAMILIES: dict[str, Family] = {
    key: family
    for family in sorted((m.FAMILY for m in _MODULES if hasattr(m, "FAMILY")), key=lambda f: f.place)
    for key in family.keys
}


def labels() -> dict[str, str]:
    """Return how a choice shows the families, by what ``plate.family`` says."""
    return {key: family.keys[key] for key, family in FAMILIES.items()}


def all_leads() -> set[str]:
    """Return the names of the leads that any motor has."""
    return {name for family in FAMILIES.values() for name, _ in family.leads}


def family_of(bench: Bench) -> Family:
    """Return the family of the bench's motor."""
    return FAMILIES[bench.settings.plate.family]


def three_phases(bench: Bench) -> bool:
    """Tell whether three legs feed the motor, as a star."""
    return family_of(bench).star


def turns_field(bench: Bench) -> bool:
    """Tell whether the firmware turns a field; a commutator does it otherwise."""
    return family_of(bench).turns_field


def constants_of(bench: Bench) -> str:
    """Return what the bench's R, L and flux are of, as exports and records say it."""
    phase = family_of(bench).phase
    return "per phase of the star equivalent" if three_phases(bench) else f"of {phase}"


def flat_top(plate: Plate) -> bool:
    """Tell whether the plate says that the back-EMF is flat at its top."""
    return plate.family == "trapezoidal"


def winding_of(bench: Bench) -> Winding:
    """Return what the loops see of the bench's motor; raises Refusal naming what is not settled."""
    return family_of(bench).winding(bench)


def flux_of(bench: Bench) -> float:
    """Return the settled flux linkage [Wb] that makes the torque; raises Refusal where it is not settled."""
    return family_of(bench).flux(bench)


def pole_pairs_of(plate: Plate) -> int:
    """Return the pole pairs that the plate implies: typed, or by steps a turn, or by speed and frequency."""
    return FAMILIES[plate.family].pole_pairs(plate)
