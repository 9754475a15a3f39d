"""What a constant or setting of a motor bench can be: one table for the window, the commands and the bench file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Protocol

from crisp_compass.errors import Refusal
from crisp_compass.quantities import UNITS, from_si, show

#: Unit, least and greatest value in SI, by name. Where the least is 0, a value may be 0 and what lies below it is noise of an estimate.
LIMITS: dict[str, tuple[str, float, float]] = {
    "resistance": ("Ω", 1e-7, 1e5), "resistance_at_reference": ("Ω", 1e-7, 1e5), "stator_resistance": ("Ω", 1e-7, 1e5),
    "rotor_resistance": ("Ω", 1e-7, 1e5), "inductance": ("H", 1e-10, 10), "ld": ("H", 1e-10, 10), "lq": ("H", 1e-10, 10),
    "leakage_inductance": ("H", 1e-9, 10), "magnetizing_inductance": ("H", 1e-8, 100), "magnetizing_current": ("A", 1e-4, 1e5),
    "rotor_time_constant": ("s", 1e-6, 1e4), "flux_linkage": ("Wb", 1e-8, 100), "ke": ("V·s/rad", 1e-8, 1e3), "kt": ("N·m/A", 1e-8, 1e5),
    "inertia": ("kg·m²", 1e-12, 1e4), "viscous_friction": ("N·m·s/rad", 0, 1e3), "coulomb_friction": ("N·m", 0, 1e6),
    "pole_pairs": ("", 1, 200), "v_bus": ("V", 0.5, 1500), "rated_current": ("A", 1e-4, 1.5e5), "top_speed": ("rad/s", 1e-3, 2.1e5),
    "loop_hz": ("Hz", 10, 1e6), "carrier_hz": ("Hz", 10, 1e7), "crossover_hz": ("Hz", 1e-3, 1e6), "filter_hz": ("Hz", 1e-3, 1e6),
    "kp_current": ("V/A", 1e-9, 1e7), "ki_current": ("V/(A·s)", 1e-9, 1e11), "kp_speed": ("A/(rad/s)", 1e-12, 1e7),
    "ki_speed": ("A/rad", 1e-12, 1e9), "acceleration": ("rad/s²", 1e-6, 1e10),
}  # fmt: skip


class _Valued(Protocol):
    @property
    def value(self) -> float: ...
    @property
    def unit(self) -> str: ...


def limits(**names: str) -> dict[str, tuple[str, float, float]]:
    """Return unit and limits by the names a waypoint settles them under: ``limits(kp_d="kp_current")``."""
    return {own: LIMITS[name] for own, name in names.items()}


def check_plausible(name: str, value: float) -> None:
    """Refuse a value that no motor bench has, in SI."""
    unit, low, high = LIMITS[name]
    if not (low <= value <= high or (low == 0 and -high <= value <= 0)):
        lowest, highest = (show(x, unit) if unit in UNITS and unit else f"{from_si(x, unit):g}" for x in (low, high))
        what = f"{show(value, unit) if unit else f'{value:g}'} is {'more' if value > high else 'less'} than any motor bench has"
        raise Refusal(what, f"{lowest} to {highest} is possible: check units, scales and channels")


def check_estimates(estimates: Mapping[str, _Valued]) -> None:
    """Refuse an estimate that no motor can have: a unit, a scale or a channel is wrong, however small its error bar."""
    known: Iterable[str] = (name for name in estimates if name in LIMITS and LIMITS[name][0] == estimates[name].unit)
    for name in known:
        try:
            check_plausible(name, estimates[name].value)
        except Refusal as refusal:
            raise Refusal(f"{name.replace('_', ' ')}: {refusal.problem}", refusal.remedy, code="implausible") from None
