"""The link of this bench: its supply, capacitor, brake resistor and fold-back, as the simulated drive has them, and what cannot be."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import Inverter
from crisp_compass.preparation.supply import bus_range
from crisp_compass.quantities import show

#: The brake's switch lets go this much below where it came on, and by how much it must stand above the highest supply.
_HYSTERESIS, _ABOVE = 0.97, 1.02


def sinks(bench: Bench) -> bool:
    """Tell whether the supply takes power back: as said, else a battery does; a rectifier never does."""
    said = bench.settings.bus.sinks
    if bench.settings.bus.rectifier != "none":
        return False
    return bench.settings.supply.source == "battery" if said == "by-kind" else said == "yes"


def brake_levels(bench: Bench) -> tuple[float, float] | None:
    """Return where the brake resistor is switched on and off [V]; None without one. Raises Refusal for a level that cannot be."""
    s, high = bench.settings.bus, bus_range(bench).high
    if s.brake_ohm is None:
        return None
    if s.brake_on is None:
        raise Refusal("the brake resistor has no level at which it is switched on", f"enter one above the highest supply of {show(high, 'V')}", field="bus.brake_on")
    if s.brake_on < _ABOVE * high:
        raise Refusal(
            f"the brake resistor would be on at {show(s.brake_on, 'V')} while the supply alone gives up to {show(high, 'V')}: it would burn for ever",
            f"at least {show(_ABOVE * high, 'V', 3)}", field="bus.brake_on",
        )  # fmt: skip
    most = bench.settings.run.v_max
    if most is not None and s.brake_on >= most:
        raise Refusal(f"the drive trips at {show(most, 'V')} before the brake resistor comes on at {show(s.brake_on, 'V')}", "a lower level, or a higher maximum bus", field="bus.brake_on")
    if s.brake_most is not None and s.brake_on / s.brake_ohm > s.brake_most:
        raise Refusal(
            f"{show(s.brake_ohm, 'Ω')} at {show(s.brake_on, 'V')} draw {show(s.brake_on / s.brake_ohm, 'A')}, more than the {show(s.brake_most, 'A')} of the switch",
            f"at least {show(s.brake_on / s.brake_most, 'Ω', 3)}", field="bus.brake_ohm",
        )  # fmt: skip
    return s.brake_on, max(_HYSTERESIS * s.brake_on, high)


def fold_levels(bench: Bench) -> tuple[float, float] | None:
    """Return from which bus voltage on braking is taken back, and where none is left [V]; None where it is not. Raises Refusal for levels that cannot be."""
    s, high = bench.settings.bus, bus_range(bench).high
    if s.fold_start is None and s.fold_end is None:
        return None
    if s.fold_start is None or s.fold_end is None:
        raise Refusal("only one end of the fold-back is entered", "enter both, or none", field="bus.fold_end" if s.fold_end is None else "bus.fold_start")
    if s.fold_end <= s.fold_start:
        raise Refusal(f"the fold-back ends at {show(s.fold_end, 'V')}, not above its start at {show(s.fold_start, 'V')}", "a higher end", field="bus.fold_end")
    if s.fold_start < high:
        raise Refusal(
            f"the fold-back starts at {show(s.fold_start, 'V')}, and the supply alone gives up to {show(high, 'V')}: the drive could not brake then",
            f"at least {show(high, 'V')}", field="bus.fold_start",
        )  # fmt: skip
    most = bench.settings.run.v_max
    if most is not None and s.fold_end > most:
        raise Refusal(f"the fold-back ends at {show(s.fold_end, 'V')}, above the {show(most, 'V')} at which the drive trips", "a lower end, or a higher maximum bus", field="bus.fold_end")
    return s.fold_start, s.fold_end


def low_levels(bench: Bench) -> tuple[float, float] | None:
    """Return below which bus voltage driving torque is taken back, and where none is left [V]; None where it is not. Raises Refusal for levels that cannot be."""
    s, run = bench.settings.bus, bench.settings.run
    if s.low_start is None and s.low_end is None:
        return None
    if s.low_start is None or s.low_end is None:
        raise Refusal("only one end of the fold-back of a low bus is entered", "enter both, or none", field="bus.low_end" if s.low_end is None else "bus.low_start")
    if s.low_start <= s.low_end:
        raise Refusal(f"driving torque would be taken back from {show(s.low_start, 'V')} on and be gone at {show(s.low_end, 'V')}, which is not below", "a lower end", field="bus.low_end")
    if s.low_end < run.v_min:
        raise Refusal(f"the drive trips at {show(run.v_min, 'V')} before its torque is gone at {show(s.low_end, 'V')}", f"at least {show(run.v_min, 'V')}, or a lower minimum bus", field="bus.low_end")
    if s.low_start > bench.settings.plate.v_bus:
        raise Refusal(
            f"driving torque would be taken back from {show(s.low_start, 'V')} on, above the {show(bench.settings.plate.v_bus, 'V')} of the bus: never all of it",
            f"at most {show(bench.settings.plate.v_bus, 'V')}", field="bus.low_start",
        )  # fmt: skip
    return s.low_start, s.low_end


def inverter_of(bench: Bench, *, lost: float, knee: float) -> Inverter:
    """Return the simulated link and bridge: ``lost`` [V] by a leg, fully above ``knee`` [A]."""
    s = bench.settings.bus
    return Inverter(
        v_supply=need(bench, "plate.v_bus"), r_supply=s.source_ohm, dead_voltage=lost, knee=knee, capacitance=s.capacitance or 0.0, sink=1.0 if sinks(bench) or not s.capacitance else 0.0,
        brake_ohm=(s.brake_ohm or 0.0) if s.capacitance and brake_levels(bench) else 0.0,
        mains_hz=float(bench.settings.supply.mains_hz) if s.capacitance and s.rectifier != "none" else 0.0, pulses=6.0 if s.rectifier == "three-phase" else 2.0,
    )  # fmt: skip


def watched(bench: Bench, *, closes: bool) -> dict[str, float]:
    """Return what the firmware does about its bus: the brake's switch, and the fold-back where a loop ``closes`` on the speed."""
    found: dict[str, float] = {}
    if (levels := brake_levels(bench)) is not None:
        found |= {"brake_on": levels[0], "brake_off": levels[1]}
    if closes and (fold := fold_levels(bench)) is not None:
        found |= {"fold_start": fold[0], "fold_end": fold[1]}
    if closes and (low := low_levels(bench)) is not None:
        found |= {"low_start": low[0], "low_end": low[1]}
    return found
