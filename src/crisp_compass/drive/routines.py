"""The captures that the program takes itself, on a drive that tests itself: levels, steps, a turned field and its coast, an alignment, a run-up, a step of a loop.

Every test begins with little and grows until it shows enough; each returns a capture in the format of files, so what is made of it is what is made of anybody's.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from crisp_compass.commutation.alignment import propose_fields
from crisp_compass.drive.hand import SWEPT, Hand
from crisp_compass.drive.served_stand import COAST, FIELD, TORQUE, TURNING, VOLTAGE
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray

#: Shares of the test current at which a staircase rests, down and up again.
_LEVELS = (1.0, 0.8, 0.6, 0.45, 0.3, 0.2, 0.12, 0.2, 0.3, 0.45, 0.6, 0.8, 1.0)
#: The same of a cage, whose levels take long: most where the bridge's loss is overcome.
_CAGE_LEVELS = (1.0, 0.88, 0.76, 0.64, 0.5, 0.3, 0.5, 0.64, 0.76, 0.88, 1.0)
#: How long a level stands, s, and how long a shaft may take to come to rest.
_LEVEL_S, _REST_S = 0.08, 6.0
#: Times of a cage, s: between two looks at a current that settles, for a turned voltage to become steady, for the flux to stand; periods that are kept of it.
_CAGE_S, _STEADY_S, _FLUX_S, _PERIODS = 0.15, 1.5, 1.5, 9.0
#: Shares of the test current with which a shaft is run up, until one of them moves it.
_RUN_UP = (0.08, 0.15, 0.3, 0.6, 1.0)
#: How far [rad] and how fast [s] a held voltage is moved on.
_PIECE, _PIECE_S = math.radians(45.0), 0.02
#: Share of a coast's first voltage below which the shaft counts as standing.
_STILL = 0.1
#: How often a step of the speed is repeated: its noise averages out.
STEPS = 6
#: How a drive tells its voltages.
MEANS = {"voltages": "means over the sampling period"}
#: Rows of a capture that is read over a line.
_ROWS = 4000
#: Directions of the pulses of a pole search, how often each comes, and rows that may pass before one begins.
_DIRECTIONS, _PULSES, _LEAD_ROWS = 24, 2, 400
#: A chirp swings by this share of the run-up's current, from so many periods in the time of a run-up to this share of the drive's rate.
_SWING, _SLOW, _SWEPT = 0.6, 2.0, 0.01
#: Rows of a chirp, and least rows of a period of it.
_CHIRP_ROWS, _PERIOD_ROWS = 12_000, 16
#: Rows over which a speed is timed by hall edges, each of which is known to half a row: half a percent.
_EDGE_ROWS = 60


@dataclass(frozen=True)
class Motor:
    """What a test must know: how the windings lie, pole pairs, current [A peak] that it may take, speed [rad/s] that it may reach, and how its angle is told."""

    star: bool
    turned: bool
    pole_pairs: float
    current: float
    top_speed: float
    sensor: str
    volts: float
    #: Whether a cage takes the magnet's place, so that a current settles with the rotor's own time.
    cage: bool = False


@dataclass(frozen=True, eq=False)
class Taken:
    """A capture: channels [SI] by their signals, its own notes, and the time that it took on the drive, s."""

    columns: Mapping[str, FloatArray]
    notes: Mapping[str, str] = field(default_factory=dict)

    @property
    def time(self) -> FloatArray:
        """Time of the rows [s], empty for a table."""
        return self.columns.get("t", np.empty(0))

    def channels(self) -> dict[str, FloatArray]:
        """Return the channels without the time."""
        return {k: v for k, v in self.columns.items() if k != "t"}


def _of_test(motor: Motor) -> tuple[str, str]:
    """Return voltage and current channel of a voltage along the first winding."""
    return ("v_cmd", "i_a") if motor.star else ("v_a", "i_a") if motor.turned else ("v_m", "i_m")


def _mean_current(hand: Hand, name: str, rows: int = 100) -> float:
    hand.open_scope((name,), rows)
    hand.wait(rows * hand.period)
    return float(np.mean(hand.close_scope()[name]))


def _settled_current(hand: Hand, motor: Motor, name: str) -> float:
    """Return a current [A] once it changes no more: in a cage the rotor's dies away first."""
    flows = _mean_current(hand, name)
    for _ in range(40 if motor.cage else 0):
        hand.wait(_CAGE_S)
        before, flows = flows, _mean_current(hand, name)
        if abs(flows - before) < 0.003 * motor.current:
            break
    return flows


def volts_for(hand: Hand, motor: Motor) -> float:
    """Hold a voltage along the first winding and raise it until the test current flows; return it [V], still held.

    Raises Refusal where no current flows at half the bus.
    """
    _, current = _of_test(motor)
    volts = 0.002 * motor.volts
    hand.begin(VOLTAGE, level=volts)
    hand.wait(0.1)
    for _ in range(30):
        flows = _settled_current(hand, motor, current)
        if flows > 0.9 * motor.current:
            return volts
        # a bridge loses a volt before it drives anything: never more than twice at once
        volts *= min(2.0, motor.current / flows) if flows > 0.05 * motor.current else 2.0
        if volts > 0.5 * motor.volts:
            raise Refusal("no current flows into the motor", "look at its leads and at the supply, or ask for less current")
        hand.command("test_level", volts)
        hand.wait(0.1)
    return volts


def levels(hand: Hand, motor: Motor, volts: float) -> Taken:
    """Take a staircase below ``volts`` [V], which is held already; the rotor has aligned and does not move."""
    hand.settle_down(_REST_S)
    names = _of_test(motor)
    shares = _CAGE_LEVELS if motor.cage else _LEVELS if motor.turned else (*_LEVELS[:7], *(-s for s in _LEVELS[6:]))
    rest = _level_time(hand, motor, names[1], volts) if motor.cage else _LEVEL_S
    span = rest * len(shares)
    every = max(1, math.ceil(span / hand.period / _ROWS))
    hand.open_scope(names, int(span / hand.period / every), every)
    for share in shares:
        hand.command("test_level", share * volts)
        hand.wait(rest)
    found = hand.close_scope()
    if motor.cage:
        found = _settled_part(found, names[0])
    return Taken(found, {**({"circuit": "bridge"} if motor.star else {}), **({"levels": "the last third of each, one behind the other"} if motor.cage else {})})


def _settled_part(found: Mapping[str, FloatArray], voltage: str) -> dict[str, FloatArray]:
    """Return the last third of every level of a staircase, one behind the other: before it the rotor's current dies away."""
    v = found[voltage]
    edges = [0, *(np.flatnonzero(np.abs(np.diff(v)) > 0.02 * np.ptp(v)) + 1).tolist(), len(v)]
    keep = np.concatenate([np.arange(b - max((b - a) // 3, 1), b) for a, b in itertools.pairwise(edges) if b - a > 30])
    return {k: found["t"][: len(keep)] if k == "t" else x[keep] for k, x in found.items()}


def unsteady(taken: Taken) -> float:
    """Return by what share the current's size changes over a capture of a turned voltage: a motor that runs free may hunt."""
    i_a, i_b = (taken.columns[k] - np.mean(taken.columns[k]) for k in ("i_a", "i_b"))
    size = np.hypot(i_a, (i_a + 2 * i_b) / math.sqrt(3))
    means = [float(np.mean(piece)) for piece in np.array_split(size, 12)]
    return (max(means) - min(means)) / max(float(np.mean(means)), 1e-12)


def _level_time(hand: Hand, motor: Motor, current: str, volts: float) -> float:
    """Return how long [s] a level must stand until the rotor's current has died away: measured at the first step down, where the windings' resistance alone holds it up."""
    hand.command("test_level", 0.8 * volts)
    took, flows = 0.0, 0.0
    while took < 4.0:
        hand.wait(_CAGE_S)
        took += _CAGE_S
        before, flows = flows, _mean_current(hand, current, 400)
        if abs(flows - before) < 0.0015 * motor.current:
            break
    return 1.2 * took


def turned_voltage(hand: Hand, motor: Motor, volts: float, hertz: float, *, held: bool, ramp_s: float = 0.0, boost: float = 0.0) -> Taken:
    """Turn a voltage of ``volts`` [V peak, phase] at ``hertz`` and keep some periods of it in the steady state; ``boost`` [V] is what is left of it at standstill, ``ramp_s`` how long it takes to get there."""
    speed = 2 * math.pi * hertz / motor.pole_pairs
    hand.begin(TURNING, level=volts, swing=boost if ramp_s else volts, speed=speed, ramp=speed / ramp_s if ramp_s else 1e6)
    hand.wait(ramp_s + _STEADY_S)
    names = ("v_ab", "v_bc", "i_a", "i_b")
    rows = min(math.ceil(_PERIODS / hertz / hand.period), hand.most_rows(names))
    hand.open_scope(names, rows)
    found = hand.close_scope()
    # a voltage acted over the period that ends at its row: half of that later stands the mean of it and the next one's
    now = {k: 0.5 * (v[:-1] + v[1:]) if k.startswith("v_") else v[:-1] for k, v in found.items() if k != "t"}
    return Taken({"t": found["t"][:-1], **now}, {"test": "locked rotor" if held else "no load"})


def locked_rotor(hand: Hand, motor: Motor, hertz: float, first: float) -> Taken:
    """Raise a voltage that turns, beginning with ``first`` [V], until the test current flows into the clamped motor, and keep it."""
    volts = first
    for _ in range(20):
        taken = turned_voltage(hand, motor, volts, hertz, held=True)
        flows = math.sqrt(2.0) * float(np.std(taken.columns["i_a"]))
        if flows > 0.85 * motor.current:
            return taken
        volts *= min(2.0, motor.current / flows) if flows > 0.05 * motor.current else 2.0
        if volts > 0.5 * motor.volts:
            break
    raise Refusal("no current flows into the clamped motor", "look at its leads and at the supply")


def _align(hand: Hand, volts: float) -> None:
    """Let the rotor come to rest at a voltage along the first winding."""
    hand.begin(VOLTAGE, level=0.6 * volts)
    hand.wait(0.1)
    hand.settle_down(_REST_S)


def steps(hand: Hand, motor: Motor, volts: float, half: float, swing: float) -> Taken:
    """Take a square wave of ``swing`` [V] on top of a held voltage, ``half`` [s] long: the inductance along the magnet."""
    _align(hand, volts)
    hand.begin(VOLTAGE, level=0.6 * volts, swing=swing, half=half)
    hand.wait(max(0.15, 10 * half))
    voltage, current = _of_test(motor)
    hand.open_scope((voltage, current), min(round(8 * half / hand.period), _ROWS))
    found = hand.close_scope()
    if not motor.star:
        return Taken(found, MEANS)
    # A against B and C joined: one and a half windings
    return Taken({"t": found["t"], "v_ab": 1.5 * found["v_cmd"], "i_a": found["i_a"]}, {**MEANS, "circuit": "a-bc", "axis": "d", "v_ab": "1.5 times what was commanded along A"})


def steps_across(hand: Hand, volts: float, half: float, across: float) -> Taken:
    """Take a square wave across a held voltage: from B to C, while A holds the rotor; the inductance across the magnet."""
    _align(hand, volts)
    hand.begin(VOLTAGE, level=0.6 * volts, across=across, half=half)
    hand.wait(max(0.15, 10 * half))
    hand.open_scope(("v_bc", "i_a", "i_b"), min(round(12 * half / hand.period), _ROWS))
    found = hand.close_scope()
    return Taken({"t": found["t"], "v_ab": found["v_bc"], "i_a": 0.5 * found["i_a"] + found["i_b"]}, {**MEANS, "circuit": "a-b", "axis": "q", "terminals": "B and C, as A and B"})


def current_step(hand: Hand, motor: Motor, half: float, gains: tuple[float, float]) -> Taken:
    """Take steps of the closed current loop along the first winding, the rotor aligned, with the gains that the drive holds."""
    if motor.turned:  # along the first winding, or in a cage along the flux that it makes
        hand.begin(FIELD, level=0.55 * motor.current, swing=0.25 * motor.current, half=half)
    else:
        hand.begin(TORQUE, level=0.55 * motor.current, swing=0.25 * motor.current, half=half)
    hand.wait(2.0 if motor.cage else 0.3)
    current = "i_d" if motor.cage else _of_test(motor)[1]
    hand.open_scope((current, "i_ref"), min(round(4 * half / hand.period), _ROWS))
    found = hand.close_scope()
    columns = {"t": found["t"], "i_q_ref": found["i_ref"], "i_q": found[current]}
    shaft = "at rest, along the flux" if motor.cage else "aligned, along the first winding" if motor.turned else "held"
    return Taken(columns, {"kp": f"{gains[0]:.9g}", "ki": f"{gains[1]:.9g}", "shaft": shaft})


def coast(hand: Hand, motor: Motor, share: float, seconds: float) -> Taken:
    """Turn the shaft up to ``share`` of its top speed and let it coast: the windings' own voltages, and the sensor beside them."""
    speed = share * motor.top_speed
    names = ["v_ab", "v_bc"] if motor.star else ["v_a", "v_b"] if motor.turned else ["v_m", "speed"]
    if motor.turned and motor.sensor == "halls":
        names += ["hall_1", "hall_2", "hall_3"]
    elif motor.turned and hand.has("angle"):
        names.append("angle")
    if motor.turned:
        hand.begin(FIELD, level=motor.current, speed=speed, ramp=speed / seconds)
        hand.wait(seconds + 0.5)
    else:
        _run_up(hand, motor, speed)
    hand.command("test", float(COAST))
    hand.wait(0.01)  # until the last current is gone
    wave = motor.pole_pairs * speed / (2 * math.pi) if motor.turned else 1.0 / seconds
    rows = min(_ROWS * 2, hand.most_rows(names))
    every = max(1, int(1.0 / (wave * (160.0 if motor.sensor == "halls" else 60.0) * hand.period)))
    if not motor.turned:
        every = max(1, int(seconds / hand.period / rows))
    hand.open_scope(names, rows, every)
    hand.wait(rows * every * hand.period)
    found = dict(hand.close_scope())
    hand.stop()
    size = np.abs(found[names[0]])
    moved = np.flatnonzero(size > _STILL * float(np.max(size)))
    if len(moved) < 20:
        raise Refusal("the shaft did not follow the field", "take its load off, or allow more current", code="stays")
    last = int(moved[-1]) + 1  # a shaft at rest says nothing but noise
    return Taken({k: v[:last] for k, v in found.items()}, {"turned": "by its own field, then let coast"})


def _magnetize(hand: Hand) -> None:
    """Let the magnetizing current flow until the flux stands."""
    hand.begin(TORQUE, level=0.0)
    hand.wait(_FLUX_S)


def _begin_torque(hand: Hand, motor: Motor, current: float) -> None:
    """Put a torque current on, a cage's once its flux stands."""
    if motor.cage:
        _magnetize(hand)
        hand.command("test_level", current)
    else:
        hand.begin(TORQUE, level=current)


def _run_up(hand: Hand, motor: Motor, speed: float) -> tuple[float, float]:
    """Put a torque current on until ``speed`` [rad/s] is reached, from little to the test current; return that current [A] and how long it took [s].

    Raises Refusal where the shaft does not get anywhere.
    """
    for share in _RUN_UP:
        _begin_torque(hand, motor, share * motor.current)
        began = hand.clock()
        while abs(hand.speed) < speed and hand.clock() - began < (1.0 if abs(hand.speed) < 0.1 * speed else 8.0):
            hand.wait(0.01)
        if abs(hand.speed) > 0.3 * speed:
            return share * motor.current, hand.clock() - began
    raise Refusal("the shaft does not run up with the test current", "take its load off, or allow more current", code="stays")


def run_up(hand: Hand, motor: Motor, *, chirp: bool = False) -> Taken:
    """Take an acceleration at a constant torque current, with ``chirp`` one that swings faster and faster about it, and the coast behind it."""
    hand.ready()
    current, took = _run_up(hand, motor, 0.6 * motor.top_speed)
    reached = abs(hand.speed)
    hand.command("test", float(COAST))
    began = hand.clock()
    while abs(hand.speed) > 0.4 * reached and hand.clock() - began < 6.0:
        hand.wait(0.02)
    coasted = hand.clock() - began
    hand.stop()
    edges = motor.sensor == "halls"  # a speed timed between two edges is late and as uneven as they are
    names = [*(("hall_1", "hall_2", "hall_3") if edges else ("speed",)), "i_q" if motor.turned else "i_m"]
    span = 1.3 * took + coasted + 0.2
    if edges:  # two rows and a half for every edge at the fastest: its number grows with the speed and with the time that the speed takes
        slower = min(1.0, math.sqrt(4 * _ROWS / (2.5 * 6 * motor.pole_pairs * reached / (2 * math.pi) * span)))
        reached, span = slower * reached, slower * span
    rows = min(_CHIRP_ROWS, hand.most_rows(names)) if chirp else 4 * _ROWS if edges else 3000
    every = max(1, math.ceil(span / hand.period / rows))
    sine = _sine_of(hand, current, took, every) if chirp else {}
    hand.ready()
    if motor.cage:
        _magnetize(hand)
    hand.open_scope(names, int(span / hand.period / every), every)
    hand.begin(TORQUE, level=current, **sine)
    began = hand.clock()
    while abs(hand.speed) < reached and hand.clock() - began < 1.2 * took:
        hand.wait(0.005)
    hand.command("test", float(COAST))
    found = hand.close_scope()
    hand.stop()
    if edges:
        found = _with_speed_of_edges(found, motor.pole_pairs)
    swung = {"chirp": f"{sine['swing']:.4g} A, {sine['low']:.4g} to {sine['high']:.4g} Hz"} if chirp else {}
    return Taken(found, {"current": f"{current:.6g} A held", **swung, **({"speed": "from hall edges one electrical turn apart"} if edges else {})})


def _sine_of(hand: Hand, current: float, took: float, every: int) -> dict[str, float]:
    """Return the sizes of a sine that gets faster while a run-up lasts; raises Refusal where the drive has none."""
    if not all(hand.description.role("commands", n) for n in SWEPT):
        raise Refusal("the drive has no current that swings faster and faster", "take a run-up")
    low = _SLOW / took
    high = max(min(_SWEPT / hand.period, 1.0 / (_PERIOD_ROWS * every * hand.period)), 2.0 * low)
    return {"swing": _SWING * current, "low": low, "high": high, "sweep": took}


def _with_speed_of_edges(found: Mapping[str, FloatArray], pole_pairs: float) -> dict[str, FloatArray]:
    """Return time, speed and current of a capture of halls: each speed is a mean over whole electrical turns, which no uneven edge moves.

    So many turns that they take ``_EDGE_ROWS`` rows at least: an edge is known to the row only, and a fast motor of many pole pairs has a turn every few.
    Raises Refusal where the shaft did not turn far enough.
    """
    t, code = found["t"], 4 * found["hall_1"] + 2 * found["hall_2"] + found["hall_3"]
    changed = np.diff(code) != 0
    at = 0.5 * (t[1:] + t[:-1])[changed]
    if len(at) < 30:
        raise Refusal("the shaft turned too little to time its halls", "allow more current, or take its load off")
    if float(np.max(np.convolve(changed, np.ones(12), "valid"))) > 9:
        raise Refusal("the halls change faster than the drive's memory keeps them", "name a lower top speed on the Plate, or a larger memory in the description")
    first = np.arange(len(at))
    turns = np.maximum(-(-(np.searchsorted(at, at + _EDGE_ROWS * (t[1] - t[0])) - first) // 6), 1)
    last = first + 6 * turns
    first, last, turns = (x[last < len(at)] for x in (first, last, turns))
    if len(first) < 20:
        raise Refusal("the drive's memory is too coarse to time the halls", "take the load off, so that the run is shorter")
    middle, speed = 0.5 * (at[last] + at[first]), turns * 2 * math.pi / pole_pairs / (at[last] - at[first])
    order = np.argsort(middle, kind="stable")  # a window that spans more turns may end before one that began later
    middle, speed = middle[order], speed[order]
    inside = (t >= middle[0]) & (t <= middle[-1])
    current = next(v for k, v in found.items() if k in ("i_q", "i_m"))
    step = max(1, int(inside.sum()) // 3000)
    return {"t": t[inside][::step], "speed": np.interp(t[inside][::step], middle, speed), "i_q": current[inside][::step]}


def alignment(hand: Hand, motor: Motor, volts: float, slower: int = 1) -> Taken:
    """Hold a voltage at one electrical angle after another, there and back, and read where the shaft rests; so many times ``slower`` for a heavy shaft."""
    fields = propose_fields(int(motor.pole_pairs), 17 if motor.pole_pairs < 20 else 11)
    places, last = [], 0.0
    hand.begin(VOLTAGE, level=volts)
    hand.settle_down(_REST_S)
    for at in map(float, fields):
        pieces = max(1, math.ceil(abs(at - last) * slower / _PIECE))
        for k in range(pieces):  # a jump of half a turn could take the rotor either way
            hand.command("test_angle", math.remainder(last + (at - last) * (k + 1) / pieces, 20 * math.pi))
            hand.wait(_PIECE_S)
        last = at
        hand.settle_down(2.0)
        seen = hand.signal("angle")
        if seen is None:
            raise Refusal("the drive tells no shaft angle", "name the telemetry that is the signal “angle” in its description")
        places.append(seen)
    return Taken({"field_angle": np.asarray(fields), "angle": np.array(places)}, {"voltage": f"{volts:.5g} V held at each angle"})


def speed_steps(hand: Hand, motor: Motor, low: float, high: float, seconds: float, times: int = STEPS) -> Taken:
    """Take so many steps of the closed speed loop between ``low`` and ``high`` rad/s, each speed held for ``seconds``."""
    hand.ready()
    hand.command("speed", low)
    hand.wait(1.0 + seconds)
    span = (2 * times + 0.5) * seconds
    every = max(1, math.ceil(span / hand.period / _ROWS))
    hand.open_scope(("speed_ref", "speed", "i_q" if motor.turned else "i_m"), int(span / hand.period / every), every)
    for _ in range(times):
        hand.wait(0.3 * seconds)
        hand.command("speed", high)
        hand.wait(seconds)
        hand.command("speed", low)
        hand.wait(0.7 * seconds)
    found = hand.close_scope()
    hand.stop()
    return Taken(found)


def pole_pulses(hand: Hand, volts: float, half: float, pause: float) -> Taken:
    """Put a pulse of ``volts`` [V] for ``half`` [s] on the windings in one direction after another, opposite ones in turn, and read the current along each before and at its end.

    Between pulses the windings are shorted for ``pause`` [s], until no current is left. The first half of a square wave is the pulse: it begins without a current, so
    that the iron shows on which side the pole lies.
    """
    hand.settle_down(_REST_S)
    hand.arm()
    angles = [2 * math.pi * k / _DIRECTIONS for k in range(_DIRECTIONS // 2)]
    directions = [a + turn for _ in range(_PULSES) for a in angles for turn in (0.0, math.pi)]
    rests, peaks = [], []
    rows = math.ceil(half / hand.period) + 2
    for at in directions:
        hand.begin(VOLTAGE, swing=volts, angle=math.remainder(at, 2 * math.pi))
        hand.wait(max(pause, 2 * hand.period))
        hand.open_scope(("v_cmd", "v_bc", "i_a", "i_b"), _LEAD_ROWS + 4 * rows)
        hand.command("test_half", half)  # the wave begins here, with its first half
        found = hand.close_scope()
        hand.command("test_half", 0.0)
        c, s = math.cos(at), math.sin(at)
        along = found["i_a"] * c + (found["i_a"] + 2 * found["i_b"]) / math.sqrt(3) * s
        acted = found["v_cmd"] * c + found["v_bc"] / math.sqrt(3) * s
        on = np.flatnonzero(acted > 0.3 * volts)
        if not len(on):
            raise Refusal("the drive puts no pulse on the windings", "look at its tests, and at what its memory captures")
        behind = np.flatnonzero(np.diff(on) > 1)
        last = int(on[behind[0]]) if len(behind) else int(on[-1])
        rests.append(float(along[max(int(on[0]) - 1, 0)]))
        peaks.append(float(along[last]))
    hand.stop()
    columns = {"field_angle": np.mod(directions, 2 * math.pi), "i_peak": np.array(peaks), "i_rest": np.array(rests)}
    return Taken(columns, {"pulse": f"{volts:.4g} V for {half * 1e6:.4g} µs"})


def start(hand: Hand, speed: float, seconds: float) -> Taken:
    """Let the drive go to ``speed`` [rad/s] by itself and keep windings and currents for ``seconds``; its memory is filled evenly."""
    names = ("v_ab", "v_bc", "i_a", "i_b")
    hand.ready()
    every = max(1, math.ceil(seconds / hand.period / hand.most_rows(names)))
    hand.open_scope(names, min(int(seconds / hand.period / every), hand.most_rows(names)), every)
    hand.command("speed", speed)
    found = hand.close_scope()
    hand.stop()
    return Taken(found, {"started": f"by the drive itself, to {speed:.5g} rad/s", **(MEANS if every == 1 else {})})
