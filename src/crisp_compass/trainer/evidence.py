"""What the readings of a case say: how likely each cause is, and what an expert would measure next.

Each cause is stood for by many possible cases (what is not known drawn anew); a reading weighs them by Bayes' rule with the measurement's own noise. The next thing to do is the one that tells most
about the cause for its minutes: the expected loss of entropy (D. V. Lindley, Annals of Mathematical Statistics 27, 1956).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.trainer.drill import Case, Drill, Measure, Reading

#: Possible cases of each cause, and draws by which the worth of a measurement is told.
_COUNT, _DRAWS = 160, 48
#: Chance that words are read wrongly, or a number lies beside all that was thought of.
_SLIP = 0.01
#: From here on a cause counts as shown.
SURE = 0.98


@dataclass
class Evidence:
    """The possible cases of a drill, cause by cause: what each measurement reads in them, and their weights (n,)."""

    drill: Drill
    of: FloatArray
    read: dict[str, np.ndarray]
    weights: FloatArray

    @property
    def belief(self) -> dict[str, float]:
        """How likely each cause is."""
        total = float(self.weights.sum())
        return {c.key: float(self.weights[self.of == k].sum()) / total for k, c in enumerate(self.drill.causes)}

    def weigh(self, reading: Reading) -> None:
        """Take a reading into account."""
        self.weights = self.weights * _likelihood(self.drill.measure(reading.measure), self.read[reading.measure], reading.value)
        self.weights /= max(float(self.weights.sum()), 1e-300)


def _likelihood(measure: Measure, read: np.ndarray, value: float | str) -> FloatArray:
    """Return how likely a value is in each possible case (n,)."""
    if isinstance(value, str):
        return np.where(read == value, 1.0, _SLIP)
    sigma = measure.spread(read)
    span = max(float(np.ptp(read)), float(sigma.max()))
    return np.asarray(np.exp(-0.5 * ((value - read) / sigma) ** 2) / sigma + _SLIP / (4 * span))


def evidence_of(case: Case, readings: Sequence[Reading] = ()) -> Evidence:
    """Return the evidence of a case after some readings. What a person knows goes in; the true cause does not."""
    drill = case.drill
    rng = np.random.default_rng([case.seed, 7])
    figures = [drill.drawn(rng, case.known, cause, _COUNT) for cause in drill.causes]
    read = {m.key: np.concatenate([np.asarray(m.reads(f)) for f in figures]) for m in drill.measures}
    found = Evidence(drill, np.repeat(np.arange(len(drill.causes)), _COUNT).astype(np.float64), read, np.full(_COUNT * len(drill.causes), 1.0 / (_COUNT * len(drill.causes))))
    for reading in readings:
        found.weigh(reading)
    return found


def _entropy(evidence: Evidence, weights: FloatArray) -> float:
    told = np.array([weights[evidence.of == k].sum() for k in range(len(evidence.drill.causes))])
    told = told / max(float(told.sum()), 1e-300)
    return float(-(told * np.log(np.maximum(told, 1e-12))).sum())


def worth(evidence: Evidence, measure: Measure, seed: int = 0) -> float:
    """Return what a measurement is expected to tell about the cause, in bits."""
    rng = np.random.default_rng([seed, sum(measure.key.encode())])
    read, w = evidence.read[measure.key], evidence.weights
    now = _entropy(evidence, w)
    if read.dtype.kind in "US":
        told = 0.0
        for value in np.unique(read):
            after = w * _likelihood(measure, read, str(value))
            told += float(w[read == value].sum()) * (now - _entropy(evidence, after))
        return told / math.log(2)
    left = 0.0
    for k in rng.choice(len(w), size=_DRAWS, p=w / w.sum()):
        value = float(read[k] + measure.spread(read[k : k + 1])[0] * rng.standard_normal())
        left += _entropy(evidence, w * _likelihood(measure, read, value))
    return (now - left / _DRAWS) / math.log(2)


def next_step(case: Case, readings: Sequence[Reading], evidence: Evidence) -> tuple[Measure, float] | None:
    """Return what an expert would do next and what it is expected to tell [bit]; None where the cause is shown, or nothing tells more. What must come before power comes first."""
    if max(evidence.belief.values()) > SURE:
        return None
    done = {r.measure for r in readings}
    missing = [k for k in case.drill.first if k not in done]
    best: tuple[Measure, float] | None = None
    for measure in case.drill.measures:
        told = worth(evidence, measure, len(readings))
        cost = measure.minutes + (sum(case.drill.measure(k).minutes for k in missing) if measure.power else 0.0)
        if told > 0.01 and (best is None or told / cost > best[1]):
            best = (measure, told / cost)
    if best is None:
        return None
    measure = case.drill.measure(missing[0]) if best[0].power and missing else best[0]
    return measure, worth(evidence, best[0], len(readings))
