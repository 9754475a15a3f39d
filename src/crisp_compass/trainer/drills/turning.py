"""Drills on angle and direction: exchanged leads and halls, an encoder that stands for the wrong place, a ground that two share."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.trainer.drill import Ask, Cause, Drill, Figures, Measure, Told, unchanged, with_, words
from crisp_compass.trainer.drills.motor import CLEAR, LEADS, magnet_motor, series, sheet

PLACE = 2


# ---- exchanged leads, exchanged halls

def _sense(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "field": np.ones(count), "halls": np.ones(count), "shift": np.zeros(count)}


def _run(f: Figures) -> Told:
    agree, shifted = f["field"] * f["halls"] > 0, f["shift"] != 0
    return words((agree & ~shifted, "turns smoothly, little current"), (agree & shifted, "turns roughly, three times the current"), other="jerks to and fro, does not turn")


HALLS = Drill(
    "leads-and-halls", "It jerks, or turns, or turns the wrong way", "pm", magnet_motor, vary=_sense,
    story=lambda k: f"{sheet(k)} Three halls. The motor was unplugged and plugged again by somebody. Forwards is clockwise on the shaft's end. Find out what was exchanged, before it is run hard.",
    causes=(
        Cause("right", "all is as it was", unchanged, "Then the order of halls and of EMF go the same way, clockwise."),
        Cause("leads", "two motor leads are exchanged", with_(field=-1.0), "The field turns against the halls: it jerks. The EMF's order tells it without power."),
        Cause("halls", "two hall wires are exchanged", with_(halls=-1.0), "The halls run backwards by hand; it jerks under power."),
        Cause("both", "two leads and two halls are exchanged", with_(field=-1.0, halls=-1.0), "Runs well, backwards: both exchanges agree with each other."),
        Cause("ring", "the leads are moved on by one, all three", with_(shift=1.0), "Direction right, angle 120° off: rough and hungry for current."),
    ),
    measures=(
        Measure("turn", "Turn clockwise by hand, read the halls", "hand", lambda f: words((f["halls"] > 0, "order as on the sheet"), other="order backwards"), minutes=2.0, sees="The halls alone, no power."),
        Measure("emf", "Turn clockwise with a drill, scope on two leads against the third", "scope", lambda f: words((f["field"] > 0, "A before B"), other="B before A"), minutes=4.0, sees="The leads alone, no power."),
        Measure("place", "The same, halls and EMF together: where does hall A change against EMF A?", "scope", lambda f: words((f["shift"] != 0, "a third of a period off"), (f["field"] * f["halls"] < 0, "cannot be told: they run against each other"), other="at its zero"), minutes=6.0, sees="Both together: the shift too."),
        Measure("run", "Run at a tenth of rated current", "drive", _run, minutes=3.0, power=True, sees="How they agree, not what was exchanged."),
        Measure("way", "Which way does it turn then?", "eye", lambda f: words((f["field"] * f["halls"] < 0, "it does not"), (f["field"] > 0, "clockwise"), other="anticlockwise"), minutes=3.0, power=True, sees="Both exchanged runs the other way."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip


# ---- an encoder's zero that is off

def _zero(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "off": math.radians(2.0) * rng.standard_normal(count), "sense": np.ones(count)}


def _with_zero(rng: np.random.Generator) -> dict[str, float]:
    return {**magnet_motor(rng), "zero": float(rng.integers(20, 340))}


def _shifted(by: float) -> Cause:
    lesson = {90.0: "At 90° current makes no torque: it only heats.", 180.0: "At 180° torque is against what is asked: a speed loop runs away."}[by]
    return Cause(f"off-{by:.0f}", f"the zero is {by:.0f}° electrical off", lambda f: {**f, "off": f["off"] + math.radians(by)}, lesson)


ZERO = Drill(
    "encoder-zero", "Where is the encoder's zero?", "pm", _with_zero, vary=_zero,
    story=lambda k: f"{sheet(k)} Encoder; the drive holds a zero of {k['zero']:.0f}° electrical. Current flows, the torque is not what was asked. Tell the zero that is right.",
    causes=(
        Cause("right", "the zero is right: look elsewhere", unchanged, "An alignment from both sides that agrees within friction's lag shows it."),
        _shifted(90.0), _shifted(180.0),
        Cause("sense", "the encoder counts against the field", with_(sense=-1.0), "No zero is right then: exchange A and B, or two leads."),
    ),
    measures=(
        Measure("align", "Hold a current along A, read the drive's angle", "drive", lambda f: f["off"] % (2 * math.pi), unit="deg", noise=0.0, noise_abs=math.radians(4.0), minutes=3.0, power=True, sees="The rotor lies at zero: what is read is how far the kept zero is off."),
        Measure("ahead", "Move that current 60° on: how far does the angle go?", "drive", lambda f: math.radians(60.0) * f["sense"], unit="deg", noise=0.0, noise_abs=math.radians(3.0), minutes=3.0, power=True, sees="Its sign is the sense."),
        Measure("pull", "Ask for a little torque at standstill, feel the shaft", "hand", lambda f: words((np.abs(np.cos(f["off"])) < 0.3, "nearly none"), (np.cos(f["off"]) > 0, "pulls forwards"), other="pulls backwards"), minutes=3.0, power=True, sees="The cosine of the error, with its sign."),
        Measure("count", "Turn a turn forwards by hand, read the count", "hand", lambda f: words((f["sense"] > 0, "counts up"), other="counts down"), minutes=1.0, sees="The sensor's sense, not the field's."),
        CLEAR, LEADS,
    ),
    asks=(Ask("zero", "Zero that is right", "deg", lambda f: (np.radians(f["zero"]) + f["off"]) % (2 * math.pi), within=math.radians(8.0), circle=True),), first=("clear", "insulation"),
)  # fmt: skip


# ---- a ground that two share

def _wired(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    return {**series(rng, figures, count), "shared": np.zeros(count), "coupled": np.zeros(count), "sags": np.zeros(count), "loose": np.zeros(count), "some": 0.7 + 0.6 * rng.uniform(size=count)}


def _lost(current: float, carrier: float) -> Measure:
    def lost(f: Figures) -> FloatArray:
        return np.asarray(f["some"] * (40.0 * f["shared"] * current + 25.0 * f["coupled"] * carrier + 30.0 * f["sags"] * current + 15.0 * f["loose"]))

    title = "at rest, drive off" if not current and not carrier else "at rest, bridge switching, no current" if not current else "at rated current"
    return Measure(f"lost-{current:.0f}{carrier:.0f}", f"Counts lost in ten turns {title}", "drive", lost, unit="", noise=0.15, noise_abs=1.5, minutes=4.0, power=bool(current or carrier), sees="What they come with tells where they come from.")


GROUND = Drill(
    "sensor-ground", "Counts are lost under load", "pm", magnet_motor, vary=_wired,
    story=lambda k: f"{sheet(k)} Encoder on 3 m of cable. Moves end some counts off; more so when the load is on. Find the cause.",
    causes=(
        Cause("shared", "the encoder's ground carries motor current: it is joined at the motor", with_(shared=1.0), "A sensor's ground is joined at one end only, the drive's."),
        Cause("coupled", "the cable lies unshielded along the motor's", with_(coupled=1.0), "Spikes come with every edge of the bridge, current or not."),
        Cause("sags", "the encoder's supply sags under load", with_(sags=1.0), "A supply that is shared with the gates sags with the current."),
        Cause("loose", "a contact of the plug is loose", with_(loose=1.0), "It loses counts with the drive off, too, and when it is moved."),
    ),
    measures=(
        _lost(0.0, 0.0), _lost(0.0, 1.0), _lost(1.0, 1.0),
        Measure("frame", "Encoder's ground to the motor's frame, unplugged", "meter", lambda f: words((f["shared"] > 0, "joined"), other="open"), minutes=2.0, sees="Joined at the motor is a second path."),
        Measure("supply", "Encoder's supply at rated current, lowest", "scope", lambda f: 4.95 - 0.75 * f["sags"], unit="V", noise=0.005, noise_abs=0.05, minutes=4.0, power=True, sees="Below 4.5 V many count no more."),
        Measure("wiggle", "Move the plug while turning by hand", "hand", lambda f: words((f["loose"] > 0, "counts jump"), other="counts steadily"), minutes=1.0, sees="Only a bad contact moves."),
        Measure("ferrite", "Ferrite on the cable, bridge switching: does it get better?", "scope", lambda f: words((f["coupled"] > 0, "much better"), other="no change"), minutes=5.0, power=True, sees="Helps against edges, not against current."),
        CLEAR, LEADS,
    ),
    asks=(), first=("clear", "insulation"),
)  # fmt: skip

DRILLS = (HALLS, ZERO, GROUND)
