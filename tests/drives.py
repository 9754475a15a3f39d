"""Benches of invented drives, drawn at random over wide ranges: each a whole one, with its own motor, bus, loops and sensor."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from crisp_compass.bench import load_bench
from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import HallRecord, HallSector
from crisp_compass.bench.rules import settle
from crisp_compass.course.waypoints import BY_KEY

DEMO = Path(__file__).parents[1] / "demo"
WHEN = "2026-01-01T00:00:00"
_PAIRS = ("A+B-", "A+C-", "B+C-", "B+A-", "C+A-", "C+B-")


def proposed(bench: Bench, topic: str) -> Bench:
    """Settle what a waypoint proposes by design."""
    propose = BY_KEY[topic].propose
    assert propose is not None
    p = propose(bench)
    return settle(bench, topic, p.values, reason="drawn", when=WHEN, method=p.method, rests_on=p.rests_on)


def _put(bench: Bench, topic: str, **values: float) -> Bench:
    old = bench.settled[topic]
    made = {k: Quantity(value=v, unit=old.values[k].unit) for k, v in values.items()}
    return bench.model_copy(update={"settled": {**bench.settled, topic: old.model_copy(update={"values": {**old.values, **made}})}})


def random_drive(seed: int, demo: str = "winch", *, halls: bool = False) -> Bench:
    """Return a whole bench made from a demo's: bus 12 to 400 V, 1 to 40 A, L/R 0.3 to 6 ms, Lq up to 1.8 Ld, 1 to 14 pole pairs (a stepper 50)."""
    rng = np.random.default_rng(seed)

    def spread(low: float, high: float) -> float:
        return float(np.exp(rng.uniform(math.log(low), math.log(high))))

    bench = load_bench(DEMO / demo / f"{demo}.bench.json")
    stepper = demo == "carousel"
    bus, current, pairs = spread(12, 400), spread(1, 40), 50 if stepper else int(rng.integers(1, 15))
    top = spread(30, 100) if stepper else spread(60, 600)
    psi = bus * (rng.uniform(0.2, 0.6) if stepper else rng.uniform(0.4, 0.8) / math.sqrt(3)) / (top * pairs)
    r = bus * rng.uniform(0.02, 0.12) / current
    ld = r * spread(3e-4, 6e-3)
    torque = (1.0 if stepper else 1.5) * pairs * psi * current
    shape = {"detent_torque": torque * rng.uniform(0, 0.03)} if stepper else {"pole_pairs": pairs}
    bench = proposed(enter(bench, "plate", {"v_bus": bus, "rated_current": current, "current_base": "peak", "top_speed": top, **shape}), "plate")
    bench = bench.model_copy(update={"settled": {**bench.settled, "inductance": bench.settled["inductance"].model_copy(update={"values": {k: bench.settled["inductance"].values[k] for k in ("ld", "lq")}})}})
    bench = _put(bench, "resistance", resistance=r)
    bench = _put(bench, "inductance", ld=ld, lq=ld if stepper else ld * rng.uniform(1.0, 1.8))
    bench = _put(bench, "flux", flux_linkage=psi)
    bench = _put(bench, "mechanics", inertia=0.5 * torque * spread(0.05, 1.0) / top, viscous_friction=torque * rng.uniform(0.005, 0.05) / top, coulomb_friction=torque * rng.uniform(0.01, 0.06))
    bench = _put(bench, "commutation", zero_offset=rng.uniform(0, 2 * math.pi))
    bench = enter(bench, "run", {"i_limit": 1.5 * current, "i_trip": 3 * current, "v_min": 0.3 * bus, "speed": 0.5 * top, "load": 0.0})
    bench = enter(enter(bench, "current_loop", {"bandwidth_hz": rng.uniform(300, 1000)}), "speed_loop", {"ramp": 2 * top})
    if halls:
        bench = _with_halls(bench, rng)
    for topic in ("pwm", "current_loop", "speed_loop"):
        bench = proposed(bench, topic)
    return bench


def _with_halls(bench: Bench, rng: np.random.Generator) -> Bench:
    base = rng.uniform(0, 60)
    edges = [base + 60 * k + rng.uniform(-3, 3) for k in range(6)]
    states = {}
    for k, code in enumerate("546231"):
        low, high = edges[k] % 360, edges[(k + 1) % 6] % 360 if k < 5 else edges[0] % 360
        center = (low + ((high - low) % 360) / 2) % 360
        drive = _PAIRS[round((center + 120) / 60) % 6]
        states[code] = HallSector(center_deg=center, from_deg=low, to_deg=high, drive=drive)  # type: ignore[arg-type]
    table = HallRecord(spacing_deg=120, direction=1, states=states, edge_errors_deg=(0, 0, 0, 0, 0, 0))
    commutation = bench.settled["commutation"].model_copy(update={"values": {}, "halls": table})
    settings = bench.settings.model_copy(update={"sensor": bench.settings.sensor.model_copy(update={"kind": "halls"})})
    return bench.model_copy(update={"settings": settings, "settled": {**bench.settled, "commutation": commutation}})


def random_cage(seed: int) -> Bench:
    """Return a whole bench of an induction motor: 110 to 460 V, 0.7 to 40 A rms, 50 to 200 Hz, a third of them with volts over frequency."""
    rng = np.random.default_rng(seed)

    def spread(low: float, high: float) -> float:
        return float(np.exp(rng.uniform(math.log(low), math.log(high))))

    volts, current, hertz, pairs = float(rng.choice([110, 230, 400, 460])), spread(0.7, 40), float(rng.choice([50, 60, 87, 200])), int(rng.integers(1, 5))
    phase, peak, omega = math.sqrt(2 / 3) * volts, math.sqrt(2) * current, 2 * math.pi * hertz
    z, sync = phase / peak, omega / pairs
    factor, efficiency = rng.uniform(0.65, 0.85), rng.uniform(0.7, 0.9)
    power, bus = math.sqrt(3) * volts * current * factor * efficiency, volts * math.sqrt(2) * rng.uniform(0.95, 1.3)
    plate = {
        "rated_voltage": volts, "mains_hz": hertz, "rated_current": current, "current_base": "rms", "rated_power": power, "rated_speed": sync * (1 - rng.uniform(0.02, 0.07)),
        "power_factor": factor, "efficiency": efficiency, "v_bus": bus, "top_speed": 1.1 * sync,
    }  # fmt: skip
    bench = proposed(enter(load_bench(DEMO / "hoist" / "hoist.bench.json"), "plate", plate), "plate")
    rs, rr, lm, leakage = rng.uniform(0.02, 0.09) * z, rng.uniform(0.02, 0.07) * z, z / (rng.uniform(0.3, 0.6) * omega), rng.uniform(0.08, 0.25) * z / omega
    bench = _put(bench, "resistance", resistance=rs)
    magnetizing = phase / math.hypot(rs, omega * (lm + leakage))
    bench = _put(bench, "circuit", leakage_inductance=leakage, magnetizing_inductance=lm, rotor_resistance=rr, rotor_time_constant=lm / rr, magnetizing_current=magnetizing)
    torque = power / sync
    bench = _put(bench, "mechanics", inertia=torque * spread(0.1, 1.5) / sync, viscous_friction=torque * rng.uniform(0.002, 0.02) / sync, coulomb_friction=torque * rng.uniform(0.005, 0.03))
    bench = enter(bench, "run", {"i_limit": 1.5 * peak, "i_trip": 3.5 * peak, "v_min": 0.3 * bus, "speed": 0.5 * sync, "load": 0.0})
    bench = enter(enter(bench, "current_loop", {"bandwidth_hz": rng.uniform(150, 500)}), "speed_loop", {"ramp": sync})
    for topic in ("pwm", "current_loop", "speed_loop"):
        bench = proposed(bench, topic)
    return enter(bench, "circuit", {"firmware": "volts-per-hertz"}) if rng.random() < 0.3 else bench
