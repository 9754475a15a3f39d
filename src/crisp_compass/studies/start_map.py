"""The start over two levers, thousands of starts: where it works, how near the border is, and how often with everything unknown at once.

A start is played in two parts. Up to the hand-over speed the rotor is a pendulum in a current vector (``plant.dragged``), as long as the current loop
is far quicker than its swing; from there the whole firmware runs, in periods as long as the loops allow. A click plays the cell with the whole
plant (``studies.start``); a test compares how often the two succeed.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.sensorless import driving_load
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.loops.current import current_gains
from crisp_compass.plant import state
from crisp_compass.plant.dragged import drag_rows
from crisp_compass.plant.parameters import SPEED, START_COLUMNS, Drive
from crisp_compass.plant.simulation import Simulation, with_floats
from crisp_compass.sensorless.estimator import I_ALPHA, I_BETA
from crisp_compass.studies.batch import spread
from crisp_compass.studies.start import (
    BACKWARDS,
    BEYOND,
    FELL_OUT,
    OUTCOMES,
    STARTED,
    Played,
    drive_for_start,
    hand_over_of,
    longest,
    outcome_of,
    play,
)

#: Samples of an electrical turn at hand-over that a longer period leaves, and the swing's samples.
_SAMPLES, _LONGEST = 70.0, 8


class Lever(NamedTuple):
    """Something a start depends on: what it is called, its unit, and the factors of its bench's value over which it is looked at."""

    title: str
    unit: str
    low: float
    high: float


#: Levers by key. ``r_error`` is the true resistance over the believed one; the others scale what the bench says.
LEVERS: dict[str, Lever] = {
    "load": Lever("load torque, of rated", "%", 0.0, 1.2),
    "ramp": Lever("acceleration of the ramp", "rad/s²", 0.2, 8.0),
    "current": Lever("current of the ramp", "A", 0.2, 1.6),
    "hand_over": Lever("hand-over speed", "rpm", 0.15, 2.5),
    "r_error": Lever("resistance, true over believed", "%", 0.4, 2.0),
    "psi_error": Lever("flux linkage, true over believed", "%", 0.6, 1.4),
    "inertia": Lever("inertia, true over believed", "%", 0.3, 5.0),
    "align": Lever("time of the alignment", "s", 0.05, 1.5),
    "saliency": Lever("saliency, true over believed", "%", 0.1, 1.6),
}


@dataclass(frozen=True)
class Spread:
    """How far what is not known may be off in one draw: standard ratios of R, L, ψ, inertia and friction; the load as a share of rated torque (0 to this)."""

    r: float = 0.2
    inductance: float = 0.1
    psi: float = 0.05
    inertia: float = 0.15
    friction: float = 0.3
    load: float = 0.0
    dead: float = 0.5


@dataclass(frozen=True)
class Cell:
    """One start to try: factors of the levers by key."""

    factors: tuple[tuple[str, float], ...]
    draws: int


@dataclass(frozen=True)
class StartStudy:
    """What every cell of a map shares: the designed drive, its rated torque [N·m], and what is not known; can be pickled.

    ``drive`` carries no load of the run: that is the share ``own_load`` of rated torque, which ``drives`` (a weight) or only brakes."""

    drive: Drive
    rated_torque: float
    own_load: float = 0.0
    drives: bool = False
    spread: Spread = field(default_factory=Spread)

    def __call__(self, cell: Cell, seed: int) -> tuple[int, ...]:
        """Return the outcome of each draw of a cell."""
        rng = np.random.default_rng(seed)
        return tuple(self._one(dict(cell.factors), rng) for _ in range(cell.draws))

    def _one(self, factors: dict[str, float], rng: np.random.Generator) -> int:
        drive = self.drawn(factors, rng)
        return quick_attempt(drive, angle=float(rng.uniform(0, 2 * math.pi)), seed=int(rng.integers(1, 2**31)))

    def drawn(self, factors: dict[str, float], rng: np.random.Generator) -> Drive:
        """Return one drive out of what is not known, with its load."""
        s, d = self.spread, self.drive

        def near(doubt: float) -> float:
            return float(np.clip(1 + doubt * rng.standard_normal(), 0.3, 3.0))

        r, inductance, psi = near(s.r / 2), near(s.inductance / 2), near(s.psi / 2)
        inertia, friction, dead = near(s.inertia / 2), near(s.friction / 2), near(s.dead / 2)
        share = factors.get("load", self.own_load + (float(rng.uniform(0, s.load)) if s.load > 0 else 0.0))
        torque = share * self.rated_torque
        holds = 0.0 if self.drives else abs(torque)
        m = d.machine
        mean, half = 0.5 * (m.ld + m.lq), 0.5 * (m.lq - m.ld) * factors.get("saliency", 1.0)
        half = min(0.95 * mean, max(-0.95 * mean, half))  # no axis without inductance
        drive = d._replace(
            machine=m._replace(
                r=m.r * r * factors.get("r_error", 1.0), ld=(mean - half) * inductance, lq=(mean + half) * inductance, psi=m.psi * psi * factors.get("psi_error", 1.0)
            ),
            load=d.load._replace(
                inertia=d.load.inertia * inertia * factors.get("inertia", 1.0), second=d.load.second * inertia * factors.get("inertia", 1.0), coulomb=d.load.coulomb * friction + holds,
                breakaway=d.load.breakaway * friction + (holds if d.load.breakaway else 0.0), driving=torque if self.drives else 0.0,
            ),
            inverter=d.inverter._replace(dead_voltage=d.inverter.dead_voltage * dead),
            sensing=d.sensing._replace(
                offset_a=float(1e-3 * d.sensing.full_scale * rng.standard_normal()), offset_b=float(1e-3 * d.sensing.full_scale * rng.standard_normal())
            ),
        )  # fmt: skip
        return with_levers(drive, factors)


def by_injection(drive: Drive) -> bool:
    """Tell whether a drive finds its rotor by injection."""
    return bool(drive.injected.volts > 0)


def lever_title(lever: str, drive: Drive) -> str:
    """Return what a lever is called for this drive's way to start."""
    return "current limit" if lever == "current" and by_injection(drive) else LEVERS[lever].title


def with_levers(drive: Drive, factors: dict[str, float]) -> Drive:
    """Return a drive whose start sequence is changed by the levers that are its own: ramp, current, hand-over and time of alignment."""
    if by_injection(drive):  # no rows: the speed loop's ramp and limit do what they would
        c, j, scale = drive.control, drive.injected, factors.get("hand_over", 1.0)
        drive = drive._replace(
            control=c._replace(
                ramp=c.ramp * factors.get("ramp", 1.0), i_limit=c.i_limit * factors.get("current", 1.0)
            ),
            injected=j._replace(fades=j.fades * scale, gone=j.gone * scale),
        )
    rows = list(drive.start.rows)
    before = 0.0
    top = hand_over_of(drive)
    for k in range(int(drive.start.used)):
        at = k * START_COLUMNS
        current, speed, span = rows[at], rows[at + 1], rows[at + 2]
        scaled = speed * factors.get("hand_over", 1.0)
        if speed == 0.0:
            rows[at + 2] = span * factors.get("align", 1.0)
        else:
            rows[at] = current * factors.get("current", 1.0)
            if speed != before:  # a ramp: its acceleration is the lever
                rows[at + 2] = span * factors.get("hand_over", 1.0) / factors.get("ramp", 1.0)
            else:
                rows[at + 2] = span / factors.get("hand_over", 1.0)
        rows[at + 1], before = scaled, speed
    start = drive.start._replace(rows=tuple(rows))
    if "hand_over" in factors and drive.start.low_up > 0:
        start = start._replace(
            low_up=top * factors["hand_over"], low_down=drive.start.low_down * factors["hand_over"]
        )
    return drive._replace(start=start)


def _coarse(drive: Drive) -> Drive:
    """Return the drive with periods as long as hand-over speed and rotor swing allow, its loops as quick as they then can be."""
    c, m = drive.control, drive.machine
    if by_injection(drive):  # injection lives from each period
        return drive
    highest = m.pole_pairs * BEYOND * hand_over_of(drive)
    times = int(
        min(
            max(2 * math.pi / (highest * c.ts * _SAMPLES), 1.0),
            _LONGEST,
            max(0.35 / (math.sqrt(drive.estimator.ki) * c.ts), 1.0),
        )
    )
    if times <= 1:
        return drive
    ts = times * c.ts
    wanted = c.kp_q / (2 * math.pi * max(m.lq, 1e-12))
    crossover = min(wanted, 1 / (16 * ts))
    kp_d, ki_d = current_gains(m.r, m.ld, bandwidth_hz=crossover, delay=1.5 * ts)
    kp_q, ki_q = current_gains(m.r, m.lq, bandwidth_hz=crossover, delay=1.5 * ts)
    control = c._replace(
        ts=ts, kp_d=kp_d, ki_d=ki_d, kp_q=kp_q, ki_q=ki_q, track_d=-1.0, track_q=-1.0, speed_divider=max(round(c.speed_divider / times), 1), delay_samples=1.5
    )  # fmt: skip
    return drive._replace(control=control, estimator=drive.estimator._replace(ts=ts))


def quick_attempt(drive: Drive, *, angle: float, seed: int) -> int:
    """Try a start from a rotor ``angle`` [rad, mechanical]; return its outcome."""
    m = drive.machine
    last = int(drive.start.used) - 1
    current = max(drive.start.rows[::START_COLUMNS])
    own = math.sqrt(1.5 * m.pole_pairs**2 * m.psi * current / drive.load.whole)
    far_quicker = drive.control.kp_q / max(m.lq, 1e-12) > 8 * own
    coarse = _coarse(drive)
    sim = Simulation(coarse, seed=seed)
    sim.state[state.THETA] = angle
    sim.command(SPEED, speed=BEYOND * hand_over_of(drive))
    before = 0.0
    early = [k for k in range(last) if drive.start.rows[k * START_COLUMNS + 3] != 0.0]
    if last > 0 and far_quicker and drive.start.catch == 0 and not by_injection(drive) and not early:
        reached = np.zeros(6)
        if not drag_rows(sim.drive, 1.0, last, angle, reached):
            return BACKWARDS if reached[1] < -0.3 * hand_over_of(drive) else FELL_OUT
        _continue_from(sim, reached, last)
        before = float(reached[5])
    most = longest(drive) - before
    chunk = max(2 * math.pi / (m.pole_pairs * hand_over_of(drive)), 4 * coarse.control.ts)
    slip = 0.0
    while sim.time < most:
        at = float(sim.state[state.THETA])
        sim.skip(chunk)
        found = outcome_of(sim)
        if found is not None:
            return found
        if sim.state[state.PHASE] == state.STARTING:  # a rotor that fell behind does not come back
            slip += m.pole_pairs * (float(sim.state[state.FORCED]) * chunk - (float(sim.state[state.THETA]) - at))
            if abs(slip) > 6 * math.pi:
                return BACKWARDS if sim.speed < -0.3 * hand_over_of(drive) else FELL_OUT
    return FELL_OUT


def _continue_from(sim: Simulation, reached: FloatArray, row: int) -> None:
    """Put the whole plant where the dragged rotor is: currents, voltages and integrators as they are in steady state there."""
    theta, w, field_angle, forced, current = (float(x) for x in reached[:5])
    x, m = sim.state, sim.drive.machine
    lead = field_angle - m.pole_pairs * theta
    i_dq = current * complex(math.cos(lead), math.sin(lead))
    we = m.pole_pairs * w
    v_dq = m.r * i_dq + 1j * we * complex(m.psi + m.ld * i_dq.real, m.lq * i_dq.imag)
    x[state.ID], x[state.IQ], x[state.OMEGA], x[state.THETA] = i_dq.real, i_dq.imag, w, theta
    x[state.PHASE], x[state.ROW], x[state.PHASE_CLOCK] = state.STARTING, float(row), 0.0
    x[state.FIELD] = math.remainder(field_angle, 2 * math.pi)
    x[state.FORCED] = x[state.FORCED_FROM] = x[state.SPEED_SEEN] = forced
    x[state.CURRENT_FROM] = current
    to_field = complex(math.cos(lead), -math.sin(lead))
    held = v_dq * to_field
    x[state.INT_D], x[state.INT_Q], x[state.VD], x[state.VQ] = held.real, held.imag, held.real, held.imag
    frame = complex(math.cos(m.pole_pairs * theta), math.sin(m.pole_pairs * theta))
    v, i = v_dq * frame, i_dq * frame
    x[state.V_ALPHA : state.V_ALPHA + state.HISTORY] = v.real
    x[state.V_BETA : state.V_BETA + state.HISTORY] = v.imag
    x[state.OBSERVER_STATE + I_ALPHA], x[state.OBSERVER_STATE + I_BETA] = i.real, i.imag


@dataclass(frozen=True)
class StartMap:
    """A map: the two levers, their factors (n,) and (m,), what those are in the levers' units, outcomes (n, m, draws; −1 not there yet), and the share ``own_load`` of rated torque
    that loads the bench's own start (its other factors are 1)."""

    across: str
    up: str
    x: FloatArray
    y: FloatArray
    x_shown: FloatArray
    y_shown: FloatArray
    outcomes: IntArray
    own_load: float = 0.0

    @property
    def rate(self) -> FloatArray:
        """Return the share (n, m) of draws that started; NaN where none is there yet."""
        done = self.outcomes >= 0
        count = done.sum(axis=2)
        return np.asarray(np.where(count > 0, (self.outcomes == STARTED).sum(axis=2) / np.maximum(count, 1), np.nan))


def binomial(successes: int, tries: int) -> tuple[float, float]:
    """Return the 95 % interval of a rate: C. J. Clopper, E. S. Pearson, Biometrika 26, 1934."""
    from scipy import special  # a quarter of a second to load

    low = float(special.betaincinv(successes, tries - successes + 1, 0.025)) if successes > 0 else 0.0
    high = float(special.betaincinv(successes + 1, tries - successes, 0.975)) if successes < tries else 1.0
    return low, high


@dataclass(frozen=True)
class Rate:
    """How often it starts with everything unknown at once: ``outcomes`` by name and the interval of the share that started."""

    tries: int
    outcomes: dict[str, int]
    low: float
    high: float

    @property
    def share(self) -> float:
        """Return the share that started."""
        return self.outcomes["started"] / self.tries


def study_of(bench: Bench, spread_: Spread | None = None) -> StartStudy:
    """Return the study of a bench's start as designed; raises Refusal where something is missing."""
    drive, _ = drive_for_start(bench)
    settings, m = bench.settings.start_up, drive.machine
    rated = m.torque_factor * m.pole_pairs * m.psi * rated_peak(bench.settings.plate)
    doubts = spread_ or Spread(r=settings.r_doubt, inductance=settings.l_doubt, psi=settings.psi_doubt)
    run = bench.settings.run
    drives = run.load_kind == "drives"
    torque = driving_load(bench) if drives else abs(run.load)
    held = 0.0 if drives else torque
    free = drive.load._replace(coulomb=drive.load.coulomb - held, breakaway=run.breakaway, driving=0.0)
    return StartStudy(with_floats(drive._replace(load=free)), rated, torque / rated, drives, spread=doubts)


def shown(study: StartStudy, lever: str, factors: FloatArray) -> FloatArray:
    """Return factors of a lever in its unit."""
    d = study.drive
    used = int(d.start.used)
    rows = np.array(d.start.rows).reshape(-1, START_COLUMNS)[:used]
    ramp = rows[np.flatnonzero(rows[:, 1] > 0)[0]]
    injected = by_injection(d)
    base = {
        "load": 100.0, "ramp": d.control.ramp if injected else ramp[1] / ramp[2], "current": d.control.i_limit if injected else ramp[0], "hand_over": hand_over_of(d) * 30 / math.pi, "align": rows[0, 2],
    }.get(lever, 100.0)  # fmt: skip
    return np.asarray(base * factors)


def grid(lever: str, count: int) -> FloatArray:
    """Return the factors of a lever (count,): evenly by ratio, the load evenly."""
    of = LEVERS[lever]
    if of.low <= 0:
        return np.linspace(of.low, of.high, count)
    return np.geomspace(of.low, of.high, count)


def check_levers(across: str, up: str, drive: Drive | None = None) -> None:
    """Refuse levers that there are not, one twice, or one that changes nothing of this ``drive``."""
    for name, where in ((across, "--across"), (up, "--up")):
        if name not in LEVERS:
            raise Refusal(f"“{name}” is no lever", f"use {', '.join(LEVERS)}", where=where)
        if drive is None:
            continue
        if name == "align" and by_injection(drive):
            raise Refusal("a start by injection does not align", "choose another lever", where=where)
        if name == "saliency" and drive.machine.ld == drive.machine.lq:
            raise Refusal(
                "Ld and Lq of this motor are equal: there is no saliency to change",
                "choose another lever",
                where=where,
            )
    if across == up:
        raise Refusal("both levers are the same", "choose two different ones", where="--up")


def start_map(
    study: StartStudy, across: str, up: str, *, columns: int = 40, rows: int = 40, draws: int = 5, seed: int = 1, workers: int | None = None,
    scheduler: str | None = None, arrived: Callable[[StartMap], None] | None = None, cancelled: Callable[[], bool] = lambda: False,
) -> StartMap:  # fmt: skip
    """Try ``draws`` starts in every cell of two levers; ``arrived`` sees the map as it grows. Raises Refusal for unknown or equal levers."""
    check_levers(across, up, study.drive)
    x, y = grid(across, columns), grid(up, rows)
    # in an order that fills the map evenly, so that it can be read while it grows
    order = np.random.default_rng(0).permutation(columns * rows)
    places = [(int(k) % columns, int(k) // columns) for k in order]
    cells = [Cell(((across, float(x[i])), (up, float(y[j]))), draws) for i, j in places]
    outcomes = np.full((columns, rows, draws), -1, dtype=np.int64)
    made = StartMap(across, up, x, y, x_shown=shown(study, across, x), y_shown=shown(study, up, y), outcomes=outcomes, own_load=study.own_load)

    def take(place: int, answer: tuple[int, ...]) -> None:
        outcomes[places[place]] = answer
        if arrived is not None:
            arrived(replace(made, outcomes=outcomes.copy()))

    spread(study, cells, seed=seed, workers=workers, scheduler=scheduler, arrived=take, cancelled=cancelled)
    return made


def success_rate(
    study: StartStudy, *, tries: int = 400, seed: int = 1, workers: int | None = None, scheduler: str | None = None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Rate:  # fmt: skip
    """Try the start with everything unknown at once; each draw is one task, so the answers are the same however they are spread."""
    answers = spread(
        study, [Cell((), 1)] * tries, seed=seed, workers=workers, scheduler=scheduler, cancelled=cancelled
    )
    return rate_of([a[0] for a in answers])


def rate_of(outcomes: Sequence[int]) -> Rate:
    """Return the rate of a list of outcomes."""
    counts = {name: sum(o == k for o in outcomes) for k, name in enumerate(OUTCOMES)}
    return Rate(len(outcomes), counts, *binomial(counts["started"], len(outcomes)))


def margins(found: StartMap, least: float = 0.8) -> dict[str, tuple[float, float]]:
    """Return for each lever the factors down and up from the working point at which fewer than ``least`` of the draws start (NaN: not within the map)."""
    rate = found.rate
    i, j = int(np.argmin(np.abs(found.x - 1))), int(np.argmin(np.abs(found.y - 1)))
    if found.across == "load":
        i = int(np.argmin(np.abs(found.x - found.own_load)))
    if found.up == "load":
        j = int(np.argmin(np.abs(found.y - found.own_load)))

    def border(values: FloatArray, factors: FloatArray, at: int) -> tuple[float, float]:
        bad = np.flatnonzero(values < least)
        below, above = bad[bad <= at], bad[bad >= at]
        return float(factors[below[-1]]) if len(below) else math.nan, float(factors[above[0]]) if len(
            above
        ) else math.nan

    return {found.across: border(rate[:, j], found.x, i), found.up: border(rate[i, :], found.y, j)}


def kind_counts(found: StartMap) -> IntArray:
    """Return how many draws of each cell came to each outcome, (n, m, outcomes)."""
    return np.stack([(found.outcomes == k).sum(axis=2) for k in range(len(OUTCOMES))], axis=2)


def working_cell(found: StartMap) -> tuple[float, float]:
    """Return where the bench's own values lie, in cells from the middle of the first one."""

    def place(lever: str, factors: FloatArray) -> float:
        own = found.own_load if lever == "load" else 1.0
        return float(np.interp(own, factors, np.arange(len(factors))))

    return place(found.across, found.x), place(found.up, found.y)


def play_cell(study: StartStudy, found: StartMap, column: int, row: int) -> Played:
    """Play one start of a cell with the whole plant: what is not known as it is believed, the rotor an eighth of a turn off."""
    factors = {found.across: float(found.x[column]), found.up: float(found.y[row])}
    exact = replace(study, spread=Spread(0, 0, 0, 0, friction=0, load=0, dead=0))
    drive = exact.drawn(factors, np.random.default_rng(column * 1000 + row))
    return play(drive, angle=0.8 / drive.machine.pole_pairs)


def margin_text(lever: str, low: float, high: float, drive: Drive) -> str:
    """Say how far a lever is from where fewer than 80 % start, in a sentence."""
    of = "rated torque" if lever == "load" else "the bench's"
    sides = [f"below {low:.2g}" if math.isfinite(low) else "", f"above {high:.2g}" if math.isfinite(high) else ""]
    said = " and ".join(s for s in sides if s)
    title = lever_title(lever, drive).split(",")[0]
    return f"{title}: it fails {said} times {of}" if said else f"{title}: no border within the map"
