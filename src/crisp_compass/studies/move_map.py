"""How often a stepped move keeps its place: over current and acceleration, with friction, supply, load, inertia and constants drawn from what is not known.

Each run is the whole plant's (studies.stepped_move); the quickest acceleration is the largest that, like all smaller ones tried, keeps its place in the wanted share of runs.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.course.open_loop import stepping_current
from crisp_compass.course.position import Move, as_designed, count_of, move_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray, IntArray
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.simulation import Simulation, with_floats
from crisp_compass.studies.batch import spread
from crisp_compass.studies.scenarios import open_simulation
from crisp_compass.studies.start_map import binomial
from crisp_compass.studies.stepped_move import Stepped, play_steps, unwatched

#: Accelerations tried between the last that keeps enough and the next.
_BETWEEN = 4
#: What a run may end in.
OUTCOMES = ("keeps its place", "loses steps", "trips")
KEEPS, LOSES, TRIPS = range(3)
#: Factors of the current over which the map reaches; of the acceleration from the smaller one on, up to this much of what all torque would make of the inertia; accelerations of the rate.
_CURRENTS, _SLOWEST, _MOST, _RATED = (0.2, 1.4), 0.3, 1.3, 12
#: Seconds at speed that are enough to see whether it falls out there, and share of runs that the quickest acceleration keeps.
_CRUISES, WANTED = 0.2, 0.99
#: Standard ratios of what is not known: friction, load, inertia, flux, resistance; and how far the supply may sag, evenly.
FRICTION, LOAD, INERTIA, FLUX, RESISTANCE, SAG = 0.3, 0.05, 0.1, 0.03, 0.1, 0.1


@dataclass(frozen=True)
class MoveCell:
    """Factors of current and acceleration, and how often they are tried."""

    current: float
    accel: float
    draws: int


@dataclass(frozen=True)
class MoveStudy:
    """What every run shares: the drive, the move, the least way ``count`` [rad], ``current`` [A peak], the ``load`` [N·m] that ``drives`` or only brakes; ``most`` factor of the acceleration that is looked at; can be pickled."""

    drive: Drive
    move: Move
    count: float
    current: float
    load: float
    drives: bool
    most: float

    def __call__(self, cell: MoveCell, seed: int) -> tuple[int, ...]:
        """Return the outcome of each draw of a cell."""
        rng = np.random.default_rng(seed)
        return tuple(self._outcome(self.played(cell, rng)) for _ in range(cell.draws))

    def played(self, cell: MoveCell, rng: np.random.Generator) -> Stepped:
        """Play one move out of what is not known."""

        def near(ratio: float) -> float:
            return float(np.clip(1 + ratio * rng.standard_normal(), 0.3, 3.0))

        d, friction, turning = self.drive, near(FRICTION), near(INERTIA)
        machine = d.machine._replace(r=d.machine.r * near(RESISTANCE), psi=d.machine.psi * near(FLUX))
        load = d.load._replace(inertia=d.load.inertia * turning, second=d.load.second * turning, coulomb=d.load.coulomb * friction, viscous=d.load.viscous * friction)
        move = replace(self.move, accel=cell.accel * self.move.accel)
        # no longer than shows whether it holds
        move = replace(move, distance=math.copysign(min(abs(move.distance), move.speed**2 / move.accel + _CRUISES * move.speed), move.distance))
        sim = Simulation(d._replace(machine=machine, load=load, control=d.control._replace(move_accel=move.accel)), seed=int(rng.integers(1, 2**31)))
        sim.set_supply(sim.supply * (1 - SAG * float(rng.uniform())))
        sim.set_load(self.load * near(LOAD), drives=self.drives)
        return play_steps(sim, move, cell.current * self.current, self.count)

    @staticmethod
    def _outcome(played: Stepped) -> int:
        return TRIPS if played.fault else LOSES if played.lost else KEEPS


@dataclass(frozen=True)
class MoveMap:
    """Factors (n,) and (m,) of current and acceleration, and outcomes (n, m, draws; −1 not there yet)."""

    currents: FloatArray
    accels: FloatArray
    outcomes: IntArray

    @property
    def counts(self) -> IntArray:
        """How often each outcome came (n, m, outcomes)."""
        return np.stack([(self.outcomes == k).sum(axis=2) for k in range(len(OUTCOMES))], axis=2)

    @property
    def working(self) -> tuple[float, float]:
        """The place of what is set, in cells."""

        def place(factors: FloatArray) -> float:
            return float(np.interp(0.0, np.log(factors), np.arange(len(factors))))

        return place(self.currents), place(self.accels)


@dataclass(frozen=True)
class MoveRate:
    """Share of runs that keep their place with the current as set, over ``factors`` (n,) of the acceleration: ``kept`` of ``tries`` each, and its 95 % interval (n, 2)."""

    factors: FloatArray
    kept: IntArray
    tries: int
    interval: FloatArray

    @property
    def share(self) -> FloatArray:
        """Share that keeps its place (n,)."""
        return np.asarray(self.kept / self.tries)

    @property
    def quickest(self) -> float:
        """Largest factor that, like all smaller ones, keeps the wanted share; NaN where the smallest does not."""
        short = np.flatnonzero(self.share < WANTED)
        last = (int(short[0]) if len(short) else len(self.factors)) - 1
        return float(self.factors[last]) if last >= 0 else math.nan


def move_study(bench: Bench) -> MoveStudy:
    """Return the study of the page's move; raises Refusal where something is missing, or nothing moves."""
    move = move_of(bench)
    if move.distance == 0.0:
        raise Refusal("no distance is asked for", "enter how far the shaft is to turn", field="motion.distance")
    tried = standing(as_designed(bench))
    run, drive = tried.settings.run, unwatched(open_simulation(tried).drive)
    current = stepping_current(tried)
    drive = drive._replace(control=drive.control._replace(i_limit=max(drive.control.i_limit, 1.01 * _CURRENTS[1] * current), i_trip=max(drive.control.i_trip, 2 * _CURRENTS[1] * current)))
    m = drive.machine
    most = _MOST * m.pole_pairs * m.psi * current / drive.load.whole / move.accel
    if move.rounding > 0.0:  # beyond, the mean of the profile over its rounding changes no more
        most = min(most, move.speed / move.rounding / move.accel)
    most = max(most, 3 * _SLOWEST)
    return MoveStudy(with_floats(drive), move, count_of(tried), current, load=run.load, drives=run.load_kind == "drives", most=most)


def move_map(
    study: MoveStudy, *, columns: int = 20, rows: int = 16, draws: int = 3, seed: int = 1, workers: int | None = None,
    arrived: Callable[[MoveMap], None] | None = None, cancelled: Callable[[], bool] = lambda: False,
) -> MoveMap:  # fmt: skip
    """Try the move in every cell; ``arrived`` sees the map as it grows."""
    x, y = np.geomspace(*_CURRENTS, columns), np.geomspace(_SLOWEST, study.most, rows)
    places = [(int(k) % columns, int(k) // columns) for k in np.random.default_rng(0).permutation(columns * rows)]
    outcomes = np.full((columns, rows, draws), -1, dtype=np.int64)
    made = MoveMap(x, y, outcomes)

    def take(place: int, answer: tuple[int, ...]) -> None:
        outcomes[places[place]] = answer
        if arrived is not None:
            arrived(replace(made, outcomes=outcomes.copy()))

    spread(study, [MoveCell(float(x[i]), float(y[j]), draws) for i, j in places], seed=seed, workers=workers, arrived=take, cancelled=cancelled)
    return made


def move_rate(study: MoveStudy, *, tries: int = 200, seed: int = 2, workers: int | None = None, cancelled: Callable[[], bool] = lambda: False) -> MoveRate:
    """Try accelerations with the current as set, ``tries`` times each, up to the first two that keep less than nine of ten, and then some between the last that keeps enough and the next."""
    tasks, found = max(tries // 10, 1), dict[float, int]()

    def keeps(factor: float) -> int:
        answers = spread(study, [MoveCell(1.0, factor, 10)] * tasks, seed=seed, workers=workers, cancelled=cancelled)
        found[factor] = sum(outcome == KEEPS for a in answers for outcome in a)
        return found[factor]

    def rate() -> MoveRate:
        factors = np.array(sorted(found))
        kept = np.array([found[float(f)] for f in factors])
        return MoveRate(factors, kept, 10 * tasks, np.array([binomial(int(k), 10 * tasks) for k in kept]))

    low = 0
    for factor in np.geomspace(_SLOWEST, study.most, _RATED):
        low = low + 1 if keeps(float(factor)) < 9 * tasks else 0
        if low == 2:
            break
    last = rate().quickest
    above = [f for f in sorted(found) if f > last]
    if math.isfinite(last) and above:
        for factor in np.geomspace(last, above[0], 2 + _BETWEEN)[1:-1]:
            keeps(float(factor))
    return rate()
