"""A homing of the simulated drive: what its loops, its looks at the switch and its ramps make of the plan."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import running_current, running_mode
from crisp_compass.course.homing import Homing, homing_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.motion.homing import Plan
from crisp_compass.motion.seeking import DONE, FAILED, Look, Seeker, marks_of
from crisp_compass.plant import state
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.simulation import Simulation, Trace, join
from crisp_compass.quantities import show
from crisp_compass.studies.scenarios import check_sound, open_simulation

#: Seconds that a homing may take here.
_PATIENCE = 30.0


@dataclass(frozen=True)
class HomeRun:
    """``time`` (n,) s and ``place`` (n,) rad from the edge; ``found`` [rad] where zero lies in the end; ``state`` DONE or FAILED; the farthest beyond the edge [rad]; ``fault`` ended it, or is empty."""

    time: FloatArray
    place: FloatArray
    found: float
    state: int
    beyond: float
    fault: str


class Homer:
    """A homing of a drive in simulation, whose axis begins at the place where it is; ``mode`` and ``i_d`` [A] as it runs at speeds."""

    def __init__(self, sim: Simulation, plan: Plan, travel: float, *, mode: int, i_d: float) -> None:
        self._sim, self._mode, self._i_d = sim, mode, i_d
        self.seeker, self.marks = Seeker(plan, travel), marks_of(plan, float(sim.state[state.THETA]))

    @property
    def every(self) -> float:
        """Time between two looks, s: that of the plan, or of the speed loop where that is longer."""
        c = self._sim.drive.control
        return float(max(self.seeker.plan.scan, c.speed_divider * c.ts))

    def _seen(self) -> Look:
        x = self._sim.state
        shaft, believed = float(x[state.THETA]), self._sim.believed
        index = self.marks.at(shaft)
        return Look(believed, self.marks.active, None if index is None else index + believed - shaft, float(x[state.IQ_REF]), speed=float(x[state.SPEED_SEEN]), rests=float(x[state.REF]) == 0.0)

    def start(self) -> Look:
        """Begin; return what was seen."""
        seen = self._seen()
        self.seeker.start(seen)
        self._ask()
        return seen

    def look(self, seconds: float) -> Look:
        """Look once, ``seconds`` after the last time, and ask for a speed; return what was seen."""
        seen = self._seen()
        if self._sim.fault:
            self.seeker.fail()
        elif self.seeker.runs:
            self.seeker.look(seen, seconds)
            self._ask()
        return seen

    def _ask(self) -> None:
        self._sim.command(self._mode, speed=self.seeker.speed, i_d=self._i_d)


def with_stops(drive: Drive, bench: Bench, plan: Plan, place: float = 0.0) -> Drive:
    """Return a drive whose axis ends at a hard stop: that which is sought, or that behind the switch where its room is said; its homing begins at a ``place`` [rad]."""
    room = bench.settings.homing.room
    if not plan.stops and (room is None or plan.reference in ("index", "here")):
        return drive
    end = place - plan.begin + plan.switch_sign * (0.0 if plan.stops else room or 0.0)
    return drive._replace(load=drive.load._replace(stop_low=end) if plan.switch_sign < 0 else drive.load._replace(stop_high=end))


def home_run(bench: Bench, plan: Plan) -> HomeRun:
    """Let the simulated drive do one homing; raises Refusal where something is missing, or it takes too long."""
    sim, run = open_simulation(standing(bench)), bench.settings.run
    edge = -plan.begin  # the drive begins at 0
    sim.retune(with_stops(sim.drive, bench, plan))
    sim.set_load(run.load, drives=run.load_kind == "drives")
    homer = Homer(sim, plan, bench.settings.homing.travel, mode=running_mode(bench), i_d=running_current(bench))
    sim.command(running_mode(bench), speed=0.0, i_d=running_current(bench))
    sim.skip(_settles(sim))
    begun, parts = sim.time, []
    looks = [homer.start()]
    while sim.time - begun < _PATIENCE and homer.seeker.runs:
        parts.append(sim.advance(homer.every, int(sim.drive.control.speed_divider)))
        looks.append(homer.look(homer.every))
    check_sound(sim)
    if not parts:
        raise Refusal("the drive trips before it moves", "look at its limits", field="run.v_min")
    trace: Trace = join(parts)
    place = trace["angle"] - edge
    done, s = (DONE if homer.seeker.state == DONE else FAILED), plan.switch_sign
    found = float(sim.state[state.THETA]) - sim.believed + homer.seeker.home - edge
    return HomeRun(trace["t"] - begun, place, found, done, beyond=float(max(s * place.max(), s * place.min(), 0.0)), fault=sim.fault)


def _settles(sim: Simulation) -> float:
    c = sim.drive.control
    return 0.05 + (5 / c.rotor_rate if c.rotor_rate > 0 else 0.0) + (c.settle if c.lost_limit > 0 else 0.0)


def home_outlook(bench: Bench) -> tuple[Homing, HomeRun | None]:
    """Return the plan with what it says of itself, and the simulated drive's homing; None where it sought nothing, or the drive is not settled yet."""
    found = homing_of(bench)
    if found.plan.reference == "here":
        return found, None
    try:
        ran = home_run(bench, found.plan)
    except Refusal:
        return found, None
    said = list(found.findings)
    if ran.fault:
        said.insert(0, Finding("stop", "homing-trips", f"The simulated drive trips while it seeks: {ran.fault}."))
    elif ran.state == FAILED:
        said.insert(0, Finding("stop", "homing-fails", f"The simulated drive finds nothing within {show(bench.settings.homing.travel / (2 * math.pi), '', 3)} turns or {_PATIENCE:.0f} s."))
    return replace(found, findings=tuple(said)), ran


