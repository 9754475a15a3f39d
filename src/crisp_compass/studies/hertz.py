"""What volts over frequency does with this motor: the plant run at a slow speed, and loaded there."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak, torque_constant
from crisp_compass.course.circuit import Hertz, hertz_law, rated_hertz
from crisp_compass.course.drive import hertz_drive
from crisp_compass.estimates import FloatArray
from crisp_compass.motor import flux_of, pole_pairs_of
from crisp_compass.plant.parameters import HERTZ
from crisp_compass.plant.simulation import Simulation, join

#: The slow run: part of rated frequency, and seconds after which the load comes and for which it stays.
_SLOW, _LOADED, _STAYS = 0.2, 1.5, 1.5
#: Most periods of a part of the run.
_MOST = 400_000


@dataclass(frozen=True)
class HertzOutlook:
    """The line ``law``; ``frequency`` (n,) [Hz] with ``wanted`` and ``given`` voltage (n,) [V peak].

    The slow run at ``reference`` [rad/s] over ``time`` (m,) [s]: speed (m,) [rad/s] ``plain`` and ``compensated``, loaded with ``load``
    [N·m] from ``loaded`` [s]; ``fall`` (2,) the speed lost by the load without and with slip compensation; ``fault`` what tripped, or
    empty.
    """

    law: Hertz
    frequency: FloatArray
    wanted: FloatArray
    given: FloatArray
    limit: float
    reference: float
    time: FloatArray
    plain: FloatArray
    compensated: FloatArray
    load: float
    loaded: float
    fall: tuple[float, float]
    fault: str


def hertz_outlook(bench: Bench) -> HertzOutlook:
    """Return the voltages over the frequency and a slow run of the plant; raises Refusal naming what is not settled."""
    law, drive = hertz_law(bench), hertz_drive(bench)
    rated, p = rated_hertz(bench), pole_pairs_of(bench.settings.plate)
    limit = law.boost + law.volts_per_rad * law.knee
    frequency = np.linspace(0.0, 1.5 * rated, 200)
    wanted = law.boost + law.volts_per_rad * 2 * math.pi * frequency
    reference = _SLOW * 2 * math.pi * rated / p
    current = rated_peak(bench.settings.plate)
    i_d = drive.control.i_flux
    load = (
        0.5
        * torque_constant(bench.settings.plate, flux_of(bench), p)
        * math.sqrt(max(current**2 - i_d**2, (0.3 * current) ** 2))
    )
    # the ramp takes its time, but the run is bounded
    start = min(max(_LOADED, 2 * reference / drive.control.ramp), _MOST * drive.control.ts)
    stay = min(_STAYS, _MOST * drive.control.ts)
    every = max(round((start + stay) / drive.control.ts / 1500), 1)
    traces, falls, fault = [], [], ""
    for share in (0.0, bench.settings.circuit.slip_share):
        sim = Simulation(drive._replace(control=drive.control._replace(slip_share=share)))
        sim.command(HERTZ, speed=reference)
        free = sim.advance(start, every)
        sim.set_load(load)
        trace = join([free, sim.advance(stay, every)])
        traces.append(trace)
        fault = fault or sim.fault
        before = float(np.mean(free["speed"][-20:]))
        falls.append(before - float(np.mean(trace["speed"][-40:])))
    count = min(len(t["t"]) for t in traces)
    return HertzOutlook(
        law, frequency, wanted, np.minimum(wanted, limit), limit=limit, reference=reference, time=traces[0]["t"][:count], plain=traces[0]["speed"][:count],
        compensated=traces[1]["speed"][:count], load=load, loaded=start, fall=(falls[0], falls[1]), fault=fault,
    )  # fmt: skip
