"""Six lead orders by trial: what each would do with this motor, and which one the log points to.

Three leads on three terminals give six orders (common practice: one runs smoothly both ways from rest). If the right
order were h, a trial in order o behaves like the relative order between the two, and every relative order is simulated
under six-step drive from all sectors, in both directions. The log's symptoms weigh the six hypotheses by Bayes' rule;
the next trial proposed is the one whose outcome is expected to lower the entropy most.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import LedgerEntry, Symptom, Trial
from crisp_compass.commutation.halls import PAIR_ANGLES, best_pair
from crisp_compass.commutation.lead_fix import lead_fixes
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.drive import machine_of
from crisp_compass.course.waypoints.commutation import known_halls, uses_halls
from crisp_compass.errors import Refusal
from crisp_compass.plant.control.six_step import six_step
from crisp_compass.plant.parameters import AnyMachine, Load
from crisp_compass.quantities import grouped

ORDERS: tuple[str, ...] = ("ABC", "ACB", "BAC", "BCA", "CAB", "CBA")
SEEN: dict[Symptom, str] = {
    "": "–", "smooth": "runs smoothly", "nudge": "needs a nudge", "vibrates": "vibrates", "still": "stands still",
    "wrong-way": "runs the wrong way", "hot": "runs, but hot",
}  # fmt: skip
#: Symptoms that people confuse, and how likely each is written down for the other.
_ALIKE = {
    frozenset(("vibrates", "still")): 0.35, frozenset(("still", "nudge")): 0.2, frozenset(("vibrates", "nudge")): 0.2,
    frozenset(("hot", "wrong-way")): 0.25, frozenset(("hot", "smooth")): 0.1, frozenset(("hot", "vibrates")): 0.15,
    frozenset(("wrong-way", "nudge")): 0.1,
}  # fmt: skip
_RARE = 0.02
_STEP, _SECONDS = 2e-5, 0.8


@dataclass(frozen=True)
class ExpectedBehaviour:
    """One relative order: symptom and mean current [A] for each commanded direction, and speed [rad/s]."""

    symptoms: tuple[Symptom, Symptom]
    currents: tuple[float, float]
    speeds: tuple[float, float]


@dataclass(frozen=True)
class Ranking:
    """Probability of each order to be the right one, the next trial (empty when decided), and why in one sentence."""

    probability: dict[str, float]
    following: str
    reason: str

    @property
    def best(self) -> str:
        """The likeliest order."""
        return max(self.probability, key=lambda o: self.probability[o])


def expect_orders(bench: Bench) -> dict[tuple[int, ...], ExpectedBehaviour]:
    """Simulate all six relative orders of this motor with its hall table, or even 120° halls where it is not known.

    Raises Refusal naming what is missing.
    """
    machine, load, volts, limit = _motor(bench)
    halls = known_halls(bench)
    if halls is None:
        edges, centres = np.arange(30.0, 390.0, 60.0), np.arange(60.0, 420.0, 60.0)
    else:
        sectors = sorted(halls.states.values(), key=lambda s: s.from_deg % 360)
        edges = np.array([s.from_deg % 360 for s in sectors])
        centres = np.array([s.center_deg for s in sectors])
    edges = np.radians(edges)
    right = _run(machine, load, edges, centres, relative=(0, 1, 2), volts=volts, limit=limit)
    return {
        relative: _judge(_run(machine, load, edges, centres, relative=relative, volts=volts, limit=limit), right)
        for relative in itertools.permutations(range(3))
    }


def _motor(bench: Bench) -> tuple[AnyMachine, Load, float, float]:
    plate = bench.settings.plate
    machine, load = machine_of(bench)
    # enough to turn it smartly in the right order: friction three times over, and a tenth of the bus
    friction = 3 * load.coulomb / (math.sqrt(3) * machine.pole_pairs * machine.psi)
    volts = max(0.1 * plate.v_bus, 2 * machine.r * friction)
    return machine, load, volts, max(rated_peak(bench.settings.plate), 2 * friction)


_Runs = dict[int, list[tuple[float, float, float, float]]]


def _run(
    machine: AnyMachine, load: Load, edges: np.ndarray, centres: np.ndarray, relative: tuple[int, ...], volts: float, limit: float
) -> _Runs:  # fmt: skip
    """Return the runs by commanded direction, one from the middle of each sector."""
    angles = []
    for centre in centres:
        pair = best_pair(float(centre) % 360)
        named = "".join("ABC"[relative["ABC".index(c)]] if c in "ABC" else c for c in pair)
        plus, minus = (named[:2], named[2:]) if named[1] == "+" else (named[2:], named[:2])
        angles.append(math.radians(PAIR_ANGLES[plus + minus]))
    runs: _Runs = {}
    for direction in (1, -1):
        pairs = np.array(angles) + (0.0 if direction > 0 else math.pi)
        runs[direction] = [
            six_step(
                machine,
                load,
                edges,
                pairs,
                volts,
                limit,
                math.radians(float(c) + 7.0),
                _STEP,
                round(_SECONDS / _STEP),
            )
            for c in centres
        ]
    return runs


def _judge(runs: _Runs, right: _Runs) -> ExpectedBehaviour:
    symptoms, currents, speeds = [], [], []
    for direction in (1, -1):
        mine = runs[direction]
        best_speed = max(abs(r[1]) for r in right[direction])
        best_current = float(np.mean([r[2] for r in right[direction]]))
        turned = [direction * r[0] > 2 * math.pi for r in mine]
        wrong = [direction * r[0] < -2 * math.pi for r in mine]
        shakes = float(np.mean([r[3] for r in mine])) > 0.02 * best_speed
        current = float(np.mean([r[2] for r in mine]))
        symptom: Symptom
        if sum(wrong) >= 4:
            symptom = "wrong-way"
        elif all(turned):
            slow = float(np.mean([abs(r[1]) for r in mine])) < 0.7 * best_speed
            symptom = "hot" if current > 2 * best_current or slow else "smooth"
        elif any(turned) or any(wrong):
            symptom = "nudge"
        else:
            symptom = "vibrates" if shakes else "still"
        symptoms.append(symptom)
        currents.append(current)
        speeds.append(float(np.mean([r[1] for r in mine])))
    return ExpectedBehaviour((symptoms[0], symptoms[1]), (currents[0], currents[1]), (speeds[0], speeds[1]))


def relative_order(tried: str, right: str) -> tuple[int, ...]:
    """Return what a trial in one order is like if another one is right: lead k acts as lead ``result[k]``."""
    lead_on = {terminal: k for k, terminal in enumerate(tried)}
    return tuple(lead_on[right[k]] for k in range(3))


def _likelihood(seen: Symptom, expected: Symptom) -> float:
    if not seen:
        return 1.0
    if seen == expected:
        return 0.75
    return _ALIKE.get(frozenset((seen, expected)), _RARE)


def rank_orders(trials: dict[str, Trial], expected: dict[tuple[int, ...], ExpectedBehaviour]) -> Ranking:
    """Weigh the six orders by the log and propose the next trial."""
    weight = np.zeros(len(ORDERS))
    for k, right in enumerate(ORDERS):
        for order, trial in trials.items():
            outlook = expected[relative_order(order, right)]
            for seen, wanted in zip((trial.forward, trial.backward), outlook.symptoms, strict=True):
                weight[k] += math.log(_likelihood(seen, wanted))
        weight[k] += _currents_fit(trials, expected, right)
    chance = np.exp(weight - weight.max())
    chance /= chance.sum()
    probability = dict(zip(ORDERS, (float(x) for x in chance), strict=True))
    best = max(probability, key=lambda o: probability[o])
    if probability[best] > 0.95 and trials.get(best, Trial()).forward:
        return Ranking(probability, "", f"{_leads(best)} explains the log; the others do not.")
    following = _most_telling(trials, expected, chance)
    pair = _two_left(probability, trials)
    if pair and not following:
        return Ranking(probability, "", _compare_currents(pair, trials))
    if not following:
        return Ranking(probability, "", f"{_leads(best)} fits best; no further trial tells more.")
    return Ranking(probability, following, f"Try {_leads(following)} next: its outcome separates what is left best.")


def _two_left(probability: dict[str, float], trials: dict[str, Trial]) -> tuple[str, str] | None:
    """Return the two best orders where nothing separates them but the current: both tried, the second half as likely or more."""
    first, second = sorted(probability, key=lambda o: -probability[o])[:2]
    tried = all(trials.get(o, Trial()).forward for o in (first, second))
    return (first, second) if tried and probability[second] > 0.5 * probability[first] else None


def _compare_currents(pair: tuple[str, str], trials: dict[str, Trial]) -> str:
    """Say which of two orders draws less at equal speed, or what to measure to tell."""
    first, second = pair
    sums = []
    for order in pair:
        trial = trials[order]
        if trial.current_forward is None or trial.current_backward is None:
            return f"{_leads(first)} and {_leads(second)} are alike so far: run both at the same speed in both directions and type the currents; the right one draws less."
        sums.append(trial.current_forward + trial.current_backward)
    uneven = _uneven(trials[first], trials[second])
    if uneven:
        return f"{_leads(first)} and {_leads(second)} were not run at equal speed ({uneven}): the currents do not compare."
    less = pair[int(sums[1] < sums[0])]
    return f"{_leads(less)} draws less at equal speed in both directions together: take it."


def _uneven(first: Trial, second: Trial) -> str:
    """Return the two speeds where they differ by more than a tenth, in rpm, or an empty text."""
    for a, b in ((first.speed_forward, second.speed_forward), (first.speed_backward, second.speed_backward)):
        if a and b and abs(a / b - 1) > 0.1:
            return f"{grouped(a * RPM_PER_RAD_S)} and {grouped(b * RPM_PER_RAD_S)} rpm"
    return ""


def turn_round(bench: Bench) -> str:
    """Return how to turn the motor round without breaking commutation, shortest first, in words."""
    halls = known_halls(bench)
    if uses_halls(bench) and halls is not None:
        table = {code: s.drive for code, s in halls.states.items()}
        ways = [m for m in lead_fixes(table, table) if m.direction < 0 and not m.inverted]
        wires = f", or {ways[0].text.partition(' (')[0]} together" if ways else ""
        return f"To turn it round: reverse in the firmware{wires}; leads or halls alone break commutation."
    if uses_halls(bench):
        return "To turn it round: reverse in the firmware, or exchange two leads and their two hall wires together, never one alone."
    return "To turn it round: invert the direction in the drive, or exchange two leads and invert the count, then take the zero anew."


def _currents_fit(trials: dict[str, Trial], expected: dict[tuple[int, ...], ExpectedBehaviour], right: str) -> float:
    """Compare measured currents of two trials by their ratio; the simulated size itself is not relied on."""
    pairs = []
    for order, trial in trials.items():
        outlook = expected[relative_order(order, right)]
        for read, made in zip((trial.current_forward, trial.current_backward), outlook.currents, strict=True):
            if read and made > 0:
                pairs.append(math.log(read / made))
    if len(pairs) < 2:
        return 0.0
    # a factor of two between prediction and reading is one standard deviation
    return -0.5 * float(np.sum((np.array(pairs) - np.mean(pairs)) ** 2)) / math.log(2) ** 2


def _most_telling(
    trials: dict[str, Trial], expected: dict[tuple[int, ...], ExpectedBehaviour], chance: np.ndarray
) -> str:
    """Return the untried order whose outcome lowers the expected entropy most."""

    def entropy(p: np.ndarray) -> float:
        p = p[p > 1e-12]
        return float(-np.sum(p * np.log(p)))

    before, best, gain = entropy(chance), "", 0.02
    outcomes = [(a, b) for a in SEEN if a for b in SEEN if b]
    for order in ORDERS:
        if order in trials and (trials[order].forward or trials[order].backward):
            continue
        left = 0.0
        looks = [expected[relative_order(order, right)].symptoms for right in ORDERS]
        for a, b in outcomes:
            joint = chance * np.array([_likelihood(a, x) * _likelihood(b, y) for x, y in looks])
            if joint.sum() > 0:
                left += float(joint.sum()) * entropy(joint / joint.sum())
        norm = sum(
            float(np.sum(chance * np.array([_likelihood(a, x) * _likelihood(b, y) for x, y in looks])))
            for a, b in outcomes
        )
        if before - left / norm > gain:
            best, gain = order, before - left / norm
    return best


def _leads(order: str) -> str:
    return " ".join(f"{lead}→{terminal}" for lead, terminal in zip("UVW", order, strict=True))


def set_trial(bench: Bench, order: str, when: str, **fields: object) -> Bench:
    """Return the bench with one trial's fields set and a ledger line for what was seen."""
    if order not in ORDERS:
        raise Refusal(f"“{order}” is no order of the leads", f"use one of {', '.join(ORDERS)}")
    for name in ("current_forward", "current_backward", "speed_forward", "speed_backward"):
        value = fields.get(name)
        if isinstance(value, float) and not (math.isfinite(value) and value >= 0):
            what, unit = ("current", "A") if name.startswith("current") else ("speed", "rad/s")
            raise Refusal(f"{value:g} {unit} is no reading", f"type the {what} again, without a sign")
    trial = bench.trials.get(order, Trial()).model_copy(update=fields)
    said = ", ".join(f"{way} {SEEN[s]}" for way, s in (("forward", trial.forward), ("backward", trial.backward)) if s)
    line = LedgerEntry(when=when, kind="trial", text=f"{_leads(order)}: {said or 'currents read'}")
    return bench.model_copy(update={"trials": {**bench.trials, order: trial}, "ledger": (*bench.ledger, line)})
