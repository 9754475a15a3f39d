"""Makes the demo bench and captures of the shore hoist, an induction motor. Everything is invented and simulated.

Run: python demo/make_hoist.py. The seeds are fixed, so the files come out the same every time.
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from make_demo import HERE, ORIGIN, clock, ledger, proposed, read, run_up, settings

from crisp_compass.bench.entered import with_family
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import save_bench
from crisp_compass.capture import write_capture
from crisp_compass.plant import state
from crisp_compass.plant.bench_tests import Probe
from crisp_compass.plant.parameters import MAINS, OFF, Control, Drive, Induction, Inverter, Load, Machine, Sensing
from crisp_compass.plant.simulation import Simulation
from crisp_compass.preparation.checks import record_choice, record_reading

#: 230 V in delta; of the star equivalent. Its magnetizing current is 2.6 A peak.
HOIST = Induction(r=3.06, ld=26.4e-3, lq=26.4e-3, psi=0.553, pole_pairs=2.0, lm=0.2046, rr=2.11)
HOIST_LOAD = Load(inertia=2.3e-3, viscous=9e-4, coulomb=0.11)
_NOTES = {**ORIGIN, "family": "induction"}
_TS = 1e-4


def on_mains(volts: float, hertz: float, load: Load) -> Simulation:
    """Return the motor in steady state on a supply of this phase peak."""
    control = Control(ts=_TS, delay_samples=0.5, rotor_rate=1.0)
    sim = Simulation(Drive(HOIST, load, Inverter(400.0), Sensing(), control))
    sim.command(MAINS, speed=2 * math.pi * hertz / HOIST.pole_pairs, i_d=volts)
    sim.advance(2.5)
    return sim


def steady_test(volts: float, hertz: float, load: Load, path: Path, seed: int, **notes: str) -> None:
    """Record line voltages and currents of a supply with a little unbalance and a fifth harmonic on its voltage."""
    sim, rng = on_mains(volts, hertz, load), np.random.default_rng(seed)
    start = float(sim.state[state.FIELD])
    trace = sim.advance(0.4)
    at = start + 2 * math.pi * hertz * (trace["t"] - trace["t"][0])
    phases = [volts * np.cos(at - k * 2 * math.pi / 3) for k in range(3)]
    scale_v, scale_i = 2.2 * volts, 1.5 * float(np.max(np.abs(trace["i_a"])))
    columns = {
        "v_ab": Probe(scale_v, 12, 1e-3 * scale_v, 2e-3 * scale_v).sample(phases[0] - phases[1], rng),
        "v_bc": Probe(scale_v, 12, 1e-3 * scale_v, -1e-3 * scale_v).sample(phases[1] - phases[2], rng),
        "i_a": Probe(scale_i, 12, 1e-3 * scale_i, 3e-3 * scale_i).sample(trace["i_a"], rng),
        "i_b": Probe(scale_i, 12, 1e-3 * scale_i, -2e-3 * scale_i).sample(trace["i_b"], rng),
    }
    write_capture(path, trace["t"] - trace["t"][0], columns, {**_NOTES, **notes})


def cut_off(volts: float, path: Path) -> None:
    """Switch the running motor off and record the voltage that its terminals keep."""
    sim, rng = on_mains(volts, 50.0, HOIST_LOAD), np.random.default_rng(93)
    sim.command(OFF)
    sim.advance(0.004)
    rows, rate = 3200, HOIST.rr / HOIST.lm
    phase = np.empty((rows, 3))
    for k in range(rows):
        x = sim.state
        psi = complex(x[state.PSI_ALPHA], x[state.PSI_BETA])
        v = (-rate + 1j * HOIST.pole_pairs * float(x[state.OMEGA])) * psi
        phase[k] = [(v * np.exp(-2j * math.pi * n / 3)).real for n in range(3)]
        sim.advance(_TS)
    scale = 1.3 * math.sqrt(3) * float(np.max(np.abs(phase)))
    columns = {
        n: Probe(scale, 12, 1e-3 * scale, 2e-3 * scale).sample(phase[:, a] - phase[:, b], rng)
        for n, a, b in (("v_ab", 0, 1), ("v_bc", 1, 2))
    }
    write_capture(path, np.arange(rows) * _TS, columns, _NOTES)


def dc_levels(path: Path) -> None:
    """Step a bench supply between A and B, C open."""
    rng, level = np.random.default_rng(91), np.repeat([0.0, 0.6, 1.2, 1.8, 2.4, 3.0], 500)
    i = np.convolve(level, np.ones(12) / 12, mode="full")[: len(level)]
    columns = {
        "v_ab": Probe(25.0, 12, 8e-3, 0.02).sample(2 * HOIST.r * i, rng),
        "i_a": Probe(5.0, 12, 2e-3, 0.006).sample(i, rng),
    }
    write_capture(path, np.arange(len(level)) * 1e-3, columns, {**_NOTES, "circuit": "a-b"})


def make_hoist(folder: Path) -> None:
    """The shore hoist: an induction motor with an encoder, settled from plate to speed loop."""
    folder.mkdir(exist_ok=True)
    full = math.sqrt(2 / 3) * 230
    dc_levels(folder / "hoist-dc.csv")
    steady_test(full, 50.0, HOIST_LOAD, folder / "hoist-no-load.csv", 81)
    steady_test(0.68 * full, 50.0, HOIST_LOAD, folder / "hoist-no-load-low.csv", 82)
    steady_test(25.6, 12.5, Load(1e9, 0.0, 0.0), folder / "hoist-locked.csv", 83)
    cut_off(full, folder / "hoist-decay.csv")
    magnet = Machine(HOIST.r, HOIST.ld, HOIST.lq, HOIST.psi, HOIST.pole_pairs)
    run_up(magnet, HOIST_LOAD, 1.1, 0.5, 3.5, folder / "hoist-run-up.csv")
    bench = with_family(
        Bench(name="Shore hoist", notes="Lake-survey buoy, hoist at the mooring. Invented motor; every capture is simulated."),
        "induction",
    )  # fmt: skip
    rad = 2 * math.pi / 60
    bench = settings(
        bench, "plate", motor="SH-750", v_bus=325.0, rated_voltage=230.0, connection="delta", mains_hz=50.0, rated_current=3.3, current_base="rms",
        rated_power=750.0, rated_speed=1405 * rad, power_factor=0.76, efficiency=0.75, top_speed=2400 * rad,
    )  # fmt: skip
    bench = settings(bench, "supply", source="mains", mains_v=230.0, drive_continuous=5.0, drive_base="rms")
    bench = settings(bench, "sensor", kind="incremental", counts_per_rev=4096)
    bench = settings(bench, "resistance", temperature=23.5)
    bench = settings(bench, "pwm", timer_hz=100e6, carrier_hz=10e3, dead_time=1.5e-6)
    bench = settings(bench, "current_loop", bandwidth_hz=350.0, step=2.0)
    bench = settings(bench, "speed_loop", a=4.0, filter_hz=120.0, ramp=160.0)
    bench = settings(bench, "run", speed=900 * rad, i_limit=6.0, i_trip=14.0, v_min=200.0)
    bench = proposed(bench, "plate", "from the motor's plate, delta for 230 V", 0)
    bench = ledger(bench, 1, "note", "rope off the drum, load hook empty; brake holds 9 N·m by spring balance")
    bench = record_choice(bench, "brake", "in-order", "holds with the coil off", clock(2))
    bench = record_reading(bench, "insulation_motor", "phase_u", 480e6, clock(3))
    for minute, topic, names, reason in (
        (4, "resistance", ("dc",), "DC levels, on a line"),
        (6, "circuit", ("decay", "no-load-low", "locked", "no-load"), "both tests, one circuit; the decay agrees"),
        (12, "mechanics", ("run-up",), "run-up and coast, rope off"),
    ):
        for k, name in enumerate(names):
            bench = read(bench, topic, f"hoist-{name}.csv", folder, minute + k)
        bench = proposed(bench, topic, reason, minute + len(names))
    for minute, topic, reason in (
        (15, "pwm", "as the firmware sets its timer"),
        (16, "current_loop", "margin enough for the hoist"),
        (17, "speed_loop", "calm lifting wanted"),
    ):
        bench = proposed(bench, topic, reason, minute)
    save_bench(bench, folder / "hoist.bench.json")


if __name__ == "__main__":
    make_hoist(HERE / "hoist")
