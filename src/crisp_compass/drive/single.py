"""One capture through a drive for one leg: which can be taken there, what it would do, and taking it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from crisp_compass.bench.models import Bench
from crisp_compass.course.captures import Evaluated
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.drive.description import Description
from crisp_compass.drive.hand import SWEPT, Hand, lacks
from crisp_compass.drive.identification_plan import needs_of
from crisp_compass.drive.rehearsal import Rehearsal, rehearsed
from crisp_compass.drive.taking import Taker
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of, three_phases, turns_field
from crisp_compass.sensing import SENSORS


@dataclass(frozen=True)
class Offer:
    """One capture that the program takes: its key, the leg and section that it lands on, what it is called, what moves meanwhile, and channels of the drive's memory that it needs."""

    key: str
    topic: str
    section: str
    name: str
    moves: str
    channels: tuple[str, ...] = ()


_STILL, _CLAMPED = "The shaft aligns with a jerk, then rests.", "The shaft is clamped and rests."
_RUNS = "The shaft runs up and coasts."


def offers(bench: Bench, description: Description, topic: str, section: str) -> tuple[Offer, ...]:
    """Return the captures that a drive can take for a section of a leg, with this bench's motor and sensor."""
    turned, star = turns_field(bench), three_phases(bench)
    if lacks(description, needs_of(bench)) or description.scope is None:
        return ()
    cage = family_of(bench).own_circuit
    sensor = SENSORS[bench.settings.sensor.kind]
    still = _STILL if turned else _CLAMPED
    seen = {n for c in description.scope.channels for n in (c.name, c.signal, *c.bits) if n} | {e.signal for e in description.telemetry if e.signal == "angle"}
    current = ("i_q",) if turned else ("i_m",)
    found = [Offer("levels", "resistance", "Capture", "a staircase", moves=still)]
    if cage:
        found = _of_cage(bench, sensor.tells_angle and "speed" in seen)
        return tuple(o for o in found if o.topic == topic and o.section == section and set(o.channels) <= seen)
    found.append(Offer("steps", "inductance", "Capture", "steps along the magnet" if turned else "steps", moves=still))
    if star:
        found.append(Offer("steps_across", "inductance", "Capture", "steps across the magnet", moves=_STILL, channels=("v_bc", "i_b")))
    found.append(Offer("current_step", "current_loop", "Measured step", "a step of the loop", moves=still, channels=("i_ref",)))
    if turned or "speed" in seen:
        found.append(Offer("coast", "flux", "Capture", "a coast", moves="The shaft turns up and coasts."))
    if turned and sensor.edges:
        found.append(Offer("halls", "commutation", "Hand turn", "a coast with its halls", moves="The shaft turns up and coasts.", channels=("hall_1",)))
    if turned and sensor.counted:
        found.append(Offer("alignment", "commutation", "Alignment", "an alignment", moves="The shaft turns slowly there and back.", channels=("angle",)))
    if star:
        found.append(Offer("pole_search", "commutation", "Pole search", "pulses all round", moves="Nothing turns; the windings sing.", channels=("v_cmd", "v_bc", "i_a", "i_b")))
    if "speed" in seen and (sensor.tells_angle or not turned):
        found.append(Offer("run_up", "mechanics", "Capture", "a run-up", moves=_RUNS, channels=current))
        if not sensor.edges and all(description.role("commands", n) for n in SWEPT):
            found.append(Offer("chirp", "mechanics", "Capture", "a run-up with a swing", moves=_RUNS, channels=("speed", *current)))
    if "speed" in seen and description.role("commands", "speed") is not None and (sensor.tells_angle or not turned):
        found.append(Offer("speed_steps", "speed_loop", "Measured response", "steps of the speed", moves="The shaft runs at two speeds.", channels=("speed", "speed_ref", *current)))
    if turned and not sensor.tells_angle:
        found.append(Offer("start", "start_up", "Measured run", "a start", moves="The shaft aligns, starts and runs.", channels=("v_ab", "v_bc", "i_a", "i_b")))
    return tuple(o for o in found if o.topic == topic and o.section == section and set(o.channels) <= seen)


def _of_cage(bench: Bench, speed: bool) -> list[Offer]:
    """Return the captures of an induction motor."""
    found = [
        Offer("levels", "resistance", "Capture", "a staircase", moves="Nothing turns; the windings carry a direct current.", channels=("v_cmd", "i_a")),
        Offer("locked", "circuit", "Tests", "a locked test", moves="The shaft is clamped.", channels=("v_ab", "v_bc", "i_a", "i_b")),
        Offer("no_load", "circuit", "Tests", "a no-load test", moves="The shaft runs up to its rated frequency.", channels=("v_ab", "v_bc", "i_a", "i_b")),
        Offer("decay", "circuit", "Decay", "a decay after cut-off", moves="The shaft runs up, then coasts.", channels=("v_ab", "v_bc")),
    ]  # fmt: skip
    if closes_loops(bench):
        found.append(Offer("current_step", "current_loop", "Measured step", "a step of the loop", moves="The motor is magnetized at rest.", channels=("i_d", "i_ref")))
        if speed:
            found.append(Offer("speed_steps", "speed_loop", "Measured response", "steps of the speed", moves="The shaft runs at two speeds.", channels=("speed", "speed_ref", "i_q")))
            found.append(Offer("run_up", "mechanics", "Capture", "a run-up", moves=_RUNS, channels=("i_q", "speed")))
    return found


class _One(Taker):
    """Takes one capture and remembers what was made of it."""

    evaluated: Evaluated | None = None

    def file_of(self, name: str) -> str:
        """Return a file that nothing lies under yet: a capture that the bench knows is not overwritten."""
        number, file = 1, super().file_of(name)
        while (self._folder / file).exists():
            number += 1
            file = super().file_of(f"{name}-{number}")
        return file

    def _read(self, found: Evaluated) -> None:
        self.evaluated = found

    def take(self, key: str) -> Evaluated:
        """Take a capture by its key; the drive is stopped and a shaft that was clamped for it let go, whatever happens."""
        try:
            getattr(self, f"take_{key}")()
        finally:
            self._hand.stop()
            self._let_go()
        assert self.evaluated is not None
        return self.evaluated


def take_one(bench: Bench, hand: Hand, folder: Path, key: str, *, now: Callable[[], str], prefix: str, warn: Callable[[str], None] = lambda _: None) -> Evaluated:
    """Take one capture through a drive, written into ``folder`` under a name that nothing has, and read it; raises Refusal where it does not go.

    ``warn`` is told what of the drive is not as it was before.
    """
    one = _One(bench, hand, folder, now=now, prefix=prefix)
    try:
        return one.take(key)
    finally:
        for finding in one.findings:
            if finding.code == "not-put-back":
                warn(finding.text)


def rehearse_one(bench: Bench, key: str) -> Rehearsal:
    """Take one capture on a simulated drive of the bench's motor, as far as it is known; raises Refusal where it would not go."""
    try:
        return rehearsed(bench, lambda whole, hand, folder: take_one(whole, hand, folder, key, now=lambda: "1970-01-01T00:00:00", prefix="rehearsal"))
    except Refusal as refusal:
        raise Refusal(refusal.problem, refusal.remedy) from None  # its folder is gone
