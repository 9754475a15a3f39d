"""What uneven hall edges cost at one speed, and what correcting them in the table buys."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.conversions import kt_from_flux
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.speed import tune_speed
from crisp_compass.plant.parameters import SPEED, Drive
from crisp_compass.plant.simulation import Simulation, Trace
from crisp_compass.quantities import grouped
from crisp_compass.sensing.sensor import HALLS
from crisp_compass.studies.untuned_drive import untuned_drive


@dataclass(frozen=True)
class EdgeCost:
    """What uneven hall edges cost at one speed, with a table of even edges and with the measured ones.

    ``ripple`` peak to peak of the torque over its mean, ``jitter`` standard deviation of the measured speed over the
    mean, ``swing`` that of the shaft's real speed, each (even table, corrected); traces for both; ``worst`` the
    largest error of one period measurement that the edges alone make (over 60°).
    """

    speed: float
    ripple: tuple[float, float]
    jitter: tuple[float, float]
    swing: tuple[float, float]
    worst: float
    even: Trace
    corrected: Trace


def default_edge_speed(bench: Bench) -> float:
    """Return a quarter of top speed, rad/s."""
    return 0.25 * bench.settings.plate.top_speed


#: Longest run that a page asks for, s of motor time, and a thinning that keeps nothing of what nobody looks at.
_LONGEST_S, _NOT_KEPT = 30.0, 1 << 40


def edge_cost(bench: Bench, edges_deg: FloatArray, speed: float) -> EdgeCost:
    """Run at ``speed`` [rad/s] against 0.3 of rated torque with halls at ``edges_deg`` (6,), ascending from their first.

    Raises Refusal where the machine is not settled, or the speed is above what the bus allows.
    """
    drive = untuned_drive(bench)
    m = drive.machine
    top = 0.85 * drive.inverter.v_supply * drive.control.volts_per_bus / (m.pole_pairs * m.psi)
    if not 0 < speed <= top:
        raise Refusal(
            f"{grouped(speed * 30 / math.pi)} rpm cannot be run", f"use up to {grouped(top * 30 / math.pi)} rpm on this bus"
        )
    turn = 2 * math.pi / (m.pole_pairs * speed)
    start = max(1.5 * speed / drive.control.ramp, 60 * turn, 0.3)
    settled = max(0.4, 40 * turn)
    if start + settled + 6 * turn > _LONGEST_S:
        least = 106 * 2 * math.pi / (m.pole_pairs * _LONGEST_S)
        raise Refusal(
            f"at {speed * 30 / math.pi:.3g} rpm and this ramp the run would take {start + settled + 6 * turn:.0f} s of motor time",
            f"use at least {least * 30 / math.pi:.2g} rpm, and a ramp that gets there within {_LONGEST_S / 3:.0f} s",
        )
    drive = _hall_speed_loop(drive, speed)
    edges = np.asarray(edges_deg, dtype=np.float64)
    grid = edges - 60 * np.arange(6)
    even = float(np.mean(grid)) + 60 * np.arange(6)
    load = 0.3 * m.torque_factor * m.pole_pairs * m.psi * drive.control.i_limit
    traces = []
    for table_edges in (even, edges):
        sim = Simulation(drive, edges=np.radians(edges), table_edges=np.radians(table_edges))
        sim.command(SPEED, speed=speed)
        sim.advance(start, every=_NOT_KEPT)
        sim.set_load(load)
        sim.advance(settled, every=_NOT_KEPT)
        every = max(1, round(6 * turn / drive.control.ts / 3000))
        traces.append(sim.advance(6 * turn, every=every))
        if sim.fault:
            raise Refusal(f"the simulated run ends in {sim.fault}", "try a lower speed or check the settled values")
    periods = np.diff(np.append(edges, edges[0] + 360)) / 60 - 1
    even_run, corrected = traces
    return EdgeCost(
        speed,
        (_ripple(even_run["torque"]), _ripple(corrected["torque"])),
        (_scatter(even_run["speed_seen"]), _scatter(corrected["speed_seen"])),
        (_scatter(even_run["speed"]), _scatter(corrected["speed"])),
        worst=float(np.max(np.abs(periods))),
        even=even_run,
        corrected=corrected,
    )


def _hall_speed_loop(drive: Drive, speed: float) -> Drive:
    """Return the drive on halls, its speed loop slow against the edges: crossover a thirtieth of their rate."""
    m, c = drive.machine, drive.control
    rate = 6 * m.pole_pairs * speed / (2 * math.pi)
    kt = kt_from_flux(m.psi, "peak", m.pole_pairs)
    loop_hz = 1 / (c.ts * c.speed_divider)
    crossover, filter_hz = min(rate / 30, loop_hz / 60), min(rate / 4, loop_hz / 6)
    loop = tune_speed(
        inertia=drive.load.whole, kt=kt, viscous=drive.load.viscous, loop_hz=loop_hz, current_bandwidth_hz=20 * crossover,
        filter_hz=filter_hz, bandwidth_hz=crossover,
    )  # fmt: skip
    return drive._replace(
        sensing=drive.sensing._replace(angle_sensor=float(HALLS)),
        control=c._replace(kp_speed=loop.kp, ki_speed=loop.ki, speed_filter=2 * math.pi * filter_hz),
    )


def _ripple(torque: FloatArray) -> float:
    mean = abs(float(np.mean(torque)))
    return float(np.ptp(torque)) / mean if mean > 0 else math.inf


def _scatter(values: FloatArray) -> float:
    return float(np.std(values)) / abs(float(np.mean(values)))
