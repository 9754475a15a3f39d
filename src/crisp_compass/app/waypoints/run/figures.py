"""What a run shows in figures beside its traces: bus, power, how much of voltage and current is taken, warmth, place."""

from __future__ import annotations

import math
from collections.abc import Mapping

from crisp_compass.bench.models import Bench
from crisp_compass.drive.port import Port
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.estimates import FloatArray
from crisp_compass.quantities import show


def live_figures(bench: Bench, port: Port, trace: Mapping[str, FloatArray]) -> tuple[tuple[str, str], ...]:
    """Return names and figures at the end of a trace; what is not told is left out."""
    last = {k: float(v[-1]) for k, v in trace.items() if len(v) and math.isfinite(float(v[-1]))}
    found = []
    bus, holds = last.get("v_bus"), port.parameters()
    if bus is not None:
        found.append(("bus", show(bus, "V", 3)))
    if isinstance(port, SimulatedDrive):
        drawn, shaft = port.power
        found += [("from the bus", show(drawn, "W", 2)), ("at the shaft", show(shaft, "W", 2))]
    elif {"torque", "speed"} <= set(last):
        found.append(("at the shaft", show(last["torque"] * last["speed"], "W", 2)))
    if {"v_d", "v_q"} <= set(last) and bus:
        limit = bus * holds.get("volts_per_bus", 0.0)
        if limit > 0:
            found.append(("voltage taken", f"{100 * math.hypot(last['v_d'], last['v_q']) / limit:.0f} %"))
    if {"i_d", "i_q"} <= set(last) and port.identity.kind == "simulation":
        found.append(("current taken", f"{100 * math.hypot(last['i_d'], last['i_q']) / bench.settings.run.i_limit:.0f} %"))
    if "temp" in last:
        found.append(("winding", f"{last['temp']:.0f} °C"))
    if isinstance(port, SimulatedDrive) and math.isfinite(port.behind):
        found += [("place", f"{port.place / (2 * math.pi):.3f} turns"), ("off its profile", show(port.behind, "deg", 2))]
    if isinstance(port, SimulatedDrive) and port.lost_steps is not None:
        found.append(("steps lost", f"{abs(port.lost_steps)}"))
    if isinstance(port, SimulatedDrive) and port.corrections is not None:
        found.append(("corrections", f"{port.corrections} of {bench.settings.stepping.corrections}"))
    return tuple(found)
