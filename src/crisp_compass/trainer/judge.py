"""The judge of a drill: what was done, in which order, and what was concluded from it; and what an expert would have done at each moment."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from crisp_compass.quantities import show
from crisp_compass.trainer.drill import Case, Reading
from crisp_compass.trainer.evidence import Evidence, evidence_of, next_step

#: Points: right cause, numbers, evidence, thrift; and what is taken for a hint and for a dangerous act.
CAUSE, NUMBERS, SHOWN, THRIFT, HINT, DANGER = 40.0, 30.0, 20.0, 10.0, 8.0, 30.0
#: How likely the named cause must be by the readings taken, and points from which on a drill is passed.
_SHOWN_FROM, PASSED_FROM = 0.75, 70.0


@dataclass(frozen=True)
class Act:
    """One act of the person: a ``reading``, or a ``hint`` that was asked for."""

    reading: Reading | None
    hint: bool = False


@dataclass(frozen=True)
class Moment:
    """A moment of the debrief: what was done, the likeliest cause after it and how likely, what an expert would have done next (empty: conclude), whether it was dangerous."""

    done: str
    likeliest: str
    belief: float
    expert: str
    dangerous: bool


@dataclass(frozen=True)
class Verdict:
    """The verdict: points of 100, whether it was passed, sentences, the moments, and minutes of person and expert."""

    points: float
    passed: bool
    told: tuple[str, ...]
    moments: tuple[Moment, ...]
    minutes: float
    expert_minutes: float


def dangerous(case: Case, before: Sequence[Reading], key: str) -> bool:
    """Tell whether measuring something now is dangerous: power before what must come first."""
    done = {r.measure for r in before}
    return case.drill.measure(key).power and any(k not in done for k in case.drill.first)


def judge(case: Case, acts: Sequence[Act], cause: str, numbers: Mapping[str, float]) -> Verdict:
    """Judge what was done and concluded."""
    drill, evidence = case.drill, evidence_of(case)
    readings: list[Reading] = []
    moments: list[Moment] = []
    hints = sum(a.hint for a in acts)
    for act in acts:
        if act.reading is None:
            continue
        risky = dangerous(case, readings, act.reading.measure)
        readings.append(act.reading)
        evidence.weigh(act.reading)
        moments.append(_moment(case, readings, evidence, risky))
    told, points = [], 0.0
    right = cause == case.cause.key
    points += CAUSE if right else 0.0
    told.append(f"Right: {case.cause.text}." if right else f"It was: {case.cause.text}. {case.cause.lesson}")
    if right:
        told.append(case.cause.lesson)
    close = [a for a in drill.asks if a.key in numbers and a.right(numbers[a.key], case.truth(a))]
    points += NUMBERS * (len(close) / len(drill.asks) if drill.asks else float(right))
    told += [f"{a.title} is {show(case.truth(a), a.unit, 3)}; {a.bound} counted as right." for a in drill.asks if a not in close]
    belief = evidence.belief.get(cause, 0.0)
    shown = belief >= _SHOWN_FROM
    points += SHOWN if shown and right else 0.0
    if not shown:
        told.append(f"The readings that were taken make the named cause {100 * belief:.0f} % likely: more was needed to know it.")
    minutes = sum(drill.measure(r.measure).minutes for r in readings)
    expert_minutes = sum(drill.measure(r.measure).minutes for r in expert(case)[0])
    if right and shown:
        points += THRIFT * min(max((expert_minutes + 1.0) / (minutes + 1.0), 0.0), 1.0)
    dangers = sum(m.dangerous for m in moments)
    if dangers:
        first = ", ".join(drill.measure(k).title.lower() for k in drill.first)
        told.append(f"Power came before: {first}. On a bench that hurts people or parts.")
    points = max(points - HINT * hints - DANGER * dangers, 0.0)
    passed = right and shown and len(close) == len(drill.asks) and not dangers and points >= PASSED_FROM
    return Verdict(points, passed, tuple(told), tuple(moments), minutes=minutes, expert_minutes=expert_minutes)


def _moment(case: Case, readings: Sequence[Reading], evidence: Evidence, risky: bool) -> Moment:
    belief = evidence.belief
    key = max(belief, key=lambda k: belief[k])
    step = next_step(case, readings, evidence)
    last = readings[-1]
    return Moment(f"{case.drill.measure(last.measure).title}: {last.text}", case.drill.cause(key).text, belief[key], step[0].title if step else "", dangerous=risky)


def expert(case: Case, most: int = 14) -> tuple[list[Reading], str, dict[str, float]]:
    """Play a drill as an expert does: the safest and most telling thing first, until a cause is shown; return readings, cause and numbers.

    It works on a case of its own, so that the person's readings stay theirs.
    """
    own = Case(case.drill, case.seed, case.known, case.cause, figures=case.figures)
    readings: list[Reading] = []
    evidence = evidence_of(own)
    while len(readings) < most and (step := next_step(own, readings, evidence)) is not None:
        reading = own.read(step[0].key)
        readings.append(reading)
        evidence.weigh(reading)
    readings += _for_numbers(own, readings, evidence)
    belief = evidence.belief
    return readings, max(belief, key=lambda k: belief[k]), believed_numbers(own, evidence)


def believed_numbers(case: Case, evidence: Evidence) -> dict[str, float]:
    """Return the numbers asked for as the evidence has them: the mean over the possible cases of the likeliest cause."""
    found, _ = _numbers(case, evidence)
    return found


def _numbers(case: Case, evidence: Evidence) -> tuple[dict[str, float], dict[str, float]]:
    """Return the numbers and their relative doubts."""
    drill = case.drill
    rng = np.random.default_rng([case.seed, 7])
    figures = [drill.drawn(rng, case.known, cause, int((evidence.of == 0).sum())) for cause in drill.causes]
    belief = evidence.belief
    best = max(belief, key=lambda k: belief[k])
    place = [c.key for c in drill.causes].index(best)
    w = evidence.weights[evidence.of == place]
    w = w / max(float(w.sum()), 1e-300)
    means, doubts = {}, {}
    for ask in drill.asks:
        values = np.asarray(ask.truth(figures[place]))
        mean = float((w * values).sum())
        if ask.circle:
            mean = float(np.angle((w * np.exp(1j * values)).sum()))
            spread = float(np.sqrt((w * np.angle(np.exp(1j * (values - mean))) ** 2).sum()))
        else:
            spread = math.sqrt(float((w * (values - mean) ** 2).sum())) / max(abs(mean), 1e-300)
        means[ask.key], doubts[ask.key] = mean, spread
    return means, doubts


def _for_numbers(case: Case, readings: Sequence[Reading], evidence: Evidence) -> list[Reading]:
    """Measure on until the numbers are known well enough, what narrows them most first."""
    more: list[Reading] = []
    for _ in range(6):
        _, doubts = _numbers(case, evidence)
        open_ = [a for a in case.drill.asks if doubts[a.key] > 0.4 * a.within]
        if not open_:
            break
        done = {r.measure for r in (*readings, *more)}
        missing = [k for k in case.drill.first if k not in done]

        def narrows(key: str) -> float:
            read = evidence.read[key]
            if read.dtype.kind in "US":
                return 0.0
            w = evidence.weights / evidence.weights.sum()
            mean = float((w * read).sum())
            spread = math.sqrt(float((w * (read - mean) ** 2).sum()))
            noise = float((w * case.drill.measure(key).spread(read)).sum())
            return spread / noise / case.drill.measure(key).minutes

        best = max((m.key for m in case.drill.measures), key=narrows)
        if narrows(best) < 0.05:
            break
        key = missing[0] if case.drill.measure(best).power and missing else best
        reading = case.read(key)
        more.append(reading)
        evidence.weigh(reading)
    return more

