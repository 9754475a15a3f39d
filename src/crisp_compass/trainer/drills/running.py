"""Drills on what happens when it runs: a start that falls out, a supply that cannot sink, a mask that hides a fault."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.trainer.drill import Ask, Cause, Drill, Figures, Measure, unchanged, with_, words
from crisp_compass.trainer.drills.motor import CLEAR, LEADS, magnet_motor, rounded, series, sheet

PLACE = 4


# ---- a start without a sensor that falls out

def _starting(rng: np.random.Generator) -> dict[str, float]:
    known = magnet_motor(rng)
    return {**known, "i": rounded(0.6 * known["rated"], 2), "accel": rounded(0.35 * 1.5 * known["p"] * known["psi"] * 0.6 * known["rated"] / known["j"]), "hand": rounded(0.12 * known["top"])}


def _start(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "inertia": np.ones(count), "load": 0.05 + 0.05 * rng.uniform(size=count), "flows": np.ones(count), "order": np.ones(count), "early": np.ones(count)}


def _lead(f: Figures, accel: float = 1.0, current: float = 1.0) -> FloatArray:
    """Return the sine of the load angle on the ramp: what it takes over what there is."""
    takes = f["j"] * f["inertia"] * f["accel"] * accel + f["load"] * 1.5 * f["p"] * f["psi"] * f["i"]
    return np.asarray(takes / (1.5 * f["p"] * f["true_psi"] * f["i"] * f["flows"] * current))


def _ramped(key: str, title: str, accel: float = 1.0, current: float = 1.0) -> Measure:
    return Measure(
        key, title, "drive",
        lambda f: words((f["order"] < 0, "turns backwards, then jerks"), (_lead(f, accel, current) > 0.95, "falls out on the ramp"), (f["early"] < 0.6, "follows, and loses it at the hand-over"), other="starts"),
        minutes=4.0, power=True, sees="One thing changed: what helps names the cause.",
    )  # fmt: skip


START = Drill(
    "falls-out", "It does not start without its sensor", "pm", _starting, vary=_start,
    story=lambda k: f"{sheet(k)} Inertia {1e4 * k['j']:.3g} kg·cm², start with {k['i']:g} A and {k['accel']:.4g} rad/s², hand-over at {k['hand'] * 30 / math.pi:.0f} rpm. It starts one time, and most often not. Why?",
    causes=(
        Cause("inertia", "what turns is four times the entered inertia", with_(inertia=4.0), "A slower ramp starts it; the load angle says so before."),
        Cause("current", "a third of the current flows: its limit holds it back", with_(flows=0.33), "The clamp tells at once. More current in the table changes nothing while a limit holds."),
        Cause("load", "the load asks more than the start has", with_(load=1.1), "Neither ramp helps; more current does."),
        Cause("order", "two leads are exchanged and the load turns one way only", with_(order=-1.0), "Seen by eye: it goes the wrong way first."),
        Cause("early", "the hand-over is below what the EMF tells", with_(early=0.3), "The ramp is fine; it is lost when the loop closes."),
    ),
    measures=(
        _ramped("as-is", "Start as it is, watch"), _ramped("slow", "Start with a quarter of the acceleration", accel=0.25), _ramped("strong", "Start with twice the current in the table", current=2.0),
        Measure("clamp", "Current while it aligns, clamp", "meter", lambda f: f["i"] * f["flows"], unit="A", noise=0.02, noise_abs=0.05, minutes=3.0, power=True, sees="What really flows."),
        Measure("emf", "Turn at the hand-over speed with a drill: EMF over its doubt", "scope", lambda f: 4.0 * f["early"] * f["true_psi"] / f["psi"], unit="", noise=0.05, noise_abs=0.05, minutes=5.0, sees="Below three it tells no angle."),
        Measure("spin", "Coast from a push by hand, with and without the load: time over what was expected", "hand", lambda f: f["inertia"] * 0.5 + 0.5, unit="", noise=0.08, noise_abs=0.05, minutes=4.0, sees="Inertia against friction."),
        Measure("balance", "Torque that turns the load slowly, spring balance, over the start's", "hand", lambda f: f["load"], unit="", noise=0.08, noise_abs=0.02, minutes=4.0, sees="What the load asks."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip


# ---- a supply that cannot sink

def _braked(rng: np.random.Generator) -> dict[str, float]:
    known = magnet_motor(rng)
    energy = 0.5 * known["j"] * known["top"] ** 2
    return {**known, "c": rounded(energy / (0.5 * ((1.4 * known["v"]) ** 2 - known["v"] ** 2)) / 3, 2), "r_brake": rounded(known["v"] / known["rated"], 2), "trip": rounded(1.25 * known["v"])}


def _stops(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "open": np.zeros(count), "absent": np.zeros(count), "low": np.zeros(count), "small": np.ones(count), "burns": np.ones(count)}


def _peak(f: Figures, share: float, sink: bool) -> FloatArray:
    """Return the highest bus over its usual at a stop from a share of top speed: energy into the capacitor where nothing else takes it."""
    energy = 0.35 * f["j"] * (share * f["top"]) ** 2
    taken = np.where((f["open"] > 0) | (f["absent"] > 0), 0.0, 0.85)
    rest = np.zeros_like(energy) if sink else energy * (1 - taken)
    return np.asarray(np.sqrt(f["v"] ** 2 + 2 * rest / (f["c"] * f["small"])) / f["v"] * (1 + 0.05 * f["low"]))


SINK = Drill(
    "cannot-sink", "It trips when it brakes", "pm", _braked, vary=_stops,
    story=lambda k: f"{sheet(k)} Inertia {1e4 * k['j']:.3g} kg·cm². Bench supply, link of {1e3 * k['c']:.3g} mF, brake resistor of {k['r_brake']:.3g} Ω with a switch in the drive, trip at {k['trip']:.3g} V. It trips with over-voltage at stops. Why? Tell the energy of the shaft at top speed as well.",
    causes=(
        Cause("open", "the brake resistor is open", with_(open=1.0), "Measure it with power off and the link discharged: a burnt one is open."),
        Cause("absent", "the resistor's switch is not set: it never comes on", with_(absent=1.0), "A resistor that is never warm was never on."),
        Cause("level", "the trip lies below the level at which the resistor comes on", with_(low=1.0, absent=1.0, burns=0.5), "Order: highest supply, resistor on, fold-back, trip."),
        Cause("cap", "the link has lost most of its capacitance", with_(small=0.2, open=1.0), "An old link rises five times as far, and ripples in motion."),
    ),
    measures=(
        Measure("ohm", "Resistor with a meter, power off, link discharged", "meter", lambda f: words((f["open"] > 0, "open"), other="as printed"), minutes=3.0, sees="The resistor itself."),
        Measure("cap", "Capacitance of the link, power off, discharged", "meter", lambda f: f["c"] * f["small"], unit="farad", noise=0.05, noise_abs=0.0, minutes=4.0, sees="What it still stores."),
        Measure("level", "Read trip and switch-on level in the drive", "drive", lambda f: words((f["burns"] < 1, "trip below switch-on"), (f["absent"] > 0, "switch-on not set"), other="switch-on below trip"), minutes=2.0, sees="What was set."),
        Measure("half", "Stop from half of top speed: highest bus over usual", "scope", lambda f: _peak(f, 0.3, False), unit="", noise=0.01, noise_abs=0.003, minutes=4.0, power=True, sees="A quarter of the energy, or less."),
        Measure("battery", "The same with a battery in parallel", "scope", lambda f: _peak(f, 0.3, True), unit="", noise=0.01, noise_abs=0.003, minutes=8.0, power=True, sees="A battery takes it, whatever is wrong."),
        Measure("warm", "Is the resistor warm after ten slow stops?", "hand", lambda f: words(((f["open"] > 0) | (f["absent"] > 0), "cold"), other="warm"), minutes=6.0, power=True, sees="Whether it ever was on. From a hand's distance: it may be very hot."),
        CLEAR, LEADS,
    ),
    asks=(Ask("energy", "Energy of the shaft at top speed", "J", lambda f: 0.5 * f["j"] * f["top"] ** 2, within=0.05),), first=("clear", "insulation"),
)  # fmt: skip


# ---- a mask that hides a fault

def _masked(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "mask_hot": np.zeros(count), "mask_low": np.zeros(count), "hot": 55 + 10 * rng.uniform(size=count), "sags": 0.03 + 0.03 * rng.uniform(size=count), "broken": np.zeros(count), "history": np.zeros(count)}


MASK = Drill(
    "mask", "It runs, and sometimes stops without a fault", "pm", magnet_motor, vary=_masked,
    story=lambda k: f"{sheet(k)} The drive shows no fault; now and then it gives no torque for a moment, and the winding smells. Somebody has “got it going” before.",
    causes=(
        Cause("hot", "over-temperature is masked, and the winding gets too hot", lambda f: {**f, "mask_hot": np.ones(len(f["r"])), "hot": f["hot"] + 90, "history": np.ones(len(f["r"]))}, "A masked fault is still a fault: the history counts it."),
        Cause("low", "under-voltage is masked, and the supply sags", lambda f: {**f, "mask_low": np.ones(len(f["r"])), "sags": f["sags"] + 0.3, "history": 2 * np.ones(len(f["r"]))}, "The bus under load tells it; the mask only hid it."),
        Cause("sensor", "the temperature sensor is broken and reads cold; nothing is masked", lambda f: {**f, "broken": np.ones(len(f["r"])), "hot": f["hot"] + 90}, "A reading that never moves is none."),
        Cause("right", "nothing is masked, and nothing gets too hot: look at the load", unchanged, "Then the gaps are somebody else's."),
    ),
    measures=(
        Measure("mask", "Read the mask of faults, bit by bit", "drive", lambda f: words((f["mask_hot"] > 0, "over-temperature masked"), (f["mask_low"] > 0, "under-voltage masked"), other="nothing masked"), minutes=2.0, sees="What is hidden, not whether it happens."),
        Measure("history", "Read the history of faults", "drive", lambda f: words((f["history"] == 1, "over-temperature, many"), (f["history"] == 2, "under-voltage, many"), other="empty"), minutes=2.0, sees="A masked fault is counted all the same."),
        Measure("shown", "Temperature that the drive shows after ten minutes", "drive", lambda f: np.where(f["broken"] > 0, 22.0, f["hot"]), unit="degC", noise=0.0, noise_abs=2.0, minutes=12.0, power=True, sees="What its sensor says."),
        Measure("resistance", "Resistance right after the run over that before", "meter", lambda f: (235 + f["hot"]) / (235 + 21.0), unit="", noise=0.01, noise_abs=0.005, minutes=6.0, power=True, sees="The winding's own thermometer: no sensor can break it."),
        Measure("bus", "Bus in the worst moment, part that is missing", "scope", lambda f: f["sags"], unit="%", noise=0.05, noise_abs=0.005, minutes=5.0, power=True, sees="What the supply holds."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip


# ---- a brushed motor that slows under load

def _brushed(rng: np.random.Generator) -> dict[str, float]:
    v, i = float(rng.choice([12.0, 24.0])), float(rng.uniform(2.0, 8.0))
    return {"r": rounded(0.08 * v / i), "l": rounded(0.08 * v / i * 6e-4), "psi": rounded(v / float(rng.uniform(250, 450))), "p": 1.0, "v": v, "rated": rounded(i, 2), "j": 1e-5, "top": 300.0}


def _slows(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "drop": 0.25 + 0.1 * rng.uniform(size=count), "jumps": 0.04 + 0.02 * rng.uniform(size=count), "leads": np.zeros(count), "coil": np.ones(count), "idle": 0.05 + 0.02 * rng.uniform(size=count)}


def _stalled(f: Figures, share: float) -> FloatArray:
    current = share * f["rated"]
    return np.asarray(f["true_r"] * f["coil"] + f["leads"] * f["r"] + 2 * f["drop"] / current)


BRUSHES = Drill(
    "brushes", "The brushed motor slows under load", "brushed", _brushed, vary=_slows,
    story=lambda k: f"Brushed motor, {k['v']:.0f} V, rated {k['rated']:g} A, armature {1e3 * k['r']:.4g} mΩ, Ke {1e3 * k['psi']:.4g} mV·s/rad. At rated load it turns much slower than its constants say. Why? Tell the armature's own resistance, brushes and leads aside.",
    causes=(
        Cause("right", "the motor is as it should be", unchanged, "Then look at the load, or at the supply."),
        Cause("worn", "the brushes are worn: their contact drops too much and jumps", lambda f: {**f, "drop": f["drop"] * 4.5, "jumps": f["jumps"] + 0.35}, "A voltage that hardly changes with the current, and a resistance that jumps as it is turned."),
        Cause("leads", "thin leads stand between supply and motor", with_(leads=1.2), "Measure at the motor's own terminals, under load."),
        Cause("coil", "an armature coil is shorted", lambda f: {**f, "coil": np.full(len(f["r"]), 0.75), "idle": f["idle"] + 0.35}, "Less resistance, and a no-load current that is far too high: it brakes itself."),
    ),
    measures=(
        Measure("small", "Voltage over current, shaft held, a tenth of rated, at the supply", "meter", lambda f: _stalled(f, 0.1), unit="Ω", noise=0.02, noise_abs=0.005, minutes=3.0, power=True, sees="The brushes' drop weighs most at small current."),
        Measure("large", "The same at rated current, for a second", "meter", lambda f: _stalled(f, 1.0), unit="Ω", noise=0.02, noise_abs=0.003, minutes=3.0, power=True, sees="Two currents part drop from resistance."),
        Measure("turned", "How much that jumps while the shaft is turned slowly by hand", "meter", lambda f: f["jumps"], unit="%", noise=0.1, noise_abs=0.02, minutes=3.0, power=True, sees="Every segment under the brushes in turn."),
        Measure("between", "Volts lost between supply and motor at rated current", "meter", lambda f: f["leads"] * f["r"] * f["rated"], unit="V", noise=0.03, noise_abs=0.02, minutes=2.0, power=True, sees="What is not the motor's."),
        Measure("idle", "No-load current over rated", "meter", lambda f: f["idle"], unit="%", noise=0.05, noise_abs=0.005, minutes=2.0, power=True, sees="Friction, or a coil that brakes."),
        Measure("look", "Take the brushes out and look", "eye", lambda f: words((f["drop"] > 0.6, "short and burnt"), other="long and clean"), minutes=10.0, sees="What wears is seen."),
        CLEAR, LEADS,
    ),
    asks=(Ask("r", "Armature resistance", "Ω", lambda f: f["true_r"] * f["coil"], within=0.12),), first=("clear", "insulation"),
)  # fmt: skip

DRILLS = (START, SINK, MASK, BRUSHES)
