"""What readings say of the wires of an unknown sensor cable: the likeliest roles of all wires at once, and the reading that tells most.

Any reading may be wrong (a slipped probe, the wrong wire noted). What is between two wires stays as it is, so a reading that is
repeated tells of the meter, not of the cable again. Assignments of roles to all wires are grown wire by wire and the likeliest are
kept (a beam); each has a chance and a likelihood. While many are likely, the reading that is asked for is the one with the most
mutual information about them (Lindley 1956); later the one by which the likeliest assignment is expected to leave its nearest
rivals behind fastest (Chernoff's sequential design of experiments, 1959). The chances in the tables are common practice.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from crisp_compass.bench.records import CableWire
from crisp_compass.estimates import FloatArray

IntArray = npt.NDArray[np.int64]

ROLES = ("screen", "ground", "supply", "thermistor", "channel", "index")
#: Ω: below it is a connection, up to the second a resistor that conducts in the diode test (at 1 mA), above the third it is open.
JOINED, SMALL, OPEN = 5.0, 1200.0, 200e3
#: V: a junction in the meter's diode test; above it blocks.
DIODE = (0.15, 1.2)
SUPPLY_CURRENT = (2e-3, 60e-3)
FRAME = "frame"
#: Log odds that decide what may be fed, those that decide a wire which is only looked at, and the share of readings taken to be wrong.
DECISIVE, ENOUGH, WRONG = 9.4, 4.0, 0.02
#: Repeats of one reading that are asked for, the assignments that are kept a kind of output, those whose neighbours are looked at.
_REPEATS, _BEAM, _LOOKED = 4, 500, 40
#: The chance from which one assignment is taken for the likeliest, the information [nats] that is worth a reading before, and the expected part of what is missing that makes asking worth it.
_LEADS, _TELLING, _WORTH = 0.5, 0.03, 0.8
#: The chance below which a reading is doubted, by the roles that all others give its wires.
_AGAINST = 0.07
#: A look at a running shaft costs more than touching two wires.
_LOOK_COST = 1.6

# Roles inside: G 0 V, S supply, C channel, I index, T thermistor with a return of its own, H thermistor to the 0 V, X screen;
# F is the motor's frame.
KINDS = "GSCITHXF"
_FRAME = KINDS.index("F")
ROLE_OF = {"G": "ground", "S": "supply", "C": "channel", "I": "index", "T": "thermistor", "H": "thermistor", "X": "screen"}
_ROLE_NUMBER = np.array([ROLES.index(ROLE_OF[r]) for r in KINDS[:-1]])
#: What is between two wires (common practice): chances of a connection, a resistor small enough to conduct in the diode test, a junction from
#: the first to the second, one from the second to the first, neither; and of a larger resistor beside a junction or neither.
_BETWEEN = {
    "GG": (1, 0, 0, 0, 0, 0), "SS": (1, 0, 0, 0, 0, 0), "XX": (0.9, 0, 0, 0, 0.1, 0), "XF": (1, 0, 0, 0, 0, 0), "GF": (0.2, 0, 0, 0, 0.8, 0),
    "GX": (0.2, 0, 0, 0, 0.8, 0), "GS": (0, 0.06, 0.91, 0, 0.03, 0.97), "GC": (0, 0.03, 0.94, 0, 0.03, 0.6), "CC": (0, 0.02, 0, 0, 0.98, 0.5),
    "TT": (0, 0.15, 0, 0, 0.85, 0.6), "GH": (0, 0.15, 0, 0, 0.85, 0.97), "SH": (0, 0.1, 0, 0, 0.9, 0.9), "CH": (0, 0.03, 0, 0, 0.97, 0.6),
    "HH": (0, 0.02, 0, 0, 0.98, 0.5),
}  # fmt: skip
#: Outputs either all have a junction to the supply (push-pull) or none has (open collector).
_TO_SUPPLY = ((0, 0.05, 0.92, 0, 0.03, 0.6), (0, 0.06, 0.01, 0, 0.93, 0.6))
SHAPES = ("flat", "square", "square-with-pull-up", "opposite", "pulse", "sine")
_SCOPE = {"C": (0.3, 0.315, 0.3, 0.05, 0.005, 0.05), "I": (0.3, 0, 0, 0, 0.7, 0)}
_IDLE = (0.985, 0.005, 0.005, 0, 0.005, 0)


def _table(to_supply: tuple[float, ...]) -> FloatArray:
    """Return the chances (8, 8, 8) of what is between two roles: a connection, a small resistor, then a junction, one the other way and
    neither, each beside a larger resistor and alone."""
    table = np.zeros((len(KINDS), len(KINDS), 8))
    known = _BETWEEN | {"CS": to_supply}
    for i, first in enumerate(KINDS.replace("I", "C")):
        for j, second in enumerate(KINDS.replace("I", "C")):
            if first + second in known:
                joined, small, there, back, none, beside = known[first + second]
            else:
                joined, small, back, there, none, beside = known.get(second + first, (0, 0, 0, 0, 1, 0))
            parts = [x * y for x in (there, back, none) for y in (beside, 1 - beside)]
            # no cable is quite as a table has it
            table[i, j] = [0.994 * p + 0.006 / 8 for p in (joined, small, *parts)]
    return table


#: How usual each role is among the wires of a cable, as log chances.
_PRIOR = np.log(np.array([0.16, 0.11, 0.40, 0.08, 0.08, 0.05, 0.12]))
_LOOK_TABLE = np.array([[(1 - WRONG) * _SCOPE.get(r, _IDLE)[k] + WRONG / 6 for k in range(6)] for r in KINDS])
_CURRENT_TABLE = np.array([[0.85, 0.15] if r == "S" else [0.15, 0.85] for r in KINDS])
_TABLES = np.array([_table(of) for of in _TO_SUPPLY])
#: The same seen from the second wire.
_TURNED = [0, 1, 4, 5, 2, 3, 6, 7]
#: Class of the ohmmeter and of the diode test, by what is between two wires.
_OHM_OF, _DIODE_OF = [0, 1, 2, 3, 2, 3, 2, 3], [0, 1, 1, 1, 2, 2, 2, 2]
#: Chance of what a meter shows (second), by what there is (first): a reading is right or says one of the others.
_OHM_SHOWN = np.where(np.eye(4) > 0, 1 - WRONG, WRONG / 3)[_OHM_OF]
_DIODE_SHOWN = np.where(np.eye(3) > 0, 1 - WRONG, WRONG / 2)[_DIODE_OF]


def ohm_class(r: float) -> int:
    """Return 0 for a connection, 1 for a small resistor, 2 for a larger one, 3 for open."""
    return 0 if r < JOINED else 1 if r < SMALL else 2 if r < OPEN else 3


def diode_class(v: float) -> int:
    """Return 0 for a connection, 1 where it conducts, 2 where it blocks."""
    return 0 if v < DIODE[0] else 1 if v < DIODE[1] else 2


class Readings:
    """All readings by unordered pair (ohms), ordered pair (diode, red probe first) and wire (current, scope)."""

    def __init__(self, wires: tuple[CableWire, ...]) -> None:
        self.ohms: dict[frozenset[str], list[float]] = defaultdict(list)
        self.diode: dict[tuple[str, str], list[float]] = defaultdict(list)
        self.current: dict[str, list[float]] = defaultdict(list)
        self.scope: dict[str, list[str]] = defaultdict(list)
        for wire in wires:
            for other, value in wire.ohms.items():
                self.ohms[frozenset((wire.name, other))].append(value)
            for other, value in wire.diode.items():
                self.diode[wire.name, other].append(value)
            if wire.supply_current is not None:
                self.current[wire.name].append(wire.supply_current)
            if wire.scope:
                self.scope[wire.name].append(wire.scope)
            for again in wire.again:
                if again.kind == "ohms":
                    self.ohms[frozenset((wire.name, again.other))].append(again.value)
                elif again.kind == "diode":
                    self.diode[wire.name, again.other].append(again.value)
                elif again.kind == "current":
                    self.current[wire.name].append(again.value)
                else:
                    self.scope[wire.name].append(again.shape)


@dataclass(frozen=True)
class Ask:
    """A reading that could be taken: between ``first`` and ``second`` (empty for a look), of a ``kind``; ``taken`` times so far."""

    kind: str
    first: str
    second: str = ""
    taken: int = 0


class Roles:
    """The likeliest assignments of roles to ``wires``, what they decide, and what to ask next."""

    def __init__(self, wires: tuple[CableWire, ...], readings: Readings) -> None:
        self.names = [w.name for w in wires]
        self.readings = readings
        self._read(wires)
        beams = [self._beam(pair) for pair in self.pair]
        self.collector = np.repeat([0, 1], [len(b[0]) for b in beams])
        self.roles = np.concatenate([b[0] for b in beams])
        weight = np.concatenate([b[1] for b in beams])
        chance = np.exp(weight - weight.max())
        self.chance = chance / chance.sum()
        self._judge()

    # ---- readings as log chances

    def _read(self, wires: tuple[CableWire, ...]) -> None:
        """Gather the log chances of everything read: ``pair`` (2, n, n, 8, 8) by kind of output, ``alone`` (n, 8); and how often
        each class was shown, as the chance of it by what there is."""
        n, at = len(self.names), {name: k for k, name in enumerate(self.names)}
        self.pair = np.zeros((2, n, n, len(KINDS), len(KINDS)))
        self.alone = np.zeros((n, len(KINDS)))
        self.alone[:, _FRAME] = -1e9
        self.shown, self.frame_shown = np.ones((n, n, 8)), np.ones((n, 8))
        self.ohm_taken, self.diode_taken, self.frame_taken = np.zeros((n, n)), np.zeros((n, n)), np.zeros(n)
        self.looked = np.zeros(n)
        for pair, values in self.readings.ohms.items():
            inside = [at[x] for x in pair if x in at]
            shown = np.prod(_OHM_SHOWN[:, [ohm_class(v) for v in values]], axis=1)
            if len(inside) == 2:
                self._note(inside[0], inside[1], shown)
                self.ohm_taken[inside[0], inside[1]] = self.ohm_taken[inside[1], inside[0]] = len(values)
            elif FRAME in pair and inside:
                self.alone[inside[0]] += np.log(_TABLES[0, :, _FRAME] @ shown)
                self.frame_shown[inside[0]], self.frame_taken[inside[0]] = shown, len(values)
        for (first, second), values in self.readings.diode.items():
            if first in at and second in at:
                self._note(at[first], at[second], np.prod(_DIODE_SHOWN[:, [diode_class(v) for v in values]], axis=1))
                self.diode_taken[at[first], at[second]] = len(values)
        for a, b in zip(*np.nonzero(self.ohm_taken + self.diode_taken + self.diode_taken.T), strict=True):
            self.pair[:, a, b] = np.log(_TABLES @ self.shown[a, b])
        for name, shapes in self.readings.scope.items():
            self.looked[at[name]] = len(shapes)
            for shape in shapes:
                self.alone[at[name]] += np.log(_LOOK_TABLE[:, SHAPES.index(shape)])
        low, high = SUPPLY_CURRENT
        for name, currents in self.readings.current.items():
            for current in currents:
                self.alone[at[name]] += np.log(_CURRENT_TABLE[:, 0 if low <= current <= high else 1])
        for k, wire in enumerate(wires):
            if wire.known:
                self.alone[k] += [0.0 if ROLE_OF.get(r) == wire.known else -1e6 for r in KINDS]

    def _note(self, a: int, b: int, shown: FloatArray) -> None:
        """Weigh what is between two wires by what was shown from the first to the second."""
        self.shown[a, b] *= shown
        self.shown[b, a] *= shown[_TURNED]

    def _beam(self, pair: FloatArray) -> tuple[IntArray, FloatArray]:
        """Return the likeliest assignments (m, n) and their log weights (m,), grown from the wire with most readings."""
        n, kinds = len(self.names), len(KINDS) - 1  # no wire is the frame
        taken = self.ohm_taken.sum(axis=1) + self.diode_taken.sum(axis=1) + self.diode_taken.sum(axis=0)
        order = [int(k) for k in np.argsort(-taken, kind="stable")]
        roles, weight = np.zeros((1, n), dtype=np.int64), np.zeros(1)
        for place, k in enumerate(order):
            score = self.alone[k, :kinds] + _PRIOR + np.zeros((len(roles), 1))
            for j in order[:place]:
                score += pair[k, j, :kinds, :].T[roles[:, j]]
            grown = weight[:, None] + score
            if place == n - 1:
                grown = grown + _counted(roles, k, kinds)
            flat = grown.ravel()
            kept = np.argpartition(-flat, _BEAM)[:_BEAM] if len(flat) > _BEAM else np.arange(len(flat))
            parent, role = np.divmod(kept, kinds)
            roles, weight = roles[parent], flat[kept]
            roles[:, k] = role
        return roles, weight

    # ---- what they decide

    def _judge(self) -> None:
        """Find for every wire and role the best chance of an assignment with it, and for every wire the nearest rival."""
        n, kinds = len(self.names), len(KINDS) - 1
        likely: list[FloatArray] = []
        whole: list[IntArray] = []
        outputs: list[IntArray] = []
        wires = np.arange(n)
        for kind in (0, 1):
            mine = np.flatnonzero(self.collector == kind)
            top = self.roles[mine[np.argsort(-self.chance[mine])[:_LOOKED]]]
            pair = self.pair[kind]
            others = pair[wires[:, None], wires[None, :], :kinds, top[:, None, :]].sum(axis=2) + self.alone[:, :kinds]
            now = np.take_along_axis(others, top[:, :, None], axis=2)[:, :, 0]
            alone = np.take_along_axis(np.broadcast_to(self.alone[:, :kinds], others.shape), top[:, :, None], axis=2)[:, :, 0]
            total = 0.5 * (now + alone).sum(axis=1)
            changed = total[:, None, None] - now[:, :, None] + others  # (m, n, kinds): one wire has another role
            m = len(top)
            grown = np.repeat(top, n * kinds, axis=0).reshape(m, n, kinds, n)
            for k in range(n):
                grown[:, k, :, k] = np.arange(kinds)
            whole.append(grown.reshape(-1, n))
            likely.append(changed.ravel() + _PRIOR[whole[-1]].sum(axis=1) + _usual({r: (whole[-1] == KINDS.index(r)).sum(axis=1) for r in "GSTIC"}))
            outputs.append(np.full(m * n * kinds, kind))
        self._likely, self._whole, self._outputs = np.concatenate(likely), np.concatenate(whole), np.concatenate(outputs)
        self.best = int(self._likely.argmax())
        self.guess, self.outputs = self._whole[self.best], int(self._outputs[self.best])
        said = _ROLE_NUMBER[self._whole]  # (all, n)
        self.by_role = np.full((n, len(ROLES)), -np.inf)
        for role in range(len(ROLES)):
            self.by_role[:, role] = np.where(said == role, self._likely[:, None], -np.inf).max(axis=0)
        self.rivals = np.array([np.where(said[:, k] != said[self.best, k], self._likely, -np.inf).argmax() for k in range(n)])
        self.margin = self._likely[self.best] - self._likely[self.rivals]
        fed = np.isin(said[self.best], [ROLES.index("ground"), ROLES.index("supply")])
        self.missing = np.maximum(np.where(fed, DECISIVE, ENOUGH) - self.margin, 0.0)

    def left(self, k: int) -> tuple[str, ...]:
        """Return the roles that wire ``k`` may still have, the likeliest first alone where it is decided."""
        top = int(self.by_role[k].argmax())
        needed = DECISIVE if ROLES[top] in ("ground", "supply") else ENOUGH
        return tuple(role for r, role in enumerate(ROLES) if self.by_role[k, r] > self.by_role[k, top] - needed)

    def against(self, kind: str, first: str, second: str, value: float) -> bool:
        """Tell whether the roles that are likeliest speak against a reading."""
        a, b = (_FRAME if n == FRAME else int(self.guess[self.names.index(n)]) for n in (first, second))
        of, shown = (_OHM_OF, ohm_class(value)) if kind == "ohms" else (_DIODE_OF, diode_class(value))
        return float(_TABLES[self.outputs, a, b] @ (np.array(of) == shown)) < _AGAINST

    # ---- what to ask

    def _told(self, roles: IntArray, outputs: IntArray) -> dict[str, FloatArray]:
        """Return what each reading would show by assignments (m, n): chances of its classes, (m, n, n, 4 or 3), (m, n, 4) or (m, n, 6)."""
        a, b = roles[:, :, None], roles[:, None, :]
        between = _TABLES[outputs[:, None, None], a, b] * self.shown
        between /= between.sum(axis=-1, keepdims=True)
        frame = _TABLES[0, roles, _FRAME] * self.frame_shown
        told = {"ohms": between @ _OHM_SHOWN, "diode": between @ _DIODE_SHOWN, "frame": frame / frame.sum(axis=-1, keepdims=True) @ _OHM_SHOWN}
        return told | {"scope": _LOOK_TABLE[roles]}

    def following(self, *, fed: bool) -> Ask | None:
        """Return the reading that tells most, None where none is worth taking; looks on the scope only where it is ``fed``."""
        n = len(self.names)
        room = {
            "ohms": np.maximum(_REPEATS - self.ohm_taken, 0), "diode": np.maximum(_REPEATS - self.diode_taken, 0),
            "frame": np.maximum(_REPEATS - self.frame_taken, 0), "scope": np.maximum(_REPEATS - self.looked, 0) * fed,
        }  # fmt: skip
        room["ohms"] = np.triu(room["ohms"], 1)
        room["diode"] = room["diode"] * (1 - np.eye(n))
        told = self._told(self._whole[[self.best, *self.rivals]], self._outputs[[self.best, *self.rivals]])
        apart = {kind: np.sum(t[:1] * np.log(t[:1] / t[1:]), axis=-1) for kind, t in told.items()}  # (n rivals, …)
        # what could still come of all readings, were the likeliest assignment the right one
        reach = sum((apart[kind] * room[kind]).reshape(n, -1).sum(axis=1) for kind in apart)
        hopeful = (self.missing > 0) & (np.asarray(reach) >= _WORTH * self.missing)
        worth = self._information() if self._lead(fed=fed) < _LEADS else {}
        if max((float((w * (room[k] > 0)).max()) for k, w in worth.items()), default=0.0) < _TELLING:
            if not hopeful.any():
                return None
            cap = np.where(hopeful, self.missing, 0.0)
            # what leads beyond the bar is worth little, but not nothing: of two that suffice the clearer one is asked for
            worth = {k: _short(v, cap.reshape(-1, *[1] * (v.ndim - 1))) for k, v in apart.items()}
        worth["scope"] = worth["scope"] / _LOOK_COST
        best = {kind: np.where(room[kind] > 0, w, 0.0) for kind, w in worth.items()}
        kind = max(best, key=lambda k: best[k].max())
        if best[kind].max() < 1e-3:
            return None
        place = np.unravel_index(int(best[kind].argmax()), best[kind].shape)
        taken = {"ohms": self.ohm_taken, "diode": self.diode_taken, "frame": self.frame_taken, "scope": self.looked}[kind]
        names = [self.names[int(p)] for p in place]
        second = names[1] if len(names) == 2 else FRAME if kind == "frame" else ""
        return Ask("ohms" if kind == "frame" else kind, names[0], second, int(taken[place]))

    def _lead(self, *, fed: bool) -> float:
        """Return the chance of the likeliest assignment; before anything is fed a channel and an index look alike."""
        if fed:
            return float(self.chance.max())
        alike = np.where(self.roles == KINDS.index("I"), KINDS.index("C"), self.roles)
        _, group = np.unique(alike @ len(KINDS) ** np.arange(alike.shape[1]), return_inverse=True)
        return float(np.bincount(group, self.chance).max())

    def _information(self) -> dict[str, FloatArray]:
        """Return the mutual information [nats] of each reading and the assignments that are kept."""
        n, kinds = len(self.names), len(KINDS)
        shares = np.zeros((2, n, kinds, n, kinds))
        for outputs in (0, 1):
            mine = self.collector == outputs
            ones = (self.roles[mine][:, :, None] == np.arange(kinds)).astype(float).reshape(int(mine.sum()), -1)
            shares[outputs] = ((ones * self.chance[mine][:, None]).T @ ones).reshape(n, kinds, n, kinds)
        both = shares.transpose(1, 3, 0, 2, 4)  # (n, n, 2, 8, 8)
        single = np.array([both[k, k].diagonal(axis1=1, axis2=2).sum(axis=0) for k in range(n)])
        found = {}
        t = _TABLES[None, None] * self.shown[:, :, None, None, None, :]
        t /= t.sum(axis=-1, keepdims=True)
        for kind, shows in (("ohms", _OHM_SHOWN), ("diode", _DIODE_SHOWN)):
            found[kind] = _mutual(both.reshape(n, n, -1), (t @ shows).reshape(n, n, -1, shows.shape[1]))
        t = _TABLES[0, :, _FRAME][None] * self.frame_shown[:, None, :]
        found["frame"] = _mutual(single, (t / t.sum(axis=-1, keepdims=True)) @ _OHM_SHOWN)
        found["scope"] = _mutual(single, np.broadcast_to(_LOOK_TABLE, (n, *_LOOK_TABLE.shape)))
        return found


def _short(apart: FloatArray, missing: FloatArray) -> FloatArray:
    """Return how much of what is ``missing`` the readings are expected to bring, by rival (first axis), summed."""
    return np.asarray((np.minimum(apart, missing) + 0.2 * np.where(missing > 0, apart, 0.0)).sum(axis=0))


def _mutual(shares: FloatArray, table: FloatArray) -> FloatArray:
    """Return the mutual information of states with ``shares`` (…, k) and outcomes with chances ``table`` (…, k, m)."""

    def entropy(p: FloatArray) -> FloatArray:
        return np.asarray(-np.sum(p * np.log(np.maximum(p, 1e-300)), axis=-1))

    mean = np.einsum("...k,...km->...m", shares, table)
    return np.asarray(entropy(mean) - np.einsum("...k,...k->...", shares, entropy(table)))


def _counted(roles: IntArray, last: int, kinds: int) -> FloatArray:
    """Return what the numbers of wires with one role make likely, by the role of the last wire (m, kinds)."""
    before = {r: (np.delete(roles, last, axis=1) == KINDS.index(r)).sum(axis=1)[:, None] for r in "GSTIC"}
    return _usual({r: before[r] + (np.arange(kinds) == KINDS.index(r)) for r in before})


def _usual(count: dict[str, IntArray]) -> FloatArray:
    """Return the log chance of numbers of wires with one role: one supply, a 0 V, a return for each thermistor; one index beside two
    channels or more is as usual as three channels."""
    found = np.where(count["S"] == 1, 0.0, -3.0) + np.where(count["G"] >= 1, 0.0, -5.0)
    return np.asarray(found + np.where(count["T"] % 2 == 0, 0.0, -3.0) + np.where(count["I"] > 1, -1.5, np.where((count["I"] == 1) & (count["C"] >= 2), 1.5, 0.0)))
