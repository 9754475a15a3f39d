"""What an identification does with a drive, step by step, for a bench's motor; and what it leaves on the bench."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.rules import need
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.drive.description import Description
from crisp_compass.drive.hand import CAGE, TURNED, lacks
from crisp_compass.drive.routines import Motor
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of, pole_pairs_of, three_phases, turns_field
from crisp_compass.sensing import SENSORS

#: Share of the rated current that tests take.
_CURRENT = 0.6


@dataclass(frozen=True)
class Step:
    """One step of the voyage: its waypoint, what it does, whether something turns meanwhile."""

    key: str
    name: str
    moves: str
    topic: str


@dataclass(frozen=True)
class Progress:
    """Where an identification is: the step, ``state`` (``runs``, ``done``, ``left out``), what came out or why not, the seconds it took, and the bench so far."""

    step: Step
    state: str
    text: str = ""
    took: float = 0.0
    bench: Bench | None = None


def bare(bench: Bench) -> Bench:
    """Return the bench as it is before anything but its plate is known, its settings kept."""
    return bench.model_copy(update={"settled": {k: v for k, v in bench.settled.items() if k == "plate"}, "evidence": {}})


def joined(bench: Bench, found: Bench) -> Bench:
    """Return a bench with what an identification found: its values, captures and ledger lines, whatever was edited meanwhile."""
    fresh = {t: s for t, s in found.settled.items() if t != "plate"}
    evidence = {}
    for topic, items in found.evidence.items():
        again = {(e.file, e.kind) for e in items}
        evidence[topic] = (*(e for e in bench.evidence.get(topic, ()) if (e.file, e.kind) not in again), *items)
    ledger = (*bench.ledger, *(line for line in found.ledger if line not in bench.ledger))
    current = bench.settings.current_loop.model_copy(update={"bandwidth_hz": found.settings.current_loop.bandwidth_hz})
    settings = bench.settings.model_copy(update={"current_loop": current})
    return bench.model_copy(update={"settled": {**bench.settled, **fresh}, "evidence": {**bench.evidence, **evidence}, "ledger": ledger, "settings": settings})


def steps_of(bench: Bench, description: Description | None) -> list[Step]:
    """Return the steps for a bench's motor and what its drive can do, or with None one that can do all; raises Refusal where it cannot test itself at all."""
    cage, turned = family_of(bench).own_circuit, turns_field(bench)
    sensor = SENSORS[bench.settings.sensor.kind]
    seen: set[str | None] = {"speed", "angle"} if sensor.tells_angle else set()
    if description is not None:
        missing = lacks(description, needs_of(bench))
        if missing:
            raise Refusal(missing, "this needs a drive that tests itself; its captures can also be taken one by one with Save strip")
        assert description.scope is not None
        seen = {n for c in description.scope.channels for n in (c.name, c.signal, *c.bits)} | {e.signal for e in description.telemetry if e.signal == "angle"}
    if cage:
        return _steps_of_cage(bench, seen)
    still = "the shaft aligns with a jerk, then rests" if turned else "the shaft is clamped and rests"
    found = [
        Step("levels", "Resistance, by levels", still, "resistance"), Step("steps", "Inductance, by steps", still, "inductance"),
        Step("current_loop", "Current loop: gains, and a step that proves them", still, "current_loop"),
    ]  # fmt: skip
    if turned or "speed" in seen:
        found.append(Step("coast", "Flux linkage, by a coast" if turned else "Ke, by a coast", "the shaft turns up and coasts", "flux"))
    if turned and sensor.edges:
        found.append(Step("halls", "Hall table, from the same coast", "nothing moves", "commutation"))
    elif turned and sensor.counted and "angle" in seen:
        found.append(Step("alignment", "Zero of the encoder, by alignment", "the shaft turns slowly there and back", "commutation"))
    if "speed" in seen and (sensor.tells_angle or not turned):
        found += [
            Step("run_up", "Inertia and friction, by a run-up", "the shaft runs up and coasts", "mechanics"),
            Step("speed_loop", "Speed loop: gains, and a step that proves them", "the shaft runs at two speeds", "speed_loop"),
        ]  # fmt: skip
    return found


def needs_of(bench: Bench) -> tuple[str, ...]:
    """Return the commands that a drive of this bench's motor needs for the program's captures, beside the usual ones."""
    return CAGE if family_of(bench).own_circuit else TURNED if turns_field(bench) else ()


def _steps_of_cage(bench: Bench, seen: set[str | None]) -> list[Step]:
    """Return the steps for an induction motor: its circuit by a locked and a no-load test, then what its firmware closes."""
    found = [
        Step("levels", "Resistance, by levels", "nothing turns; the windings carry a direct current", "resistance"),
        Step("circuit", "Circuit, by a locked and a no-load test", "the shaft is clamped, then runs up to its rated frequency", "circuit"),
    ]  # fmt: skip
    if not closes_loops(bench):
        return found
    found.append(Step("current_loop", "Current loop: gains, and a step that proves them", "the motor is magnetized at rest", "current_loop"))
    if "speed" in seen and SENSORS[bench.settings.sensor.kind].tells_angle:
        found += [
            Step("run_up", "Inertia and friction, by a run-up", "the shaft runs up and coasts", "mechanics"),
            Step("speed_loop", "Speed loop: gains, and a step that proves them", "the shaft runs at two speeds", "speed_loop"),
        ]  # fmt: skip
    return found


def motor_of(bench: Bench, volts: float) -> Motor:
    """Return what the tests must know of a bench's motor; raises Refusal where the plate is not settled."""
    plate = bench.settings.plate
    need(bench, "plate.v_bus")
    turned, run = turns_field(bench), bench.settings.run
    current = _CURRENT * min(rated_peak(plate), run.i_limit if "i_limit" in bench.entered.get("run", ()) else math.inf)
    sensor = SENSORS[bench.settings.sensor.kind]
    kind = "halls" if sensor.edges else "encoder" if sensor.tells_angle else "none"
    pairs = float(pole_pairs_of(plate)) if turned else 1.0
    return Motor(three_phases(bench), turned, pairs, current, top_speed=plate.top_speed, sensor=kind, volts=volts, cage=family_of(bench).own_circuit)
