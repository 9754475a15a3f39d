"""Drills on the loops: gains with the period folded in twice, dead time, sampling windows, resonance of a stepper, a wrong rotor time constant."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.trainer.drill import Ask, Cause, Drill, Figures, Measure, Told, unchanged, with_, words
from crisp_compass.trainer.drills.motor import CLEAR, LEADS, magnet_motor, rounded, series, sheet

PLACE = 3


# ---- gains that are not what they seem

def _looped(rng: np.random.Generator) -> dict[str, float]:
    known = magnet_motor(rng)
    ts = 1 / float(rng.choice([10e3, 16e3, 20e3]))
    cross = 0.055 / ts / 1.5
    return {**known, "ts": ts, "kp": rounded(2 * math.pi * cross * known["l"]), "ki": rounded(2 * math.pi * cross * known["r"])}


def _gains(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    ones = np.ones(count)
    return {**series(rng, figures, count), "kp_acts": figures["kp"] * ones, "ki_acts": figures["ki"] * ones, "delay": 1.5 * ones}


def _step(f: Figures, periods: int = 100) -> FloatArray:
    """Return the currents (periods, n) of a step to 1 A: a sampled PI around R and L, its voltage late by whole and half periods (zero-order hold, exact)."""
    keep = np.exp(-f["true_r"] / f["true_l"] * f["ts"])
    half = np.exp(-f["true_r"] / f["true_l"] * f["ts"] * (f["delay"] % 1.0))
    whole = np.floor(f["delay"]).astype(int)
    current, total = np.zeros_like(keep), np.zeros_like(keep)
    volts = np.zeros((5, len(keep)))
    out = np.zeros((periods, len(keep)))
    rows = np.arange(len(keep))
    for k in range(periods):
        out[k] = current
        error = 1.0 - current
        total = total + f["ki_acts"] * f["ts"] * error
        volts = np.roll(volts, 1, axis=0)
        volts[0] = f["kp_acts"] * error + total
        late, now = volts[np.minimum(whole, 4), rows], volts[np.minimum(whole - 1, 4), rows]
        current = current * keep + (late * (keep / half) * (1 - half) + now * (1 - keep / half)) / f["true_r"]
        current = np.clip(current, -3.0, 3.0)
    return out


def _overshoot(f: Figures) -> FloatArray:
    return np.asarray(np.maximum(_step(f).max(axis=0) - 1.0, 0.0))


def _rise(f: Figures) -> FloatArray:
    out = _step(f)
    return np.asarray(np.argmax(out >= 0.632, axis=0) * f["ts"])


def _after(f: Figures) -> FloatArray:
    return np.asarray(1 - _step(f, 61)[60])


FOLDED = Drill(
    "period-twice", "The current loop does not do what its gains say", "pm", _looped, vary=_gains,
    story=lambda k: f"{sheet(k)} Loop at {1e-3 / k['ts']:.0f} kHz; the header has Kp {k['kp']:.3g} V/A and Ki {k['ki']:.3g} V/(A·s). Steps of 1 A with a locked shaft can be recorded. What is wrong in the firmware?",
    causes=(
        Cause("right", "the gains act as they are written", unchanged, "A step with no offset left after some ten periods, little overshoot."),
        Cause("twice", "Ki has the sampling period in it twice", lambda f: {**f, "ki_acts": f["ki_acts"] * f["ts"]}, "The integrator hardly moves: an error stays that a longer look would call an offset."),
        Cause("line", "Kp was made for the inductance between two leads", lambda f: {**f, "kp_acts": 2 * f["kp_acts"], "ki_acts": 2 * f["ki_acts"]}, "Twice the crossover: it rings near the end of the phase."),
        Cause("late", "the voltage is two periods later than was thought", lambda f: {**f, "delay": f["delay"] + 2.0}, "Each period costs 360° · f · Ts of phase."),
        Cause("slow", "Kp is half of what is written: a shift is off by one", lambda f: {**f, "kp_acts": 0.5 * f["kp_acts"], "ki_acts": 0.5 * f["ki_acts"]}, "Half the crossover, twice the rise time, no overshoot: easily taken for a larger inductance."),
    ),
    measures=(
        Measure("over", "Overshoot of a step", "scope", _overshoot, unit="%", noise=0.05, noise_abs=0.015, minutes=4.0, power=True, sees="Delay and gain against each other."),
        Measure("rise", "Time to 63 % of it", "scope", _rise, unit="s", noise=0.08, noise_abs=1e-5, minutes=4.0, power=True, sees="One over the crossover, about."),
        Measure("left", "What is missing after sixty periods", "scope", _after, unit="%", noise=0.05, noise_abs=0.01, minutes=4.0, power=True, sees="What the integrator has not made up."),
        Measure("lag", "From the reference's step to the voltage's first change, on a pin", "scope", lambda f: (f["delay"] - 0.5) * f["ts"], unit="s", noise=0.03, noise_abs=2e-6, minutes=6.0, power=True, sees="The delay itself."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip


# ---- dead time, offset, cogging

def _rippled(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "sixth": 0.4 + 0.2 * rng.uniform(size=count), "first": 0.3 + 0.2 * rng.uniform(size=count), "slots": 0.5 + 0.3 * rng.uniform(size=count), "size": 3.0 + 2.0 * rng.uniform(size=count), "felt": np.zeros(count)}


def _ripple(order: str) -> Measure:
    title = {"first": "once an electrical turn", "sixth": "six times an electrical turn", "slots": "as often as there are slots"}[order]
    return Measure(f"ripple-{order}", f"Torque ripple {title}, at slow speed", "drive", lambda f: 0.01 * f[order], unit="%", noise=0.1, noise_abs=0.0015, minutes=5.0, power=True, sees="What comes how often tells where it comes from.")


DEAD = Drill(
    "dead-time", "It turns unevenly at low speed", "pm", magnet_motor, vary=_rippled,
    story=lambda k: f"{sheet(k)} Torque mode at a few rpm by hand against a balance: uneven. What makes it so?",
    causes=(
        Cause("dead", "dead time is too long and not compensated", lambda f: {**f, "sixth": f["sixth"] + f["size"]}, "Six times an electrical turn, and most at small current."),
        Cause("offset", "a current sensor has an offset", lambda f: {**f, "first": f["first"] + f["size"]}, "Once an electrical turn, whatever the current."),
        Cause("cogging", "the motor cogs", lambda f: {**f, "slots": f["slots"] + f["size"], "felt": np.ones(len(f["r"]))}, "It is felt without power, too."),
    ),
    measures=(
        _ripple("first"), _ripple("sixth"), _ripple("slots"),
        Measure("hand", "Turn the open motor by hand", "hand", lambda f: words((f["felt"] > 0, "catches evenly"), other="runs smoothly"), minutes=1.0, sees="Cogging needs no current."),
        Measure("zero", "Current reading of each phase with the bridge off", "drive", lambda f: np.where(f["first"] > 1.5, 0.42, 0.02), unit="A", noise=0.1, noise_abs=0.02, minutes=2.0, sees="An offset shows without power in the motor."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip


# ---- the sampling window

def _sampled(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "window": 2.6e-6 + 0.5e-6 * rng.uniform(size=count), "settles": np.full(count, 0.8e-6), "noise": np.full(count, 0.6), "loud": np.ones(count)}


def _spikes(depth: float) -> Measure:
    def spike(f: Figures) -> FloatArray:
        short = f["settles"] + 1.2e-6 > f["window"] + (0.95 - depth) * 25e-6
        return np.asarray(0.01 * (f["noise"] + 7.0 * short + (f["loud"] - 1.0)))

    return Measure(f"spike-{depth:.2f}", f"Current's spikes at {100 * depth:.0f} % of the voltage, part of rated", "scope", spike, unit="%", noise=0.1, noise_abs=0.003, minutes=4.0, power=True, sees="A window closes with the depth; noise does not.")


WINDOW = Drill(
    "window", "Spikes in the current at speed", "pm", magnet_motor, vary=_sampled,
    story=lambda k: f"{sheet(k)} Low-side shunts. At high speed the current has spikes, at low speed none, or so it is said.",
    causes=(
        Cause("carrier", "the window closes at high depth: the carrier is too fast for it", with_(window=1.0e-6), "Sample the two phases whose low side is on longest, or a slower carrier."),
        Cause("amplifier", "the amplifier settles too slowly", with_(settles=3.4e-6), "The window is there; what is read in it is not yet true."),
        Cause("gain", "the loop's gain makes noise of its own", with_(loud=3.5), "Noise at any depth that falls with the gain."),
        Cause("right", "the readings are sound", unchanged, "Then look at the load, not at the sampling."),
    ),
    measures=(
        _spikes(0.5), _spikes(0.95),
        Measure("on", "Low side's shortest on-time at 95 %", "scope", lambda f: f["window"], unit="s", noise=0.03, noise_abs=5e-8, minutes=4.0, power=True, sees="Room for settling and sampling."),
        Measure("edge", "Amplifier's output after an edge: time to within a per cent", "scope", lambda f: f["settles"], unit="s", noise=0.05, noise_abs=5e-8, minutes=5.0, power=True, sees="What it needs of that room."),
        Measure("half", "Spikes at 50 % with half the gain", "scope", lambda f: 0.01 * (f["noise"] + 0.5 * (f["loud"] - 1.0)), unit="%", noise=0.1, noise_abs=0.003, minutes=5.0, power=True, sees="A loop's own noise halves."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip


# ---- a stepper that falls out

def _stepper(rng: np.random.Generator) -> dict[str, float]:
    r, i = float(rng.uniform(0.8, 3.0)), float(rng.uniform(1.0, 3.0))
    psi = float(rng.uniform(4e-3, 8e-3))
    j = 50 * psi * i * float(rng.uniform(3e-5, 9e-5)) / 0.5
    return {"r": rounded(r), "l": rounded(r * float(rng.uniform(1e-3, 2.5e-3))), "psi": rounded(psi), "p": 50.0, "v": float(rng.choice([24.0, 36.0])), "rated": rounded(i, 2), "j": rounded(j), "top": 60.0}


def _shaken(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    own = np.sqrt(figures["p"] ** 2 * figures["psi"] * figures["rated"] / figures["j"]) / (2 * math.pi)
    return {**series(rng, figures, count), "own": own * (1 + 0.06 * rng.standard_normal(count)), "resonates": np.zeros(count), "starved": np.zeros(count), "heavy": np.zeros(count), "weak": np.zeros(count)}


def _tried(key: str, title: str, *, fine: bool = False, volts: bool = False, current: bool = False, slow: bool = False, light: bool = False) -> Measure:
    def told(f: Figures) -> Told:
        falls = ((f["resonates"] > 0) & (not fine) & slow) | ((f["starved"] > 0) & (not volts) & (not slow)) | ((f["weak"] > 0) & (not current)) | ((f["heavy"] > 0) & (not light) & (not current))
        return words((falls, "falls out"), other="keeps step")

    return Measure(key, title, "drive", told, minutes=4.0, power=True, sees="Change one thing; what helps names the cause.")


STEPPER = Drill(
    "stepper-falls", "The stepper loses steps", "stepper", _stepper, vary=_shaken,
    story=lambda k: f"Two-phase stepper, 200 steps a turn, {k['v']:.0f} V, {k['rated']:g} A a winding, {1e3 * k['r']:.4g} mΩ, {1e3 * k['l']:.3g} mH, full steps. Steps are lost in some moves. Find the cause; also the rate of full steps at which the rotor swings by itself.",
    causes=(
        Cause("resonates", "it passes its own frequency in full steps, too slowly", with_(resonates=1.0), "A finer table, or through it quickly. More current makes it stiffer, not calmer."),
        Cause("starved", "the voltage cannot drive the current at that speed", with_(starved=1.0), "L·di/dt and back-EMF eat the bus: more voltage, fewer turns in series."),
        Cause("heavy", "load and inertia ask more than there is", with_(heavy=1.0), "It falls out at any speed when it accelerates."),
        Cause("weak", "the current is set for half of what the winding takes", with_(weak=1.0), "Peak and rms, or a sense resistor of twice the value."),
    ),
    measures=(
        _tried("slow", "Through all slow rates at no load, full steps", slow=True), _tried("fast", "Straight to a fast rate with a short ramp"),
        _tried("fine", "Slow rates with a sixteenth of a step", slow=True, fine=True), _tried("more", "The fast rate at twice the current, for seconds", current=True),
        _tried("volts", "The fast rate with twice the supply", volts=True), _tried("light", "The fast rate without its load", light=True),
        Measure("swing", "Hold one step, pluck the shaft, scope on the open winding: frequency", "scope", lambda f: f["own"], unit="Hz", noise=0.02, noise_abs=0.5, minutes=4.0, power=True, sees="The rotor's own frequency in its field."),
        Measure("shunt", "Current of a winding at rest, clamp", "meter", lambda f: f["rated"] * (1 - 0.5 * f["weak"]), unit="A", noise=0.02, noise_abs=0.02, minutes=2.0, power=True, sees="What it really gets."),
        CLEAR, LEADS,
    ),
    asks=(Ask("own", "Rate of full steps at which it swings", "Hz", lambda f: f["own"], within=0.06),), first=("clear", "insulation"),
)  # fmt: skip


# ---- a wrong rotor time constant

def _cage(rng: np.random.Generator) -> dict[str, float]:
    tr = float(rng.uniform(0.05, 0.3))
    return {"r": 3.0, "l": 0.01, "psi": 0.9, "p": 2.0, "v": 325.0, "rated": rounded(float(rng.uniform(3, 9)), 2), "j": 0.002, "top": 150.0, "tr": rounded(tr), "i0": rounded(float(rng.uniform(1.5, 3.0)), 2)}


def _slips(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "ratio": 1 + 0.03 * rng.standard_normal(count), "lm": 1 + 0.02 * rng.standard_normal(count)}


def _detuned(f: Figures, i_q: float) -> FloatArray:
    """Return the torque over the ideal one with the firmware's Tr over the true one ``ratio`` in the steady state (K. B. Nordin and others, IEEE Trans. Industry Applications 21, 1985): (1 + y²)·x/(1 + (x·y)²), y = i_q/i_d as asked, x = true over believed Tr."""
    x, y = 1.0 / f["ratio"], i_q
    return np.asarray(x * (1 + y * y) / (1 + (x * y) ** 2) * f["lm"])


ROTOR = Drill(
    "rotor-time", "The induction motor pulls less than it should", "induction", _cage, vary=_slips,
    story=lambda k: f"Induction motor, {k['v']:.0f} V bus, rated {k['rated']:g} A peak, magnetizing {k['i0']:g} A; the firmware has Tr = {1e3 * k['tr']:.3g} ms. Field-oriented with an encoder; torque by a balance does not fit. Tell what is wrong, and the true Tr.",
    causes=(
        Cause("right", "the constants are right", unchanged, "Torque then grows in proportion with i_q."),
        Cause("long", "the firmware's Tr is too long", lambda f: {**f, "ratio": f["ratio"] * 1.7}, "Too little slip: flux rises, torque at little current is more than asked, until iron saturates."),
        Cause("short", "the firmware's Tr is too short: it was measured warm", lambda f: {**f, "ratio": f["ratio"] * 0.6}, "Too much slip: the flux sinks as i_q grows."),
        Cause("lm", "the magnetizing inductance is less than believed", lambda f: {**f, "lm": 0.72 * f["lm"]}, "Torque is low by the same part at every current, and the no-load voltage too."),
    ),
    measures=(
        Measure("half", "Torque at half the magnetizing current in i_q, over what was asked", "hand", lambda f: _detuned(f, 0.5), unit="", noise=0.02, noise_abs=0.01, minutes=8.0, power=True, sees="Hardly any slip is wrong yet."),
        Measure("full", "The same at 2.5 times the magnetizing current", "hand", lambda f: _detuned(f, 2.5), unit="", noise=0.02, noise_abs=0.01, minutes=8.0, power=True, sees="A wrong slip shows."),
        Measure("volts", "Voltage at no load and half speed over what is expected", "drive", lambda f: f["lm"], unit="", noise=0.01, noise_abs=0.005, minutes=4.0, power=True, sees="LM, whatever the slip: none flows."),
        Measure("decay", "Cut the supply at speed, time constant of the EMF", "scope", lambda f: f["tr"] / f["ratio"], unit="s", noise=0.03, noise_abs=1e-3, minutes=6.0, power=True, sees="The rotor's own, at the temperature it has now."),
        CLEAR, LEADS,
    ),
    asks=(Ask("tr", "True rotor time constant", "s", lambda f: f["tr"] / f["ratio"], within=0.08),), first=("clear", "insulation"),
)  # fmt: skip

DRILLS = (FOLDED, DEAD, WINDOW, STEPPER, ROTOR)
