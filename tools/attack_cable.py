"""Attack on the sensor cable: a person follows the advice on random cables, and one reading in ten is wrong.

Prints how many cables were solved, how many roles were decided wrongly and how many feeds were proposed the wrong way round.
The cable is a circuit of its own: resistors by node analysis, junctions between the chip's 0 V, outputs and supply.
Run: python tools/attack_cable.py [--cables 2000] [--wrong 0.1].
"""

from __future__ import annotations

import argparse
import re
from dataclasses import dataclass, field

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.preparation.sensor_cable import FRAME, CableAnswer, identify_cable, set_reading

_NAMES = (
    "brown",
    "white",
    "green",
    "yellow",
    "grey",
    "pink",
    "blue",
    "violet",
    "orange",
    "turquoise",
    "black",
    "cream",
)
_SHAPES = ("flat", "square", "square-with-pull-up", "pulse", "sine")


@dataclass
class Cable:
    """A made-up cable: role and inner node of each wire, resistors and junctions between nodes."""

    roles: dict[str, str]
    node: dict[str, int]
    resistors: list[tuple[int, int, float]] = field(default_factory=list)
    junctions: set[tuple[int, int]] = field(default_factory=set)
    shapes: dict[str, str] = field(default_factory=dict)

    def ohms(self, a: str, b: str) -> float:
        """Return the resistance between two wires, the meter's test voltage being too low for junctions."""
        i, j = self.node[a], self.node[b]
        if i == j:
            return 0.3
        n = max(self.node.values()) + 1
        g = np.full((n, n), 0.0)
        for p, q, r in self.resistors:
            g[p, p] += 1 / r
            g[q, q] += 1 / r
            g[p, q] -= 1 / r
            g[q, p] -= 1 / r
        g += np.eye(n) * 1e-12
        x = np.zeros(n)
        x[i], x[j] = 1.0, -1.0
        v = np.linalg.solve(g, x)
        r = float(v[i] - v[j])
        return r if r < 2e6 else 1e12

    def diode(self, a: str, b: str) -> float:
        """Return the diode test's reading, red probe on a: a junction, a small resistor's drop at 1 mA, or it blocks."""
        i, j = self.node[a], self.node[b]
        if i == j:
            return 0.0
        if (i, j) in self.junctions:
            return 0.55
        drop = 1e-3 * self.ohms(a, b)
        return drop if drop < 1.5 else 1e12


def make_cable(rng: np.random.Generator) -> Cable:
    """Return a random cable of 4 to 12 wires: several returns, screens, thermistors, differential pairs, open collectors."""
    total = int(rng.integers(4, 13))
    roles = ["ground", "supply"]
    extras = ["ground", "ground", "screen", "index", *["channel"] * 6, "channel"]
    if total >= 6 and rng.random() < 0.4:
        roles += ["thermistor", "thermistor"]
    elif rng.random() < 0.3:
        roles.append("thermistor")
    while sum(r == "channel" for r in roles) < min(2, total - len(roles)):
        roles.append("channel")
    while len(roles) < total:
        roles.append(str(rng.choice(extras)))
    names = list(rng.permutation(_NAMES)[:total])
    collector = rng.random() < 0.4
    cable = Cable(dict(zip(names, roles, strict=True)), {FRAME: 0})
    ground, supply, fresh = 1, 2, 3
    own_return = roles.count("thermistor") == 2
    pair: list[int] = []
    cable.resistors.append((ground, supply, float(10 ** rng.uniform(2.7, 4.5))))
    cable.junctions.add((ground, supply))
    for name, role in cable.roles.items():
        if role == "ground":
            cable.node[name] = ground
        elif role == "supply":
            cable.node[name] = supply
        elif role == "screen":
            cable.node[name] = 0
        else:
            cable.node[name] = fresh
            if role == "thermistor":
                pair.append(fresh)
                if not own_return:
                    cable.resistors.append((fresh, ground, float(10 ** rng.uniform(2.5, 5))))
                cable.shapes[name] = "flat"
            else:
                cable.junctions.add((ground, fresh))
                if not collector:
                    cable.junctions.add((fresh, supply))
                if rng.random() < 0.6:
                    cable.resistors.append((fresh, ground, float(10 ** rng.uniform(3.3, 5))))
                if rng.random() < 0.4:
                    cable.resistors.append((fresh, supply, float(10 ** rng.uniform(3, 4.5))))
                cable.shapes[name] = "pulse" if role == "index" else "square-with-pull-up" if collector else "square"
            fresh += 1
    if len(pair) == 2:
        cable.resistors.append((pair[0], pair[1], float(10 ** rng.uniform(2.5, 5))))
    return cable


def answer(bench: Bench, cable: Cable, text: str, wrong: float, rng: np.random.Generator) -> Bench | None:
    """Take the reading that the advice asks for, wrong now and then; None where it asks for none."""
    slip = rng.random() < wrong
    classes = (0.4, float(10 ** rng.uniform(1.9, 5)), 1e12)
    noise = 1 + 0.02 * rng.standard_normal()
    frame = re.match(r"Measure from (\S+) to the motor's frame", text)
    pair = re.match(r"Measure between (\S+) and (\S+?)(?: once more|\.)", text)
    diode = re.match(r"Diode test with nothing fed: red probe on (\S+), black on (\S+)\.", text)
    feed = re.search(r"minus on (\S+), plus on (\S+);", text)
    scope = re.search(r"look at (\S+) on the scope|kilohms from (\S+) to", text)
    if frame:
        value = rng.choice(classes) if slip else cable.ohms(frame[1], FRAME) * noise
        return set_reading(bench, frame[1], other=FRAME, ohms=float(value))
    if pair:
        value = rng.choice(classes) if slip else cable.ohms(pair[1], pair[2]) * noise
        return set_reading(bench, pair[1], other=pair[2], ohms=float(value))
    if diode:
        value = rng.choice((0.01, 0.6, 1e12)) if slip else cable.diode(diode[1], diode[2])
        return set_reading(bench, diode[1], other=diode[2], diode=float(value))
    if feed:
        right = cable.roles[feed[2]] == "supply"
        value = rng.uniform(0, 0.1) if slip else rng.uniform(0.005, 0.04) if right else 1e-4
        return set_reading(bench, feed[2], current=float(value))
    if scope:
        name = scope[1] or scope[2]
        pulled = scope[2] is not None
        shape = cable.shapes.get(name, "flat")
        if shape == "square-with-pull-up" and not pulled:
            shape = "flat"
        return set_reading(bench, name, scope=str(rng.choice(_SHAPES)) if slip else shape)
    return None


def usual_cable(rng: np.random.Generator) -> Cable:
    """Return the usual six wires: 0 V, supply, two channels and an index of push-pull outputs, a screen on the frame."""
    roles = [str(r) for r in rng.permutation(["ground", "supply", "channel", "channel", "index", "screen"])]
    cable = Cable(dict(zip(list(rng.permutation(_NAMES)[:6]), roles, strict=True)), {FRAME: 0})
    cable.resistors.append((1, 2, float(10 ** rng.uniform(2.7, 4.5))))
    cable.junctions.add((1, 2))
    fixed = {"screen": 0, "ground": 1, "supply": 2}
    for node, (name, role) in enumerate(cable.roles.items(), 3):
        cable.node[name] = fixed.get(role, node)
        if role in ("channel", "index"):
            cable.junctions |= {(1, node), (node, 2)}
            if rng.random() < 0.5:
                cable.resistors.append((node, 1, float(10 ** rng.uniform(3.3, 5))))
            cable.shapes[name] = "pulse" if role == "index" else "square"
    return cable


def follow(
    cable: Cable, wrong: float, rng: np.random.Generator, bench: Bench | None = None
) -> tuple[CableAnswer, int, str]:
    """Return the last answer of following the advice, the readings it took, and what was doubted last."""
    if bench is None:
        bench = Bench()
        for name in cable.roles:
            bench = set_reading(bench, name)
    found = identify_cable(bench.cable)
    readings, doubted = 0, found.doubtful
    while not found.complete:
        following = answer(bench, cable, found.next_reading, wrong, rng)
        if following is None:
            break
        bench, readings = following, readings + 1
        found = identify_cable(bench.cable)
        doubted = found.doubtful or doubted
    return found, readings, doubted


def attack(cables: int, wrong: float, seed: int) -> dict[str, int]:
    """Return the counts over ``cables`` random cables; ``wrong`` is the chance of each reading to be wrong."""
    counts = dict.fromkeys(
        ("cables", "complete", "feeds", "feeds wrong", "wires", "decided", "decided wrong", "readings"), 0
    )
    for k in range(cables):
        rng = np.random.default_rng((seed, k))
        cable = make_cable(rng)
        bench = Bench()
        for name in cable.roles:
            bench = set_reading(bench, name)
        fed = bad = False
        found = identify_cable(bench.cable)
        wrong_wires: set[str] = set()
        for _ in range(600):
            for w in found.wires:
                if w.role and w.role != cable.roles[w.name]:
                    wrong_wires.add(w.name)
            if found.feed:
                fed = True
                bad = bad or cable.roles[found.feed.minus] != "ground" or cable.roles[found.feed.plus] != "supply"
            if found.complete:
                break
            following = answer(bench, cable, found.next_reading, wrong, rng)
            if following is None:
                break
            bench = following
            counts["readings"] += 1
            found = identify_cable(bench.cable)
        counts["cables"] += 1
        counts["complete"] += found.complete
        counts["feeds"] += fed
        counts["feeds wrong"] += bad
        counts["wires"] += len(cable.roles)
        counts["decided"] += sum(1 for w in found.wires if w.role)
        counts["decided wrong"] += len(wrong_wires)
    return counts


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--cables", type=int, default=2000)
    parser.add_argument("--wrong", type=float, default=0.1)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    for name, count in attack(given.cables, given.wrong, given.seed).items():
        print(f"{name:14} {count}")
