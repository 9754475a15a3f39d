"""What a drill is: a motor drawn from a seed, causes of which one is true, things to measure, numbers to tell.

A cause changes the figures of the motor or of what stands around it; a measurement reads them. Both work on arrays, so that the same functions make the one true case
and the many possible ones against which the evidence is weighed (trainer.evidence).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from crisp_compass.estimates import FloatArray
from crisp_compass.quantities import show

#: Figures of a case by name, each (n,) for n possible cases; in SI.
Figures = dict[str, FloatArray]
Told = NDArray[np.str_]
Tool = Literal["eye", "hand", "meter", "scope", "drive"]


@dataclass(frozen=True)
class Cause:
    """Something that can be so: its ``key`` and ``text``, how it changes the figures, and what is learnt from it."""

    key: str
    text: str
    act: Callable[[Figures], Figures]
    lesson: str


@dataclass(frozen=True)
class Measure:
    """Something that can be done and read: what ``reads`` the figures as numbers (n,) in ``unit`` or as words (n,), with relative ``noise`` and ``noise_abs``, what it costs in ``minutes``,
    whether it needs ``power``, and what it ``sees`` in a sentence of the debrief."""

    key: str
    title: str
    tool: Tool
    reads: Callable[[Figures], FloatArray | Told]
    unit: str = ""
    noise: float = 0.01
    noise_abs: float = 0.0
    minutes: float = 2.0
    power: bool = False
    sees: str = ""

    def spread(self, value: FloatArray) -> FloatArray:
        """Return the standard deviation of readings around values (n,)."""
        return np.asarray(np.sqrt((self.noise * np.abs(value)) ** 2 + self.noise_abs**2) + 1e-12)


@dataclass(frozen=True)
class Ask:
    """A number to be told: the true one out of the figures, in ``unit`` (SI), right ``within`` a part of it; an angle (``circle``) within so many radians, turns aside."""

    key: str
    title: str
    unit: str
    truth: Callable[[Figures], FloatArray]
    within: float
    circle: bool = False

    def right(self, value: float, truth: float) -> bool:
        """Tell whether a number counts as right."""
        if self.circle:
            return abs(math.remainder(value - truth, 2 * math.pi)) <= self.within
        return abs(value - truth) <= self.within * abs(truth)

    @property
    def bound(self) -> str:
        """Within what a number is right, in words."""
        return f"within {show(self.within, self.unit, 2)}" if self.circle else f"within {100 * self.within:.0f} %"


@dataclass(frozen=True)
class Drill:
    """One drill. ``shape`` draws the known figures (n equal rows) from a generator, ``vary`` what is not known (n,); ``story`` tells the known ones; what needs power is dangerous before all of ``first`` were done."""

    key: str
    title: str
    family: str
    shape: Callable[[np.random.Generator], Mapping[str, float]]
    vary: Callable[[np.random.Generator, Figures, int], Figures]
    story: Callable[[Mapping[str, float]], str]
    causes: tuple[Cause, ...]
    measures: tuple[Measure, ...]
    asks: tuple[Ask, ...] = ()
    first: tuple[str, ...] = ()

    def measure(self, key: str) -> Measure:
        """Return a measurement by its key."""
        return next(m for m in self.measures if m.key == key)

    def cause(self, key: str) -> Cause:
        """Return a cause by its key."""
        return next(c for c in self.causes if c.key == key)

    def drawn(self, rng: np.random.Generator, known: Mapping[str, float], cause: Cause, count: int) -> Figures:
        """Return the figures of ``count`` possible cases of a cause."""
        figures = {name: np.full(count, float(value)) for name, value in known.items()}
        return cause.act({**figures, **self.vary(rng, figures, count)})


@dataclass(frozen=True)
class Reading:
    """What a measurement read: a number in its unit, or words."""

    measure: str
    value: float | str
    text: str


@dataclass
class Case:
    """A drill on one seed: what is known, the true cause and figures (1,), and how often each thing was measured."""

    drill: Drill
    seed: int
    known: Mapping[str, float]
    cause: Cause
    figures: Figures
    _taken: dict[str, int] = field(default_factory=dict)

    @property
    def story(self) -> str:
        """What the person is told at the begin."""
        return self.drill.story(self.known)

    def read(self, key: str) -> Reading:
        """Measure something; the same seed and turn give the same reading."""
        measure = self.drill.measure(key)
        turn = self._taken.get(key, 0)
        self._taken[key] = turn + 1
        exact = measure.reads(self.figures)
        if exact.dtype.kind in "US":
            return Reading(key, str(exact[0]), str(exact[0]))
        rng = np.random.default_rng([self.seed, sum(key.encode()), turn])
        value = float(exact[0] + measure.spread(np.asarray(exact, dtype=np.float64))[0] * rng.standard_normal())
        return Reading(key, value, show(value, measure.unit, 3))

    def truth(self, ask: Ask) -> float:
        """Return the true number."""
        return float(ask.truth(self.figures)[0])


def case_of(drill: Drill, seed: int) -> Case:
    """Draw a case; every cause is as likely as another."""
    rng = np.random.default_rng([seed, sum(drill.key.encode())])
    known = drill.shape(rng)
    cause = drill.causes[int(rng.integers(len(drill.causes)))]
    return Case(drill, seed, known, cause, figures=drill.drawn(rng, known, cause, 1))


def unchanged(figures: Figures) -> Figures:
    """Return the figures as they are: nothing is wrong."""
    return figures


def with_(**changes: float) -> Callable[[Figures], Figures]:
    """Return what sets figures to fixed values."""

    def act(figures: Figures) -> Figures:
        count = len(next(iter(figures.values())))
        return {**figures, **{name: np.full(count, value) for name, value in changes.items()}}

    return act


def words(*choices: tuple[FloatArray | NDArray[np.bool_], str], other: str) -> Told:
    """Return for each case (n,) the words of the first condition that holds."""
    return np.select([np.asarray(c, dtype=bool) for c, _ in choices], [np.full(len(c), w) for c, w in choices], default=other).astype(str)
