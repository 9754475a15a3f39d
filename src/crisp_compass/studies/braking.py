"""A stop of the simulated drive: what its bus does, and where the energy goes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.bus import brake_levels, sinks
from crisp_compass.course.drive import build_drive, running_current, running_mode
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.simulation import Simulation, Trace, join
from crisp_compass.studies.scenarios import open_simulation

#: Seconds that a start and a stop may take.
_PATIENCE = 60.0


@dataclass(frozen=True)
class Stop:
    """A stop from the run's speed: ``time`` (n,) s, ``speed`` (n,) rad/s, ``bus`` (n,) V, ``given`` (n,) W that the bridge gives to the bus and ``burnt`` (n,) W of the resistor.

    Energies [J]: ``kinetic`` of the shaft before, ``returned`` to the bus, ``resistor``, ``capacitor`` that the bus has more at its highest than before; ``peak_volts`` [V], ``peak_power`` [W]
    given, ``ripple`` [V] from least to most of the bus while it runs, ``closed_form`` [V] √(V² + 2E/C) with all kinetic energy in the capacitor (NaN without one); ``fault`` ended it, or is empty; ``seconds`` to rest, NaN where it does not get there.
    """

    time: FloatArray
    speed: FloatArray
    bus: FloatArray
    given: FloatArray
    burnt: FloatArray
    kinetic: float
    returned: float
    resistor: float
    capacitor: float
    peak_volts: float
    peak_power: float
    closed_form: float
    ripple: float
    fault: str
    seconds: float


@dataclass(frozen=True)
class Resistor:
    """What a brake resistor must be: at most ``most`` [Ω] to take the peak power at its level, at least ``least`` [Ω] for the switch's current (NaN: none is entered); ``pulse`` [J] a stop,
    ``mean`` [W] over the time from stop to stop (NaN: none is entered), ``power`` [W] while it is on."""

    most: float
    least: float
    pulse: float
    mean: float
    power: float


def _driven(sim: Simulation, bench: Bench, speed: float, seconds: float) -> Trace:
    """Run for ``seconds`` to a speed; the bus and what it gets are those of each period."""
    sim.command(running_mode(bench), speed=speed, i_d=running_current(bench))
    return sim.advance(seconds)


def stop(bench: Bench) -> Stop:
    """Run up to the run's speed and stop along the ramp; raises Refusal where the drive lacks something or does not get there."""
    bench = standing(bench)
    target = bench.settings.run.speed
    if target == 0.0:
        raise Refusal("no speed is asked for", "enter one on the run leg", field="run.speed")
    sim, c = open_simulation(bench), build_drive(bench).control
    ramp = abs(target) / c.ramp + (c.ramp / c.jerk if c.jerk > 0 else 0.0)
    if ramp > _PATIENCE:
        raise Refusal(f"the ramp takes {ramp:.3g} s", "choose a steeper one on the speed loop", field="speed_loop.ramp")
    reached = False
    while sim.time < 3 * ramp + 10.0 and not sim.fault and not reached:
        seen = _driven(sim, bench, target, max(0.1 * ramp, 0.05))["speed"]
        reached = abs(float(np.mean(seen[-20:])) - target) < 0.05 * abs(target)
    if not reached:
        raise Refusal(f"the drive does not get to its speed{f': {sim.fault}' if sim.fault else ''}", "look at the run leg", field="run.speed")
    running = _driven(sim, bench, target, max(0.1, 0.2 * ramp))["v_bus"]
    x, link = sim.state, sim.drive.inverter
    before, speed = float(x[state.V_BUS]), float(x[state.OMEGA])
    burnt0 = float(x[state.CHOPPED])
    parts, burnt, given = [], [], []
    piece = max(round(0.002 / c.ts), 1) * c.ts
    still, waited = 0.0, 0.0
    while waited < ramp + 2.0 and still < 0.1 and not sim.fault:
        chopped = float(x[state.CHOPPED])
        parts.append(_driven(sim, bench, 0.0, piece))
        given.append(-float(x[state.DRAWN]))
        burnt.append((float(x[state.CHOPPED]) - chopped) / piece)
        still = still + piece if abs(float(x[state.OMEGA])) < 0.01 * abs(target) else 0.0
        waited += piece
    trace = join(parts)
    t = trace["t"] - trace["t"][0]
    load, bus = sim.drive.load, trace["v_bus"]
    at: FloatArray = np.arange(1.0, len(parts) + 1.0) * piece
    rest = np.flatnonzero(np.abs(trace["speed"]) < 0.01 * abs(target))
    kinetic, capacitance = 0.5 * load.whole * speed**2, link.capacitance
    power = np.asarray(given, dtype=np.float64)
    return Stop(
        at, np.interp(at, t, trace["speed"]), np.interp(at, t, bus), power, burnt=np.asarray(burnt, dtype=np.float64), kinetic=kinetic, returned=float(np.sum(np.maximum(power, 0.0)) * piece),
        resistor=float(x[state.CHOPPED]) - burnt0, capacitor=0.5 * capacitance * (float(bus.max()) ** 2 - before**2), peak_volts=float(bus.max()), peak_power=max(float(power.max(initial=0.0)), 0.0),
        closed_form=math.sqrt(before**2 + 2 * kinetic / capacitance) if capacitance > 0 else math.nan, ripple=float(np.ptp(running)), fault=sim.fault, seconds=float(t[rest[0]]) if len(rest) else math.nan,
    )  # fmt: skip


def resistor_for(bench: Bench, found: Stop) -> Resistor | None:
    """Return what the brake resistor must be for this stop; None where the supply takes the power or nothing comes back.

    At its level V the resistor must take the peak power: R ≤ V²/P; the switch bears I: R ≥ V/I.
    """
    s = bench.settings.bus
    if sinks(bench) or not s.capacitance or found.peak_power <= 0.0:
        return None
    levels = brake_levels(bench)
    volts = levels[0] if levels is not None else s.brake_on or 1.15 * float(found.bus[0])
    pulse = found.resistor if found.resistor > 0 else found.returned
    return Resistor(
        float(volts**2 / found.peak_power), volts / s.brake_most if s.brake_most else math.nan, pulse, pulse / s.stops_every if s.stops_every else math.nan,
        power=volts**2 / s.brake_ohm if s.brake_ohm else math.nan,
    )  # fmt: skip

