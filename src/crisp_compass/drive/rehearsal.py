"""The same identification on a simulated drive before it moves anything: what will flow, how fast it will turn, how long it will take.

What is settled or stated of the motor is taken; what nobody knows yet is presumed from its rated figures, and named.
"""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import HallRecord, HallSector
from crisp_compass.bench.rules import need, settle, settled_value
from crisp_compass.course.circuit import rated_hertz
from crisp_compass.course.data_sheet import data_sheet_proposal
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.course.waypoints.commutation import hall_edges, uses_halls
from crisp_compass.drive.hand import Hand, LocalLine
from crisp_compass.drive.identification import Identification
from crisp_compass.drive.identification_plan import Progress, bare
from crisp_compass.drive.served import ServedDrive
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of, flux_of, pole_pairs_of, turns_field

#: Shares of the bus that the rated current drops in a winding, and that the top speed induces (common practice).
_DROP, _INDUCED = 0.05, 0.35
#: L/R [s], and the time [s] in which the rated current brings the shaft to its top speed, where nobody knows better.
_TAU, _RISE = 1.5e-3, 0.5
_WHEN = "1970-01-01T00:00:00"
_CODES = ("5", "4", "6", "2", "3", "1")
_PAIRS = ("A+C-", "B+C-", "B+A-", "C+A-", "C+B-", "A+B-")


@dataclass(frozen=True)
class Rehearsal:
    """What an identification would do: largest current [A] and speed [rad/s], seconds on the drive, and what was presumed for it."""

    current: float
    speed: float
    seconds: float
    presumed: tuple[str, ...]


def guessed(bench: Bench) -> tuple[Bench, tuple[str, ...]]:
    """Return the bench with everything settled that a simulation needs, and what of it nobody had said; raises Refusal without a plate."""
    presumed: list[str] = []
    need(bench, "plate.v_bus")
    cage = family_of(bench).own_circuit
    plate = bench.settings.plate
    volts, current, top = plate.v_bus, rated_peak(plate), plate.top_speed
    turned = turns_field(bench)
    pairs = float(pole_pairs_of(plate)) if turned else 1.0

    def put(topic: str, values: dict[str, tuple[float, str]], said: str) -> None:
        nonlocal bench
        stated = data_sheet_proposal(bench, topic)
        made = stated.values if stated is not None else {k: Quantity(value=v, unit=u) for k, (v, u) in values.items()}
        if stated is None:
            presumed.append(said)
        bench = settle(bench, topic, made, reason="for a rehearsal", when=_WHEN)

    if settled_value(bench, "resistance.resistance") is None:
        put("resistance", {"resistance": (_DROP * volts / current, "Ω")}, "resistance")
    r = need(bench, "resistance.resistance")
    if cage:
        if settled_value(bench, "circuit.magnetizing_inductance") is None:
            put("circuit", _usual_circuit(bench, current), "the circuit")
    else:
        if settled_value(bench, "inductance.ld") is None:
            put("inductance", {"ld": (r * _TAU, "H"), "lq": (r * _TAU, "H")}, "inductance")
        if settled_value(bench, "flux.flux_linkage") is None:
            put("flux", {"flux_linkage": (_INDUCED * volts / (pairs * top), "Wb")}, "flux linkage" if turned else "Ke")
    torque = plate.torque_factor * pairs * flux_of(bench) * current
    if settled_value(bench, "mechanics.inertia") is None:
        inertia = plate.inertia if plate.inertia is not None else torque * _RISE / top
        values = {"inertia": (inertia, "kg·m²"), "viscous_friction": (0.02 * torque / top, "N·m·s/rad"), "coulomb_friction": (0.02 * torque, "N·m")}
        put("mechanics", values, "inertia and friction" if plate.inertia is None else "friction")
    if uses_halls(bench) and hall_edges(bench) is None:
        presumed.append("hall table")
        sectors = {
            code: HallSector(center_deg=60.0 * k, from_deg=(60.0 * k - 30.0) % 360, to_deg=(60.0 * k + 30.0) % 360, drive=pair)  # type: ignore[arg-type]
            for k, (code, pair) in enumerate(zip(_CODES, _PAIRS, strict=True))
        }  # fmt: skip
        halls = HallRecord(spacing_deg=120, direction=1, states=sectors, edge_errors_deg=(0, 0, 0, 0, 0, 0))
        bench = settle(bench, "commutation", {}, reason="for a rehearsal", when=_WHEN, halls=halls)
    for topic in ("pwm", "current_loop", "start_up", "speed_loop"):
        waypoint = BY_KEY[topic]
        if topic not in bench.settled and waypoint.propose is not None and waypoint.applies(bench):
            proposal = waypoint.propose(bench)
            bench = settle(bench, topic, proposal.values, reason="for a rehearsal", when=_WHEN, rests_on=proposal.rests_on)
    return bench, tuple(presumed)


def _usual_circuit(bench: Bench, current: float) -> dict[str, tuple[float, str]]:
    """Return the circuit [SI] that an induction motor of this plate usually has (common practice): 45 % of its rated current magnetizes, a tenth of its impedance leaks."""
    plate = bench.settings.plate
    rated = getattr(plate, "rated_voltage", None)
    if not rated or not rated_hertz(bench):
        raise Refusal("rated voltage and frequency are missing", "enter them on the Plate")
    impedance, omega = math.sqrt(2 / 3) * rated / current, 2 * math.pi * rated_hertz(bench)
    return {
        "leakage_inductance": (0.15 * impedance / omega, "H"), "magnetizing_inductance": (impedance / (0.45 * omega), "H"), "rotor_resistance": (0.04 * impedance, "Ω"),
        "rotor_time_constant": (1.0 / (0.45 * omega * 0.04), "s"), "magnetizing_current": (0.45 * current, "A"),
    }  # fmt: skip


def rehearse(bench: Bench, *, tell: Callable[[Progress], None] = lambda _: None) -> Rehearsal:
    """Identify a simulated drive of the bench's motor, as far as it is known; raises Refusal where a step would not go."""
    return rehearsed(bench, lambda whole, hand, folder: Identification(bare(whole), hand, folder, tell=tell, now=lambda: _WHEN).run())


def rehearsed(bench: Bench, run: Callable[[Bench, Hand, Path], object]) -> Rehearsal:
    """Let something run on a simulated drive of the bench's motor, as far as it is known, in a folder that is gone afterwards; raises Refusal as it does."""
    whole, presumed = guessed(bench)
    drive = ServedDrive(whole)
    line = LocalLine(drive)
    most = [0.0, 0.0]

    def pass_time(seconds: float) -> None:
        line.pass_time(seconds)
        most[0] = max(most[0], drive.most_current)
        most[1] = max(most[1], abs(drive.speed))

    hand = Hand(line, drive.description, pass_time, clock=line.clock)
    with tempfile.TemporaryDirectory(prefix="crisp-compass-") as folder:
        run(whole, hand, Path(folder))
    return Rehearsal(most[0], most[1], line.clock(), presumed)
