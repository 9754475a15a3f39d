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
from crisp_compass.motion.homing import STILL, Plan
from crisp_compass.plant import state
from crisp_compass.plant.simulation import Simulation, Trace, join
from crisp_compass.quantities import show
from crisp_compass.studies.scenarios import check_sound, open_simulation

#: Seconds that a homing may take here.
_PATIENCE = 30.0
SEEK, BACK, FIND, INDEX, STOP, DONE, FAILED = range(1, 8)


@dataclass(frozen=True)
class HomeRun:
    """``time`` (n,) s and ``place`` (n,) rad from the edge; ``found`` [rad] where zero lies in the end; ``state`` DONE or FAILED; the farthest beyond the edge [rad]; ``fault`` ended it, or is empty."""

    time: FloatArray
    place: FloatArray
    found: float
    state: int
    beyond: float
    fault: str


class Seeker:
    """What looks at the switch and asks for speeds, as the firmware's homing does at each look."""

    def __init__(self, plan: Plan, travel: float) -> None:
        self.plan, self.travel = plan, travel
        self.state, self.speed, self.home, self.held = 0, 0.0, 0.0, 0.0
        self._begin = 0.0

    def _go(self, state_: int, speed: float) -> None:
        self.state, self.speed = state_, speed

    def _inside(self) -> None:
        p = self.plan
        self._go(FIND, -p.switch_sign * p.slow) if p.leaves else self._go(BACK, -p.switch_sign * p.fast)

    def start(self, place: float, *, active: bool) -> None:
        """Begin at a place [rad]."""
        p, self._begin = self.plan, place
        if p.reference == "index":
            self._go(INDEX, p.approach * p.slow)
        elif p.stops:
            self._go(FIND, p.approach * p.slow)
        elif active:
            self._inside()
        else:
            self._go(SEEK, p.switch_sign * p.fast)

    def look(self, place: float, *, active: bool, index: float | None, current: float, speed: float, seconds: float, rests: bool) -> None:
        """Look once: switch, an ``index`` that has passed since the last look [rad], torque current [A] and speed [rad/s], ``seconds`` since the last look."""
        p = self.plan
        if self.state in (0, DONE, FAILED):
            return
        if abs(place - self._begin) > self.travel:
            self._go(FAILED, 0.0)
        elif self.state == SEEK and active:
            self._inside()
        elif self.state == BACK and not active:
            self._go(FIND, p.switch_sign * p.slow)
        elif self.state == FIND and p.stops:
            self.held = self.held + seconds if abs(current) > p.push and abs(speed) < STILL * p.slow else 0.0
            if self.held >= p.hold:
                self.home = place
                self._go(STOP, 0.0)
        elif self.state == FIND and active != p.leaves:
            self.home = place
            self._go(INDEX if p.index else STOP, self.speed if p.index else 0.0)
        elif self.state == INDEX and index is not None:
            self.home = index
            self._go(STOP, 0.0)
        elif self.state == STOP and rests:
            self.state = DONE


def home_run(bench: Bench, plan: Plan) -> HomeRun:
    """Let the simulated drive do one homing; raises Refusal where something is missing, or it takes too long."""
    sim, run = open_simulation(standing(bench)), bench.settings.run
    room, s, ld = bench.settings.homing.room, plan.switch_sign, sim.drive.load
    edge = -plan.begin  # the drive begins at 0
    if plan.stops or (room is not None and plan.reference not in ("index", "here")):
        end = edge + s * (0.0 if plan.stops else room or 0.0)
        sim.retune(sim.drive._replace(load=ld._replace(stop_low=end) if s < 0 else ld._replace(stop_high=end)))
    sim.set_load(run.load, drives=run.load_kind == "drives")
    seeker, active = Seeker(plan, bench.settings.homing.travel), (0.0 - edge) * s > 0
    seeker.start(0.0, active=active)
    sim.command(running_mode(bench), speed=0.0, i_d=running_current(bench))
    sim.skip(_settles(sim))
    begun, parts = sim.time, []
    every = int(sim.drive.control.speed_divider)
    span = max(plan.scan, every * sim.drive.control.ts)
    was = float(sim.state[state.THETA])
    while sim.time - begun < _PATIENCE and seeker.state not in (DONE, FAILED) and not sim.fault:
        sim.command(running_mode(bench), speed=seeker.speed, i_d=running_current(bench))
        parts.append(sim.advance(span, every))
        x = sim.state
        at = float(x[state.THETA])
        active = _seen(at, edge, s, active, plan.hysteresis)
        seeker.look(at, active=active, index=_passed(was, at, edge + plan.approach * plan.index_at * 2 * math.pi), current=float(x[state.IQ_REF]), speed=float(x[state.SPEED_SEEN]), seconds=span, rests=float(x[state.REF]) == 0.0)
        was = at
    check_sound(sim)
    if not parts:
        raise Refusal("the drive trips before it moves", "look at its limits", field="run.v_min")
    trace: Trace = join(parts)
    place = trace["angle"] - edge
    done = seeker.state if seeker.state == DONE else FAILED
    return HomeRun(trace["t"] - begun, place, seeker.home - edge, done, float(max(s * place.max(), s * place.min(), 0.0)), sim.fault)


def _settles(sim: Simulation) -> float:
    c = sim.drive.control
    return 0.05 + (5 / c.rotor_rate if c.rotor_rate > 0 else 0.0) + (c.settle if c.lost_limit > 0 else 0.0)


def _seen(at: float, edge: float, sign: float, active: bool, hysteresis: float) -> bool:
    """Return whether a switch shows active: it comes on half its hysteresis further in, and goes off half of it further out."""
    inside = (at - edge) * sign
    return inside > (-0.5 if active else 0.5) * hysteresis


def _passed(was: float, at: float, index: float) -> float | None:
    """Return the place [rad] of an index (one of them at ``index``, a turn apart) that lies between two looks; None where there is none."""
    turn = 2 * math.pi
    a, b = sorted(((was - index) / turn, (at - index) / turn))
    k = math.ceil(a) if at >= was else math.floor(b)
    return index + k * turn if a < k <= b or (at < was and a <= k < b) else None


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


