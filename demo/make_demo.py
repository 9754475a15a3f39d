"""Makes the demo benches and captures of the lake-survey buoy. Everything is invented and simulated.

Run: python demo/make_demo.py. The seeds are fixed, so the files come out the same every time.
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import scipy

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import enter, with_family
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry
from crisp_compass.bench.rules import settle
from crisp_compass.bench.store import save_bench
from crisp_compass.capture import write_capture
from crisp_compass.commutation.alignment import propose_fields
from crisp_compass.course.captures import add_evidence, evaluate
from crisp_compass.course.drive import build_drive
from crisp_compass.course.points import with_rows
from crisp_compass.course.waypoints import BY_KEY, KINDS
from crisp_compass.course.waypoints.current_loop import current_values, design_current
from crisp_compass.course.waypoints.current_loop import inputs as current_inputs
from crisp_compass.course.waypoints.inductance import inductance_values
from crisp_compass.course.waypoints.plate import plate_values
from crisp_compass.course.waypoints.pwm import plan_bench_pwm, pwm_values
from crisp_compass.course.waypoints.speed_loop import design_speed, speed_values
from crisp_compass.course.waypoints.speed_loop import inputs as speed_inputs
from crisp_compass.motion.points import Row
from crisp_compass.plant.bench_tests import Probe, back_emf, coast, hall_levels, inductance_ab, rl_response
from crisp_compass.plant.parameters import (
    ALIGN,
    CURRENT,
    Control,
    Inverter,
    Load,
    Machine,
    Sensing,
    locked_rotor,
)
from crisp_compass.plant.simulation import Simulation, join
from crisp_compass.plant.standstill import Pulses, align, pulse_currents
from crisp_compass.preparation.checks import record_choice, record_reading, record_typed, skip_check
from crisp_compass.preparation.interference import add_spike
from crisp_compass.preparation.sensor_cable import FRAME, set_reading
from crisp_compass.preparation.wiring import set_lead

HERE = Path(__file__).parent
WINCH = Machine(r=0.4127, ld=0.981e-3, lq=1.214e-3, psi=16.83e-3, pole_pairs=7.0)
WINCH_LOAD = Load(inertia=1.9e-4, viscous=1.6e-4, coulomb=9e-3)
THRUSTER = Machine(r=0.0622, ld=44.1e-6, lq=44.1e-6, psi=2.137e-3, pole_pairs=6.0)
THRUSTER_LOAD = Load(inertia=2.4e-5, viscous=4e-6, coulomb=2.5e-3)
ORIGIN = {"origin": "simulated by demo/make_demo.py, invented motor", "temperature_c": "23.5"}


def staircase_through_bridge(
    machine: Machine, v_bus: float, voltages: list[float], i_scale: float, path: Path
) -> None:
    """Hold commanded voltages along phase A through a bridge with dead time; the rotor is locked."""
    ts = 1 / 20e3
    sensing = Sensing(
        full_scale=i_scale, step=2 * i_scale / 4096, noise=i_scale * 6e-4, offset_a=0.012 * i_scale / 10, counts_per_rev=4096.0
    )  # fmt: skip
    control = Control(ts=ts, ld=machine.ld, lq=machine.lq, psi=machine.psi)
    bridge = Inverter(v_supply=v_bus, dead_voltage=0.159, knee=0.18)
    sim = Simulation(locked_rotor(machine, control, bridge, sensing))
    traces, command = [], []
    for v in voltages:
        sim.command(ALIGN, i_d=v)
        traces.append(sim.advance(0.3, every=10))
        command.append(np.full(len(traces[-1]["t"]), v))
    trace = join(traces)
    probe = Probe(i_scale, 12, i_scale * 6e-4, 0.0013 * i_scale)
    i_a = probe.sample(trace["i_a"], np.random.default_rng(11))
    write_capture(path, trace["t"], {"v_cmd": np.concatenate(command), "i_a": i_a}, {**ORIGIN, "circuit": "bridge"})


def staircase_by_supply(machine: Machine, currents: list[float], path: Path) -> None:
    """Step a bench supply between A and B, C open."""
    dt, rng = 1e-3, np.random.default_rng(12)
    level = np.repeat(currents, 500)
    i = np.convolve(level, np.ones(12) / 12, mode="full")[: len(level)]
    i_a = Probe(20.0, 12, 6e-3, 0.02).sample(i, rng)
    v_ab = Probe(4.0, 12, 1.2e-3, 0.004).sample(2 * machine.r * i, rng)
    write_capture(path, np.arange(len(level)) * dt, {"v_ab": v_ab, "i_a": i_a}, {**ORIGIN, "circuit": "a-b"})


def voltage_steps(
    machine: Machine, theta_e: float, volts: float, tau_lengths: float, path: Path, axis: str, seed: int
) -> None:
    """Pulse A against B with the rotor held; the supply sags under load."""
    rng = np.random.default_rng(seed)
    inductance = inductance_ab(machine, theta_e)
    tau = inductance / (2 * machine.r)
    fine = tau / 2000
    t = np.arange(round(tau_lengths * tau / fine)) * fine
    source = np.where((t / (tau_lengths * tau) * 5).astype(int) % 2 == 1, volts, 0.0)
    sag = 0.06 * 2 * machine.r
    i = rl_response(2 * machine.r + sag, inductance, source, fine)
    v = source - sag * i
    keep = slice(7, None, 40)
    i_scale, v_scale = 1.3 * float(np.max(i)), 1.4 * volts
    columns = {
        "v_ab": Probe(v_scale, 12, v_scale * 8e-4, 0.002 * v_scale).sample(v[keep], rng),
        "i_a": Probe(i_scale, 12, i_scale * 8e-4, 0.003 * i_scale).sample(i[keep], rng),
    }
    notes = {**ORIGIN, "circuit": "a-b", **({"axis": axis} if axis else {})}
    write_capture(path, t[keep] - t[keep][0], columns, notes)


def coasting(machine: Machine, load: Load, speed: float, seconds: float, dt: float, path: Path, seed: int) -> None:
    """Let the open motor coast and record two line voltages and a tachometer."""
    rng = np.random.default_rng(seed)
    t, theta, omega = coast(machine, load, speed, seconds, dt)
    lines = back_emf(machine, theta + 0.7, omega, fifth=0.013, seventh=-0.006)
    scale = 1.3 * float(np.max(np.abs(lines["v_ab"])))
    columns = {n: Probe(scale, 12, scale * 1.5e-3, 0.006 * scale).sample(lines[n], rng) for n in ("v_ab", "v_bc")}
    columns["speed"] = omega + 0.4 * rng.standard_normal(len(t))
    write_capture(path, t, columns, {**ORIGIN, "pole_pairs": f"{machine.pole_pairs:.0f}"})


def hand_turn(machine: Machine, path: Path) -> None:
    """Turn the shaft backwards by hand, unevenly; the hall cable is confused and one sensor is inverted."""
    rng = np.random.default_rng(31)
    t = np.arange(0, 2.6, 1 / 8e3)
    omega = -(5.5 + 2.2 * np.sin(2 * math.pi * 0.7 * t) + 0.6 * np.sin(2 * math.pi * 2.3 * t + 1))
    theta = machine.pole_pairs * np.cumsum(omega) / 8e3 + 0.4
    lines = back_emf(machine, theta, omega, fifth=0.02)
    scale = 1.5 * float(np.max(np.abs(lines["v_ab"])))
    columns = {n: Probe(scale, 12, scale * 2e-3, 0.004 * scale).sample(lines[n], rng) for n in ("v_ab", "v_bc")}
    edges = (17.2, 75.1, 136.4, 196.9, 254.0, 316.6)
    levels = hall_levels(theta, edges, order=(2, 0, 1), inverted=(False, True, False))
    columns |= {f"hall_{k}": level for k, level in enumerate(levels, 1)}
    write_capture(path, t, columns, {**ORIGIN, "turned": "by hand, backwards"})


def run_up(machine: Machine, load: Load, current: float, up: float, seconds: float, path: Path) -> None:
    """Run up with a steady current, switch off, coast; speed by tachometer, current as the drive reports it."""
    rng, dt = np.random.default_rng(41), 1e-3
    kt = machine.torque_factor * machine.pole_pairs * machine.psi
    b = load.viscous / load.inertia
    t = np.arange(round(seconds / dt)) * dt
    start = 0.1
    final = (kt * current - load.coulomb) / load.viscous
    climbing = final * (1 - np.exp(-b * np.clip(t - start, 0, up)))
    top, drag = float(climbing[-1]), load.coulomb / load.viscous
    falling = (top + drag) * np.exp(-b * np.clip(t - start - up, 0, None)) - drag
    omega = np.where(t < start + up, climbing, np.maximum(falling, 0.0))
    i_q = np.where((t >= start) & (t < start + up), current, 0.0)
    columns = {
        "speed": Probe(1.4 * top, 12, 2e-3 * top).sample(omega, rng),
        "i_q": Probe(4 * current, 12, 6e-3 * current, 0.01 * current).sample(i_q, rng),
    }
    write_capture(path, t, columns, {**ORIGIN, "load": "drum off the shaft"})


def encoder_turn(machine: Machine, lines: int, path: Path) -> None:
    """Turn the shaft a good turn by hand: encoder with index, two line voltages; A and B are exchanged, so counts fall."""
    rng = np.random.default_rng(43)
    t = np.arange(0, 1.8, 1 / 16e3)
    speed = 4.4 * (1 + 0.25 * np.sin(2 * math.pi * 0.8 * t) + 0.05 * np.sin(2 * math.pi * 2.7 * t))
    angle = 0.9 + np.concatenate([[0.0], np.cumsum((speed[1:] + speed[:-1]) / 2) / 16e3])
    lines_v = back_emf(machine, machine.pole_pairs * angle + 0.35, speed, fifth=0.013)
    scale = 1.4 * float(np.max(np.abs(lines_v["v_ab"])))
    columns = {n: Probe(scale, 12, scale * 1.5e-3, 0.003 * scale).sample(lines_v[n], rng) for n in ("v_ab", "v_bc")}
    place = -angle * lines / (2 * math.pi)
    columns["enc_a"] = ((place % 1.0) < 0.5).astype(np.float64)
    columns["enc_b"] = (((place - 0.25) % 1.0) < 0.5).astype(np.float64)
    columns["enc_z"] = (np.abs((angle - 3.0 + math.pi) % (2 * math.pi) - math.pi) < math.pi / lines).astype(
        np.float64
    )
    notes = {**ORIGIN, "pole_pairs": f"{machine.pole_pairs:.0f}", "turned": "by hand, A to B to C"}
    write_capture(path, t, columns, notes)


def aligned(machine: Machine, load: Load, current: float, path: Path) -> None:
    """Hold a current at angles over one turn and back; the encoder of :func:`encoder_turn` read where the shaft rests."""
    field = propose_fields(int(machine.pole_pairs))
    rests = align(machine, load, current, field, cogging=0.004, slots=12)
    # count 0 at the index of encoder_turn, which lies at θe = 3.0·p + 0.35; A and B are exchanged
    count = np.floor(-(rests.mechanical - 3.0 - 0.35 / machine.pole_pairs) * 8192 / (2 * math.pi))
    notes = {**ORIGIN, "pole_pairs": f"{machine.pole_pairs:.0f}", "current_a": f"{current:g}"}
    write_capture(path, np.empty(0), {"field_angle": field, "angle": count * 2 * math.pi / 8192}, notes)


def pulsed(machine: Machine, load: Load, path: Path) -> None:
    """Short pulses all round at standstill, the rotor's flux at 222° electrical."""
    offset = (0.09, -0.05)
    angles, currents, _ = pulse_currents(
        machine, load, math.radians(222.0), Pulses(current=6.0, offset=offset), seed=6
    )
    # what the channels read along each direction before the pulse
    rest = offset[0] * np.cos(angles) + (offset[0] + 2 * offset[1]) / math.sqrt(3) * np.sin(angles)
    rest += 0.02 * np.random.default_rng(48).standard_normal(len(angles))
    columns = {"field_angle": angles, "i_peak": np.round(currents, 3), "i_rest": np.round(rest, 3)}
    write_capture(path, np.empty(0), columns, ORIGIN)


def current_step(bench: Bench, path: Path) -> None:
    """A q step on the true winch with the settled gains, rotor held; its iron has lost 18 % of the inductance at that current."""
    drive = build_drive(bench)
    machine = WINCH._replace(lq=0.82 * WINCH.lq)
    held = drive._replace(
        machine=machine, load=drive.load._replace(inertia=1e6), inverter=drive.inverter._replace(dead_voltage=0.0)
    )
    sim = Simulation(held, seed=8)
    sim.command(CURRENT)
    before = sim.advance(0.002)
    sim.command(CURRENT, i_q=2.5)
    trace = join([before, sim.advance(0.004)])
    rng = np.random.default_rng(46)
    reading = Probe(40.0, 12, 8e-3).sample(trace["i_q"], rng)
    gains = bench.settled["current_loop"].values
    notes = {**ORIGIN, "kp": f"{gains['kp_q'].value:.6g}", "ki": f"{gains['ki_q'].value:.6g}", "shaft": "clamped"}
    write_capture(path, trace["t"], {"i_q_ref": trace["i_q_ref"], "i_q": reading}, notes)


def readings_over_angle(machine: Machine, path: Path) -> None:
    """Inductance between two terminals by hand-held meter, the shaft turned on in steps of about 2°."""
    rng = np.random.default_rng(42)
    angle = np.radians(np.arange(0, 52, 2.0) + 0.15 * rng.standard_normal(26))
    values = [inductance_ab(machine, machine.pole_pairs * (a - 0.21)) for a in angle]
    table = np.round(np.array(values) * (1 + 1.5e-3 * rng.standard_normal(26)), 7)
    write_capture(
        path, np.empty(0), {"angle": angle, "l_ab": table}, {**ORIGIN, "pole_pairs": f"{machine.pole_pairs:.0f}"}
    )


def clock(minute: int) -> str:
    """Return the demo's time of day as ISO text."""
    return f"2026-05-12T{14 + minute // 60:02d}:{minute % 60:02d}:00"


def read(bench: Bench, leg: str, name: str, folder: Path, minute: int) -> Bench:
    """Add the evidence of one capture."""
    return add_evidence(bench, evaluate(bench, leg, folder / name, base=folder, when=clock(minute)).evidence)  # type: ignore[arg-type]


def settled(
    bench: Bench, topic: str, values: dict[str, Quantity], reason: str, minute: int, rests_on: tuple[str, ...] = ()
) -> Bench:
    """Settle with the demo's clock."""
    return settle(bench, topic, values, reason=reason, when=clock(minute), rests_on=rests_on)  # type: ignore[arg-type]


def ledger(bench: Bench, minute: int, kind: str, text: str, value: Quantity | None = None) -> Bench:
    """Add a ledger line."""
    return bench.model_copy(
        update={"ledger": (*bench.ledger, LedgerEntry(when=clock(minute), kind=kind, text=text, value=value))}
    )


def settings(bench: Bench, topic: str, **fields: object) -> Bench:
    """Enter fields of a page."""
    return enter(bench, topic, fields)


def ohms(value: float) -> Quantity:
    """Return a meter reading."""
    return Quantity(value=value, unit="Ω")


def wired(bench: Bench, leads: tuple[tuple[str, str], ...]) -> Bench:
    """Write colours and pins of the leads down, in the chart's order."""
    for index, (colour, pin) in enumerate(leads):
        bench = set_lead(bench, index, colour=colour, pin=pin)
    return bench


def checked(bench: Bench, minute: int) -> Bench:
    """Do the checks before power: readings typed, things seen, one left out for a reason."""
    for key, share, later in (("insulation_motor", 1.0, 0), ("insulation_drive", 0.8, 2)):
        for name, value in (("phase_u", 2.1e9), ("phase_v", 2.4e9), ("phase_w", 2.2e9)):
            bench = record_reading(bench, key, name, share * value, clock(minute + later))
    for key, name, value in (("frame", "frame", 0.09), ("polarity", "link", 48.1), ("limit", "limit", 0.5)):
        bench = record_reading(bench, key, name, value, clock(minute + 3))
    bench = record_choice(bench, "terminals", "in-order", "all six tight, lugs sound", clock(minute + 4))
    bench = record_choice(bench, "clamped", "in-order", "two clamps, drum off", clock(minute + 4))
    bench = skip_check(bench, "brake", "the drum and its load are off the shaft", clock(minute + 5))
    return record_choice(bench, "stop_button", "in-order", "cuts the supply, within reach", clock(minute + 5))


def make_winch(folder: Path) -> None:
    """The winch: everything settled, but R was measured anew after the current loop was."""
    folder.mkdir(exist_ok=True)
    staircase_through_bridge(
        WINCH, 48.0, [-1.9, -1.46, -1.04, -0.62, 0.05, 0.62, 1.04, 1.46, 1.9], 10.0, folder / "winch-staircase.csv"
    )
    axis = -math.pi / 6
    voltage_steps(WINCH, axis, 6.0, 16, folder / "winch-step-d.csv", "d", 21)
    voltage_steps(WINCH, axis + math.pi / 2, 6.0, 16, folder / "winch-step-q.csv", "q", 22)
    coasting(WINCH, WINCH_LOAD, 160.0, 1.6, 1 / 8e3, folder / "winch-coast.csv", 23)
    run_up(WINCH, WINCH_LOAD, 0.35, 0.55, 2.4, folder / "winch-run-up.csv")
    readings_over_angle(WINCH, folder / "winch-lcr.csv")
    encoder_turn(WINCH, 2048, folder / "winch-encoder.csv")
    aligned(WINCH, WINCH_LOAD, 3.0, folder / "winch-align.csv")
    pulsed(WINCH, WINCH_LOAD, folder / "winch-pulses.csv")
    bench = Bench(name="Winch", notes="Lake-survey buoy, sonde winch. Invented motor; every capture is simulated.")
    bench = settings(
        bench, "plate", motor="WN-48/7 servo", pole_pairs=7, v_bus=48.0, rated_current=6.0, top_speed=2000 * 2 * math.pi / 60,
        inertia=1.9e-4, viscous=1.6e-4, coulomb=9e-3, kv=47.0,
    )  # fmt: skip
    bench = settings(bench, "sensor", kind="incremental", counts_per_rev=8192)
    bench = settings(
        bench,
        "supply",
        source="battery",
        v_empty=42.0,
        v_full=54.6,
        drive_continuous=10.0,
        drive_peak=25.0,
        drive_base="peak",
    )
    bench = settings(bench, "resistance", temperature=23.5)
    bench = settings(bench, "pwm", timer_hz=168e6, carrier_hz=20e3, dead_time=160e-9)
    bench = settings(bench, "current_loop", bandwidth_hz=1200.0, step=3.0)
    bench = settings(bench, "speed_loop", a=3.0, filter_hz=400.0, ramp=1500.0)
    bench = settings(bench, "run", speed=120.0, i_limit=8.0, i_trip=14.0, v_min=30.0)
    bench = settled(bench, "plate", plate_values(bench), "from the motor plate and the supply on the bench", 0)
    bench = ledger(bench, 1, "note", "on the bench, clamped, drum off the shaft")
    for minute, kind, value in ((2, "lead", 0.05), (3, "ruv", 0.88), (3, "rvw", 0.87), (4, "rwu", 0.88)):
        text = {"lead": "probes together"}.get(kind, "pair, meter")
        bench = record_typed(bench, LedgerEntry(when=clock(minute), kind=kind, text=text, value=ohms(value)))
    bench = settled(bench, "resistance", {"resistance": ohms(0.408)}, "meter, three pairs less the probes", 6)
    colours = ("brown", "black", "grey", "green-yellow", "white", "yellow", "green", "pink", "blue")
    bench = wired(bench, tuple(zip(colours, ["1", "2", "3", "PE", "4", "5", "6", "7", "8"], strict=True)))
    bench = checked(bench, 6)
    for remedy, peak in (
        ("", 11.6),
        ("screened motor cable, screen earthed at both ends", 3.9),
        ("signal cable screened and earthed", 6.2),
        ("ferrites on the motor cable", 9.3),
    ):
        bench = add_spike(bench, remedy, peak, True, clock(10))
    bench = read(bench, "inductance", "winch-lcr.csv", folder, 11)
    bench = read(bench, "inductance", "winch-step-d.csv", folder, 11)
    bench = read(bench, "inductance", "winch-step-q.csv", folder, 12)
    bench = settled(bench, "inductance", inductance_values(bench), "steps on both axes, fit within noise", 13)
    bench = read(bench, "flux", "winch-coast.csv", folder, 18)
    flux = bench.evidence["flux"][0].estimates
    bench = settled(bench, "flux", {"flux_linkage": flux["flux_linkage"]}, "coast, two channels agree", 19)
    bench = read(bench, "mechanics", "winch-run-up.csv", folder, 20)
    found = bench.evidence["mechanics"][0].estimates
    values = {k: found[k] for k in ("inertia", "viscous_friction", "coulomb_friction")}
    bench = settled(bench, "mechanics", values, "run-up and coast, drum off", 20, ("flux.flux_linkage",))
    bench = read(bench, "commutation", "winch-encoder.csv", folder, 20)
    found = bench.evidence["commutation"][0].estimates
    values = {k: found[k] for k in ("counts_per_rev", "direction", "zero_offset")}
    bench = settled(bench, "commutation", values, "hand turn, counts and index agree", 21)
    bench = read(bench, "commutation", "winch-align.csv", folder, 21)
    bench = read(bench, "commutation", "winch-pulses.csv", folder, 21)
    figures = plan_bench_pwm(bench)
    bench = settled(bench, "pwm", pwm_values(figures), "as the firmware sets its timer", 21, ("plate.v_bus",))
    current = design_current(bench)
    bench = settled(
        bench,
        "current_loop",
        current_values(bench, current),
        "57° margin is enough for this winch",
        24,
        current_inputs(bench),
    )
    speed = design_speed(bench)
    bench = settled(
        bench,
        "speed_loop",
        speed_values(bench, speed),
        "calm set-point response wanted",
        26,
        speed_inputs(bench),
    )
    bench = read(bench, "resistance", "winch-staircase.csv", folder, 31)
    found = bench.evidence["resistance"][0].estimates["resistance"]
    bench = settled(bench, "resistance", {"resistance": found}, "staircase replaces the meter reading", 32)
    current_step(bench, folder / "winch-current-step.csv")
    save_bench(bench, folder / "winch.bench.json")


def make_thruster(folder: Path) -> None:
    """The thruster: the plate is settled, the captures wait to be dropped."""
    folder.mkdir(exist_ok=True)
    staircase_by_supply(THRUSTER, [0.0, 2.0, 4.0, 6.0, 8.0, 10.0, 12.0], folder / "thruster-staircase.csv")
    voltage_steps(THRUSTER, 0.0, 1.2, 14, folder / "thruster-step.csv", "", 24)
    coasting(THRUSTER, THRUSTER_LOAD, 420.0, 1.5, 1 / 12e3, folder / "thruster-coast.csv", 25)
    hand_turn(THRUSTER, folder / "thruster-hand-turn.csv")
    bench = Bench(
        name="Thruster",
        notes="Lake-survey buoy, thruster outrunner with a confusing hall cable. Invented motor; every capture is simulated.",
    )
    bench = settings(
        bench, "plate", motor="TH-24 outrunner", pole_pairs=6, v_bus=24.0, rated_current=18.0, top_speed=6000 * 2 * math.pi / 60,
        inertia=2.4e-5, viscous=4e-6, coulomb=2.5e-3, kv=430.0,
        r=0.13, inductance=90e-6,
    )  # fmt: skip
    bench = settings(bench, "sensor", kind="halls")
    bench = settings(bench, "pwm", timer_hz=168e6, carrier_hz=24e3, dead_time=300e-9)
    bench = settings(bench, "current_loop", bandwidth_hz=1500.0, step=5.0)
    bench = settings(bench, "speed_loop", a=4.0, filter_hz=200.0, ramp=1200.0)
    bench = settings(bench, "run", speed=300.0, i_limit=20.0, i_trip=40.0, v_min=14.0)
    bench = settled(bench, "plate", plate_values(bench), "from the data sheet", 0)
    bench = ledger(bench, 1, "note", "propeller off, stator clamped; hall cable colours do not match the drawing")
    bench = settings(
        bench, "supply", source="battery", v_empty=21.0, v_full=29.4, drive_continuous=60.0, drive_base="peak"
    )
    bench = wired(bench, (("violet", "1"), ("orange", "2"), ("grey", "3"), ("green-yellow", "PE")))
    # the five wires of the hall cable: what the meter said against each other and the frame
    names = ("brown", "orange", "yellow", "violet", "pink")
    paths = {
        ("brown", "orange"): 1480.0,
        ("brown", "yellow"): 2210.0,
        ("brown", "violet"): 2190.0,
        ("brown", "pink"): 2230.0,
    }
    for name in names:
        bench = set_reading(bench, name, other=FRAME, ohms=1e12)
    for k, first in enumerate(names):
        for other in names[k + 1 :]:
            # whatever does not meet the 0 V leads over it
            ohm = paths.get((first, other)) or paths["brown", first] + paths["brown", other]
            bench = set_reading(bench, first, other=other, ohms=ohm)
    save_bench(bench, folder / "thruster.bench.json")


CAROUSEL = Machine(r=1.147, ld=2.31e-3, lq=2.58e-3, psi=5.27e-3, pole_pairs=50.0, torque_factor=1.0, detent=0.014)
CAROUSEL_LOAD = Load(inertia=3.1e-5, viscous=1.4e-4, coulomb=7e-3)


def winding_levels(machine: Machine, currents: list[float], path: Path) -> None:
    """Step a supply on winding A, the shaft held."""
    dt, rng = 1e-3, np.random.default_rng(61)
    level = np.repeat(currents, 400)
    i = np.convolve(level, np.ones(9) / 9, mode="full")[: len(level)]
    columns = {
        "v_a": Probe(6.0, 12, 1.5e-3, 0.006).sample(machine.r * i, rng),
        "i_a": Probe(4.0, 12, 1e-3, 0.004).sample(i, rng),
    }
    write_capture(path, np.arange(len(level)) * dt, columns, {**ORIGIN, "family": "stepper"})


def winding_steps(machine: Machine, volts: float, path: Path) -> None:
    """Switch a supply on and off winding B, the shaft held; the supply sags under load."""
    rng, inductance = np.random.default_rng(62), 0.5 * (machine.ld + machine.lq)
    tau = inductance / machine.r
    fine = tau / 2000
    t = np.arange(round(12 * tau / fine)) * fine
    source = np.where((t / (12 * tau) * 5).astype(int) % 2 == 1, volts, 0.0)
    sag = 0.05 * machine.r
    i = rl_response(machine.r + sag, inductance, source, fine)
    v, keep = source - sag * i, slice(7, None, 40)
    columns = {
        "v_b": Probe(1.4 * volts, 12, 1e-3 * volts, 2e-3 * volts).sample(v[keep], rng),
        "i_b": Probe(3.0, 12, 2e-3, 5e-3).sample(i[keep], rng),
    }
    write_capture(path, t[keep] - t[keep][0], columns, {**ORIGIN, "family": "stepper"})


def winding_coast(machine: Machine, load: Load, speed: float, seconds: float, path: Path) -> None:
    """Let the open stepper coast over its detents and record both windings."""
    dt, rng = 2.5e-5, np.random.default_rng(63)
    p = machine.pole_pairs

    def slope(_: float, y: np.ndarray) -> list[float]:
        drag = machine.detent * math.sin(4 * y[0]) + load.viscous * y[1] + load.coulomb * math.tanh(y[1] / 0.05)
        return [p * y[1], -drag / load.inertia]

    grid = np.arange(0, seconds, dt)
    solved = scipy.integrate.solve_ivp(
        slope, (0, seconds), [0.9, speed], t_eval=grid, rtol=1e-8, atol=1e-9, max_step=1e-4
    )
    theta, omega = solved.y

    def emf(at: np.ndarray) -> np.ndarray:
        return np.asarray(-machine.psi * p * omega * (np.sin(at) + 0.018 * np.sin(3 * at) - 0.006 * np.sin(5 * at)))

    scale = 1.3 * machine.psi * p * speed
    volts = {"v_a": emf(theta), "v_b": emf(theta - math.pi / 2)}
    columns = {n: Probe(scale, 12, scale * 1.5e-3, 0.004 * scale).sample(v, rng) for n, v in volts.items()}
    columns["speed"] = omega + 0.3 * rng.standard_normal(len(grid))
    write_capture(path, grid, columns, {**ORIGIN, "family": "stepper", "pole_pairs": f"{p:.0f}"})


def stepper_aligned(machine: Machine, load: Load, current: float, counts: int, path: Path) -> None:
    """Hold a current vector at angles over one turn and back; the encoder read where the shaft rests."""
    field = propose_fields(int(machine.pole_pairs))
    rests = align(machine, load, current, field, cogging=machine.detent, slots=4 * int(machine.pole_pairs))
    count = np.floor((rests.mechanical + 0.6 / machine.pole_pairs) * counts / (2 * math.pi))
    notes = {**ORIGIN, "family": "stepper", "pole_pairs": f"{machine.pole_pairs:.0f}", "current_a": f"{current:g}"}
    write_capture(path, np.empty(0), {"field_angle": field, "angle": count * 2 * math.pi / counts}, notes)


def proposed(bench: Bench, topic: str, reason: str, minute: int) -> Bench:
    """Settle what the waypoint proposes: of its newest capture, or by design."""
    waypoint, items = BY_KEY[topic], bench.evidence.get(topic, ())
    found = KINDS[items[-1].kind].propose(bench, items[-1]) if items else waypoint.propose(bench)  # type: ignore[misc]
    return settled(bench, topic, found.values, reason, minute, found.rests_on)  # type: ignore[union-attr]


def filter_points() -> list[Row]:
    """Twenty-four rows over the filters and back; row 17 asks for more than the motor has, until somebody mends it."""
    rows = [Row(2 * math.pi * 0.65 * (k if k < 12 else 23 - k), dwell=0.25) for k in range(24)]
    rows[16] = Row(rows[16].target, speed=120.0, accel=30_000.0, dwell=0.25)
    return rows


def make_carousel(folder: Path) -> None:
    """The filter carousel: a 1.8° stepper with an encoder, settled from plate to speed loop."""
    folder.mkdir(exist_ok=True)
    winding_levels(CAROUSEL, [0.0, 0.4, 0.8, 1.2, 1.6, 2.0, -0.7, -1.4], folder / "carousel-levels.csv")
    winding_steps(CAROUSEL, 2.4, folder / "carousel-steps.csv")
    winding_coast(CAROUSEL, CAROUSEL_LOAD, 42.0, 0.11, folder / "carousel-coast.csv")
    run_up(CAROUSEL, CAROUSEL_LOAD, 0.9, 0.02, 0.2, folder / "carousel-run-up.csv")
    stepper_aligned(CAROUSEL, CAROUSEL_LOAD, 2.0, 8000, folder / "carousel-align.csv")
    bench = with_family(
        Bench(
            name="Filter carousel",
            notes="Lake-survey buoy, filter carousel. Invented motor; every capture is simulated.",
        ),
        "stepper",
    )
    bench = settings(
        bench, "plate", motor="FC-200 stepper", steps_per_turn=200, v_bus=36.0, rated_current=2.1, current_base="rms", r=1.15,
        inductance=2.5e-3, holding_torque=0.78, detent_torque=0.014, top_speed=600 * 2 * math.pi / 60, inertia=3.1e-5, viscous=1.4e-4, coulomb=7e-3,
    )  # fmt: skip
    bench = settings(bench, "sensor", kind="incremental", counts_per_rev=8000)
    bench = settings(bench, "resistance", temperature=23.5)
    bench = settings(bench, "pwm", timer_hz=120e6, carrier_hz=25e3, dead_time=200e-9)
    bench = settings(bench, "current_loop", bandwidth_hz=1400.0, step=1.5)
    bench = settings(bench, "speed_loop", a=3.5, filter_hz=300.0, ramp=700.0)
    bench = settings(bench, "run", speed=18.0, i_limit=3.0, i_trip=6.0, v_min=20.0)
    bench = proposed(bench, "plate", "from the motor's label and the supply", 0)
    bench = ledger(bench, 1, "note", "on the bench, carousel wheel off the shaft")
    for minute, (topic, name, reason) in enumerate(
        (
            ("resistance", "levels", "levels on winding A, both directions"),
            ("inductance", "steps", "steps on winding B, fit within the noise"),
            ("flux", "coast", "coast over the detents, both windings agree"),
            ("mechanics", "run-up", "run-up and coast, wheel off"),
            ("commutation", "align", "aligned from both sides"),
        ),
        2,
    ):
        bench = read(bench, topic, f"carousel-{name}.csv", folder, minute)
        bench = proposed(bench, topic, reason, minute)
    bench = proposed(bench, "pwm", "as the firmware sets its timer", 10)
    bench = proposed(bench, "current_loop", "margin enough for the carousel", 11)
    bench = proposed(bench, "speed_loop", "calm indexing wanted", 12)
    bench = settings(bench, "motion", distance=2.6 * 2 * math.pi, speed=30.0, rounding=0.015)
    bench = settings(bench, "load_side", kind="screw", lead=0.006, unit="mm/s")
    bench = settings(bench, "motion", low=-0.5 * 2 * math.pi, high=8 * 2 * math.pi)
    bench = with_rows(bench, filter_points())
    bench = proposed(bench, "motion", "no filter may pass its place", 13)
    save_bench(bench, folder / "carousel.bench.json")


HATCH_LOAD = Load(inertia=2.6e-5, viscous=6e-6, coulomb=3.4e-3)
HATCH = {"r": 0.873, "inductance": 1.21e-3, "ke": 0.0317, "drop": 0.64}
_BRUSHED = {**ORIGIN, "family": "brushed"}


def armature_levels(path: Path) -> None:
    """Step a supply on the held armature, both ways; the brushes' drop has a soft knee."""
    dt, rng = 1e-3, np.random.default_rng(71)
    level = np.repeat([0.6, 1.4, 2.2, 3.0, -3.0, -2.2, -1.4, -0.6], 400)
    i = np.convolve(level, np.ones(9) / 9, mode="full")[: len(level)]
    v = HATCH["r"] * i + HATCH["drop"] * np.tanh(i / 0.05)
    columns = {"v_m": Probe(6.0, 12, 4e-3, 0.006).sample(v, rng), "i_m": Probe(5.0, 12, 2e-3, 0.005).sample(i, rng)}
    write_capture(path, np.arange(len(level)) * dt, columns, _BRUSHED)


def armature_steps(path: Path) -> None:
    """Switch a supply on and off the held armature; the brushes let the current come to rest."""
    rng, r, inductance, drop, fine = np.random.default_rng(72), HATCH["r"], HATCH["inductance"], HATCH["drop"], 1e-6
    t = np.arange(0, 0.06, fine)
    v = np.where((t * 70 + 0.6) % 1 < 0.5, 4.2, 0.0)
    i, now, fade = np.zeros(len(t)), 0.0, math.exp(-fine * r / inductance)
    for k, volts in enumerate(v):
        goal = (volts - drop * float(now > 0 or volts > 0)) / r
        now = max(goal + (now - goal) * fade, 0.0)
        i[k] = now
    keep = slice(7, None, 20)
    columns = {
        "v_m": Probe(6.0, 12, 4e-3, 0.006).sample(v[keep], rng),
        "i_m": Probe(6.0, 12, 4e-3, 0.006).sample(i[keep], rng),
    }
    write_capture(path, t[keep] - t[keep][0], columns, _BRUSHED)


def armature_coast(path: Path) -> None:
    """Let the open motor coast; the commutator ripples the voltage."""
    rng, t = np.random.default_rng(73), np.arange(0, 1.4, 5e-4)
    speed = np.maximum(330 * np.exp(-t / 0.8) - 60 * t, 0.0)
    angle = np.cumsum(speed) * t[1]
    v = HATCH["ke"] * speed * (1 + 0.012 * np.sin(14 * angle))
    columns = {"v_m": Probe(16.0, 12, 8e-3, 0.02).sample(v, rng), "speed": speed + 0.8 * rng.standard_normal(len(t))}
    write_capture(path, t, columns, _BRUSHED)


def armature_run_up(path: Path) -> None:
    """Run up with a steady current, switch off, coast."""
    rng, dt = np.random.default_rng(74), 1e-3
    load, up, current = HATCH_LOAD, 0.32, 0.75
    t = np.arange(0, 2.4, dt)
    i = np.where((t > 0.1) & (t < 0.1 + up), current, 0.0)
    speed, w = np.zeros(len(t)), 0.0
    for k in range(len(t)):
        speed[k] = w
        for _ in range(10):
            w += dt / 10 * (HATCH["ke"] * i[k] - load.viscous * w - load.coulomb * math.tanh(w / 0.2)) / load.inertia
            w = max(w, 0.0)
    columns = {
        "speed": speed + 0.5 * rng.standard_normal(len(t)),
        "i_m": Probe(2.0, 12, 1.5e-3, 0.004).sample(i, rng),
    }
    write_capture(path, t, columns, _BRUSHED)


def make_hatch(folder: Path) -> None:
    """The hatch: a brushed motor without a sensor, settled from plate to speed loop."""
    folder.mkdir(exist_ok=True)
    armature_levels(folder / "hatch-levels.csv")
    armature_steps(folder / "hatch-steps.csv")
    armature_coast(folder / "hatch-coast.csv")
    armature_run_up(folder / "hatch-run-up.csv")
    bench = with_family(
        Bench(name="Hatch", notes="Lake-survey buoy, instrument hatch. Invented motor; every capture is simulated."),
        "brushed",
    )
    rad = 2 * math.pi / 60
    bench = settings(
        bench, "plate", motor="HT-12 gearmotor, without its gear", v_bus=12.0, rated_current=2.4, top_speed=3200 * rad,
        v1=12.0, i1=0.42, n1=3300 * rad, v2=12.0, i2=2.4, n2=2780 * rad,
    )  # fmt: skip
    bench = settings(bench, "resistance", temperature=23.5)
    bench = settings(bench, "sensor", kind="none")
    bench = settings(bench, "pwm", timer_hz=64e6, carrier_hz=20e3, dead_time=150e-9)
    bench = settings(bench, "current_loop", bandwidth_hz=900.0, step=1.5)
    bench = settings(bench, "speed_loop", a=6.0, ramp=600.0, compensation=0.6)
    bench = settings(bench, "run", speed=150.0, i_limit=3.0, i_trip=7.0, v_min=8.0)
    bench = proposed(bench, "plate", "two points of the data sheet", 0)
    bench = ledger(bench, 1, "note", "worm gear off, shaft held by a clamp for the levels")
    for minute, topic, name, reason in (
        (2, "resistance", "levels", "levels of both signs, brushes told apart"),
        (3, "inductance", "steps", "steps, fit within the noise"),
        (4, "flux", "coast", "coast, voltage on a line over speed"),
        (5, "mechanics", "run-up", "run-up and coast, worm gear off"),
    ):
        bench = read(bench, topic, f"hatch-{name}.csv", folder, minute)
        bench = proposed(bench, topic, reason, minute)
    for minute, topic, reason in (
        (8, "pwm", "as the firmware sets its timer"),
        (9, "current_loop", "margin enough for the hatch"),
        (10, "speed_loop", "calm travel wanted, no sensor"),
    ):
        bench = proposed(bench, topic, reason, minute)
    save_bench(bench, folder / "hatch.bench.json")


if __name__ == "__main__":
    make_winch(HERE / "winch")
    make_thruster(HERE / "thruster")
    make_carousel(HERE / "carousel")
    make_hatch(HERE / "hatch")
