"""Drills on constants: bases, temperature, terminals, an auto-tune that did not run, iron that saturates."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.trainer.drill import Ask, Cause, Drill, Figures, Measure, unchanged, words
from crisp_compass.trainer.drills.motor import CLEAR, LEADS, copper, magnet_motor, rounded, series, sheet

PLACE = 1
_RPM = math.pi / 30


# ---- the base of a constant

def _printed(rng: np.random.Generator) -> dict[str, float]:
    known = magnet_motor(rng)
    return {**known, "kt": rounded(1.5 * known["p"] * known["psi"] * float(rng.uniform(0.9, 1.6)))}


def _base(factor: float) -> Cause:
    names = {1.5: ("peak", "the printed Kt is per ampere of phase peak", "ψ = Kt/(1.5·p)."), 1.5 * math.sqrt(2): ("rms", "the printed Kt is per ampere rms", "Per rms ampere Kt is √2 larger: ψ = Kt/(1.5·√2·p).")}
    key, text, lesson = names.get(factor, ("half", "the printed Kt is of one phase alone", "One phase alone makes p·ψ per ampere; three make 1.5 times as much."))
    return Cause(key, text, lambda f: {**f, "true_psi": f["kt"] / (factor * f["p"]) * f["true_psi"] / f["psi"]}, lesson)


BASE = Drill(
    "base-of-kt", "Per which ampere is this Kt?", "pm", _printed, vary=series,
    story=lambda k: f"A sheet prints Kt = {1e3 * k['kt']:.4g} mN·m/A and says no more. {k['p']:.0f} pole pairs, rated {k['rated']:g} A. Find the flux linkage of a phase, peak, and what the sheet meant.",
    causes=(_base(1.5), _base(1.5 * math.sqrt(2)), _base(1.0)),
    measures=(
        CLEAR,
        Measure("emf", "Turn the open motor at 600 rpm, scope between two leads, peak", "scope", lambda f: math.sqrt(3) * f["p"] * 600 * _RPM * f["true_psi"], unit="V", noise=0.01, noise_abs=0.005, minutes=4.0, sees="√3·p·ω·ψ: no ampere is in it, and so no base of one."),
        Measure("rms", "The same with a true-rms meter between two leads", "meter", lambda f: math.sqrt(1.5) * f["p"] * 600 * _RPM * f["true_psi"], unit="V", noise=0.015, noise_abs=0.003, minutes=4.0, sees="√2 less than the peak, where the EMF is a sine."),
        Measure("r", "Two leads with a meter", "meter", lambda f: 2 * f["true_r"] * copper(f["temp"]) + f["probe"], unit="Ω", noise=0.005, noise_abs=0.005, minutes=2.0, sees="Says nothing of the flux."),
        Measure("pull", "Hold the shaft with a spring balance at 2 A DC from B to C", "hand", lambda f: math.sqrt(3) * f["p"] * f["true_psi"] * 2.0, unit="N·m", noise=0.06, noise_abs=0.002, minutes=8.0, power=True, sees="√3·p·ψ·I at most, friction aside: rough."),
    ),
    asks=(Ask("psi", "Flux linkage, phase peak", "Wb", lambda f: f["true_psi"], within=0.05),), first=("clear",),
)  # fmt: skip


# ---- hot, cold, leads

def _warm(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    found = series(rng, figures, count)
    return {**found, "shell": found["temp"], "hot": 55.0 + 50.0 * rng.uniform(size=count), "turns": np.ones(count), "probes": np.zeros(count)}


def _pair(f: Figures) -> FloatArray:
    return np.asarray(2 * f["true_r"] * copper(f["temp"]) * f["turns"] + f["probe"] * f["probes"])


HOT = Drill(
    "hot-or-cold", "Is this resistance right?", "pm", magnet_motor, vary=_warm,
    story=lambda k: f"The sheet says {sheet(k)} You are to hand over the phase resistance at 20 °C. A colleague's note says only: “two leads, meter, just after the run”.",
    causes=(
        Cause("right", "the reading is of a cold winding", unchanged, "Two leads are two phases in series."),
        Cause("hot", "the winding was hot", lambda f: {**f, "temp": f["hot"], "shell": 21 + 0.3 * (f["hot"] - 21)}, "Copper gains 0.39 % a kelvin; the shell is much colder than the winding after a short run."),
        Cause("probes", "the probes' own resistance is in it", lambda f: {**f, "probes": np.full(len(f["r"]), 4.0 + 6.0 * float(np.mean(f["r"])) / 0.1)}, "Short the probes first and take off what is left, or use four wires."),
        Cause("turns", "some turns are shorted", lambda f: {**f, "turns": np.full(len(f["r"]), 0.8)}, "A phase with shorted turns reads low and warms by itself when it turns."),
    ),
    measures=(
        Measure("pair", "U to V with a meter, now", "meter", _pair, unit="Ω", noise=0.004, noise_abs=0.003, minutes=2.0, sees="Two phases, at the temperature that they have now, and the probes."),
        Measure("short", "Short the probes", "meter", lambda f: f["probe"] * f["probes"] + 0.001, unit="Ω", noise=0.01, noise_abs=0.002, minutes=1.0, sees="What is not the motor's."),
        Measure("shell", "Thermometer on the shell", "hand", lambda f: f["shell"], unit="degC", noise=0.0, noise_abs=0.8, minutes=2.0, sees="A shell that is warm tells of a winding that is hotter."),
        Measure("later", "The same reading two hours later", "meter", lambda f: 2 * f["true_r"] * copper(np.full(len(f["r"]), 21.0)) * f["turns"] + f["probe"] * f["probes"], unit="Ω", noise=0.004, noise_abs=0.003, minutes=20.0, sees="At the room's temperature."),
        Measure("drag", "Turn the open shaft by hand: is there drag that smooth bearings have not?", "hand", lambda f: words((f["turns"] < 1, "a drag that grows as it turns faster"), other="runs free"), minutes=1.0, sees="A shorted turn brakes like a generator."),
    ),
    asks=(Ask("r", "Phase resistance at 20 °C", "Ω", lambda f: f["true_r"] * f["turns"], within=0.06),),
)  # fmt: skip


# ---- a loose terminal

def _joint(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "u": np.zeros(count), "v_": np.zeros(count), "w": np.zeros(count), "joint": figures["r"] * (0.4 + 1.2 * rng.uniform(size=count)), "moves": np.zeros(count)}


_OF = {"U": "u", "V": "v_", "W": "w"}


def _loose(key: str, lead: str) -> Cause:
    return Cause(f"loose-{key}", f"the terminal of {lead} is loose", lambda f: {**f, _OF[lead]: f["joint"], "moves": np.ones(len(f["r"]))}, f"Both pairs with {lead} read high, the third does not, and it changes when the lead is moved.")


def _between(a: str, b: str) -> Measure:
    return Measure(f"pair-{a}{b}".lower(), f"{a} to {b} with a meter", "meter", lambda f: 2 * f["true_r"] * copper(f["temp"]) + f[_OF[a]] + f[_OF[b]] + 0.002, unit="Ω", noise=0.006, noise_abs=0.002, minutes=2.0, sees="Two phases and what is between.")


LOOSE = Drill(
    "loose-terminal", "Why do the pairs differ?", "pm", magnet_motor, vary=_joint,
    story=lambda k: f"{sheet(k)} The current loop hums and one phase of the drive gets warm. Find out why, and the resistance of a sound phase now.",
    causes=(
        Cause("even", "the motor is even: look elsewhere", unchanged, "Three pairs within a per cent or two: the winding is sound."),
        _loose("u", "U"), _loose("v", "V"), _loose("w", "W"),
        Cause("coil", "a coil of U has fewer turns", lambda f: {**f, "u": -0.25 * f["true_r"]}, "Both pairs with U read low, and nothing changes when the lead is moved."),
    ),
    measures=(
        _between("U", "V"), _between("V", "W"), _between("W", "U"),
        Measure("wiggle", "Move each lead at its terminal while the meter reads", "hand", lambda f: words((f["moves"] > 0, "the reading jumps"), other="steady"), minutes=1.0, sees="Only a bad joint moves."),
        Measure("warm", "Feel the terminals after a minute at a tenth of rated current", "hand", lambda f: words((f["moves"] > 0, "one is warm"), other="all cool"), minutes=5.0, power=True, sees="Heat where the resistance is."),
        CLEAR,
    ),
    asks=(Ask("r", "Resistance of a sound phase, as it is now", "Ω", lambda f: f["true_r"] * copper(f["temp"]), within=0.05),), first=("clear",),
)  # fmt: skip


# ---- an auto-tune that did not run

def _tuned(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    found = series(rng, figures, count)
    return {**found, "shown": found["true_r"] * copper(found["temp"]) * (1 + 0.02 * rng.standard_normal(count)), "before": figures["default"]}


def _with_default(rng: np.random.Generator) -> dict[str, float]:
    known = magnet_motor(rng)
    return {**known, "default": rounded(known["r"] * float(rng.choice([0.3, 0.5, 1.9, 2.1, 4.0])), 2)}


TUNE = Drill(
    "auto-tune", "Is the drive's auto-tune to be believed?", "pm", _with_default, vary=_tuned,
    story=lambda k: f"{sheet(k)} Yesterday's job ended in “auto-tune complete”. The drive's resistance is to be taken over, if it can be; the phase resistance as it is now is asked for in any case.",
    causes=(
        Cause("right", "it ran, and its value is a phase's", unchanged, "Compare with a meter anyway: it costs a minute."),
        Cause("not-run", "it did not run: the value is the factory's", lambda f: {**f, "shown": f["default"]}, "A value that is the same before and after, digit for digit, was not measured."),
        Cause("line", "it ran, but tells the resistance between two leads", lambda f: {**f, "shown": 2 * f["shown"]}, "Exactly twice is a base, not an error."),
        Cause("dead", "it ran, and dead time is in its value", lambda f: {**f, "shown": f["shown"] + 0.6 * f["r"]}, "One small current cannot tell dead time from resistance: two levels can."),
    ),
    measures=(
        Measure("after", "The drive's resistance now", "drive", lambda f: f["shown"], unit="Ω", noise=0.004, noise_abs=1e-6, minutes=1.0, sees="What it would run with."),
        Measure("factory", "The same after a reset to factory values, on a copy of its settings", "drive", lambda f: f["default"], unit="Ω", noise=0.004, noise_abs=1e-6, minutes=6.0, sees="What it holds when nothing was measured."),
        Measure("pair", "U to V with a meter", "meter", lambda f: 2 * f["true_r"] * copper(f["temp"]) + 0.002, unit="Ω", noise=0.006, noise_abs=0.002, minutes=2.0, sees="Two phases in series."),
        Measure("again", "Let it tune again at twice the current, read the value", "drive", lambda f: np.where(np.isclose(f["shown"], f["default"]), f["shown"], f["shown"] - 0.5 * np.maximum(f["shown"] - 1.15 * f["true_r"], 0.0) * (f["shown"] < 1.9 * f["true_r"])), unit="Ω", noise=0.01, noise_abs=1e-6, minutes=6.0, power=True, sees="Dead time weighs half as much at twice the current."),
        CLEAR,
    ),
    asks=(Ask("r", "Phase resistance as it is now", "Ω", lambda f: f["true_r"] * copper(f["temp"]), within=0.05),), first=("clear",),
)  # fmt: skip


# ---- saturated inductance

def _iron(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "falls": 0.45 + 0.2 * rng.uniform(size=count), "sat": np.ones(count), "ratio": np.ones(count), "eddy": np.ones(count)}


IRON = Drill(
    "saturated", "Which inductance is this?", "pm", magnet_motor, vary=_iron,
    story=lambda k: f"{sheet(k)} The current loop is calm at small steps and rings at rated current, or so it is said. Find the inductance across the pole at rated current.",
    causes=(
        Cause("constant", "the inductance is constant", unchanged, "Then the ringing comes from elsewhere: gains, delay, supply."),
        Cause("saturates", "the iron saturates at rated current", lambda f: {**f, "sat": f["falls"]}, "A gain for L at small current is too high where L has fallen by half."),
        Cause("saliency", "Ld and Lq differ, and the printed one is Ld", lambda f: {**f, "ratio": np.full(len(f["r"]), 1.6)}, "The loop across the pole needs Lq."),
        Cause("eddy", "eddy currents hide in the printed value", lambda f: {**f, "eddy": np.full(len(f["r"]), 1.35)}, "An LCR meter at 1 kHz reads what is left beside the eddies: less than the step sees."),
    ),
    measures=(
        Measure("lcr", "LCR meter at 1 kHz between two leads, rotor along the pole", "meter", lambda f: 2 * f["true_l"], unit="H", noise=0.02, noise_abs=0.0, minutes=3.0, sees="Small current, one frequency."),
        Measure("turned", "The same, turned to where it reads most", "meter", lambda f: 2 * f["true_l"] * f["ratio"], unit="H", noise=0.02, noise_abs=0.0, minutes=3.0, sees="Twice Lq."),
        Measure("small", "Step across the pole to a tenth of rated current: L from the slope", "scope", lambda f: f["true_l"] * f["ratio"] * f["eddy"], unit="H", noise=0.03, noise_abs=0.0, minutes=6.0, power=True, sees="What a loop meets at small current."),
        Measure("full", "The same to rated current", "scope", lambda f: f["true_l"] * f["ratio"] * f["eddy"] * f["sat"], unit="H", noise=0.03, noise_abs=0.0, minutes=6.0, power=True, sees="What it meets at rated current."),
        CLEAR, LEADS,
    ),
    asks=(Ask("l", "Inductance across the pole at rated current", "H", lambda f: f["true_l"] * f["ratio"] * f["eddy"] * f["sat"], within=0.1),), first=("clear", "insulation"),
)  # fmt: skip

DRILLS = (BASE, LOOSE, HOT, IRON, TUNE)
