"""A start that failed: which cause shows the symptom that was seen, by simulated trials of each on this motor, and what to change next."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry, StartSymptom, StartTrial
from crisp_compass.plant import state
from crisp_compass.plant.parameters import NO_FAULT, SPEED, START_COLUMNS, Drive
from crisp_compass.plant.simulation import Simulation, with_floats
from crisp_compass.studies.start import BEYOND, drive_for_start, hand_over_of, longest
from crisp_compass.studies.start_map import StartStudy, study_of, with_levers

#: Symptoms as a person sees and hears them.
SYMPTOMS: dict[StartSymptom, str] = {
    "rocks": "rocks to and fro, does not start",
    "falls-back": "starts to turn and falls back",
    "trips": "trips at hand-over",
    "wrong-way": "turns the wrong way",
    "no-more": "reaches a speed and no more",
    "howls": "runs, but howls or surges",
}
#: Trials of each cause.
DRAWS = 6
#: How far up the trials go, of top speed.
_OF_TOP = 0.8
#: What a change that was already tried leaves of its cause.
_TRIED = 0.15


@dataclass(frozen=True)
class Cause:
    """What may be wrong: ``text``, the ``change`` to try, and how a drive looks with it at a severity of 0 to 1; ``weight`` before anything is seen (common practice),
    ``way`` to start that it belongs to: forced, injection or both."""

    key: str
    text: str
    change: str
    make: Callable[[Drive, float], Drive]
    weight: float = 1.0
    load: float = 0.0
    reverse: bool = False
    way: str = "both"


def _scaled(low: float, high: float) -> Callable[[float], float]:
    """Return a factor that grows evenly by ratio with the severity."""
    return lambda severity: low * (high / low) ** severity


def _true(**factors: Callable[[float], float]) -> Callable[[Drive, float], Drive]:
    """Return a drive whose true machine differs from what the firmware believes."""

    def make(drive: Drive, severity: float) -> Drive:
        machine = drive.machine
        return drive._replace(
            machine=machine._replace(**{k: getattr(machine, k) * f(severity) for k, f in factors.items()})
        )

    return make


def _shaft(**factors: Callable[[float], float]) -> Callable[[Drive, float], Drive]:
    def make(drive: Drive, severity: float) -> Drive:
        load = drive.load
        return drive._replace(load=load._replace(**{k: getattr(load, k) * f(severity) for k, f in factors.items()}))

    return make


def _lever(name: str, factor: Callable[[float], float]) -> Callable[[Drive, float], Drive]:
    return lambda drive, severity: with_levers(drive, {name: factor(severity)})


def _control(**factors: Callable[[float], float]) -> Callable[[Drive, float], Drive]:
    def make(drive: Drive, severity: float) -> Drive:
        control = drive.control
        return drive._replace(
            control=control._replace(**{k: getattr(control, k) * f(severity) for k, f in factors.items()})
        )

    return make


def _dead(drive: Drive, severity: float) -> Drive:
    volts = max(drive.inverter.dead_voltage, 0.01 * drive.inverter.v_supply) * (2 + 3 * severity)
    return drive._replace(
        inverter=drive.inverter._replace(dead_voltage=volts), start=drive.start._replace(dead_voltage=0.0)
    )


def _offset(drive: Drive, severity: float) -> Drive:
    off = (0.02 + 0.08 * severity) * drive.sensing.full_scale
    return drive._replace(sensing=drive.sensing._replace(offset_a=off, offset_b=-0.4 * off))


def _sticks(drive: Drive, severity: float) -> Drive:
    kt = 1.5 * drive.machine.pole_pairs * drive.machine.psi
    return drive._replace(
        load=drive.load._replace(breakaway=kt * max(drive.start.rows[::START_COLUMNS]) * (0.7 + 0.8 * severity))
    )


def _weak(drive: Drive, severity: float) -> Drive:
    return drive._replace(control=drive.control._replace(i_limit=drive.control.i_limit * (0.35 - 0.3 * severity)))


def _low_supply(drive: Drive, severity: float) -> Drive:
    return drive._replace(
        inverter=drive.inverter._replace(v_supply=drive.inverter.v_supply * (0.55 - 0.45 * severity)),
        control=drive.control._replace(v_min=0.0),
    )


def _loop(low: float, high: float) -> Callable[[Drive, float], Drive]:
    factor = _scaled(low, high)

    def make(drive: Drive, severity: float) -> Drive:
        f, e = factor(severity), drive.estimator
        return drive._replace(
            estimator=e._replace(kp=e.kp * f, ki=e.ki * f * f, filter=e.filter * f, catch=e.catch * f)
        )

    return make


def _less_salient(drive: Drive, severity: float) -> Drive:
    m, keeps = drive.machine, 0.5 - 0.5 * severity
    mean, half = 0.5 * (m.ld + m.lq), 0.5 * (m.lq - m.ld) * keeps
    return drive._replace(machine=m._replace(ld=mean - half, lq=mean + half))


def _other_pole(drive: Drive, severity: float) -> Drive:
    return drive._replace(machine=drive.machine._replace(bend=-drive.machine.bend * (0.4 + 0.6 * severity)))


def _injected(**factors: Callable[[float], float]) -> Callable[[Drive, float], Drive]:
    def make(drive: Drive, severity: float) -> Drive:
        injected = drive.injected
        return drive._replace(
            injected=injected._replace(**{k: getattr(injected, k) * f(severity) for k, f in factors.items()})
        )

    return make


CAUSES: tuple[Cause, ...] = (
    Cause("leads", "two motor leads are exchanged", "power off, link discharged, exchange two leads", lambda d, _: d, 1.5, reverse=True),
    Cause("load", "the load is too heavy for the ramp", "more current in the ramp, or take the load off", lambda d, _: d, 1.5, load=1.0),
    Cause("ramp", "the ramp is too steep", "a third of the acceleration", _lever("ramp", _scaled(2.5, 10)), 1.5, way="forced"),
    Cause("current", "the ramp's current is too small", "half as much current again in the ramp", _lever("current", _scaled(0.5, 0.15)), 1.2, way="forced"),
    Cause("align", "the alignment is too short", "three times the alignment's time", _lever("align", _scaled(0.3, 0.03)), 1.0, way="forced"),
    Cause("sticks", "the shaft sticks at rest", "more alignment current; free the shaft and the bearing", _sticks, 0.7),
    Cause("early", "hand-over comes too early", "twice the hand-over speed", _lever("hand_over", _scaled(0.5, 0.12)), 1.2),
    Cause("r-high", "the true resistance is higher: hot winding, long leads", "measure R warm, with its cable", _true(r=_scaled(1.5, 3)), 0.8),
    Cause("r-low", "the true resistance is lower: line instead of phase entered", "check the base of R: phase of the star", _true(r=_scaled(0.67, 0.4)), 0.8),
    Cause("l-off", "the inductance is wrong", "check the base of L, and saturation", _true(ld=_scaled(0.6, 0.25), lq=_scaled(0.6, 0.25)), 0.7),
    Cause("psi-low", "the true flux linkage is lower: hot or weakened magnets, wrong Kv base", "measure the flux by coasting", _true(psi=_scaled(0.8, 0.5)), 0.8),
    Cause("psi-high", "the true flux linkage is higher: wrong Kv base", "measure the flux by coasting", _true(psi=_scaled(1.25, 2)), 0.8),
    Cause("dead-time", "the dead time is not made up for", "enter the dead time, or hand over at twice the speed", _dead, 1.0),
    Cause("offset", "a current channel has an offset", "measure the offsets at zero current before each start", _offset, 0.8),
    Cause("inertia", "the inertia is larger than believed", "a third of the acceleration, lower speed-loop gains", _shaft(inertia=_scaled(2.5, 10)), 0.8),
    Cause("limit", "the current limit of the running drive is low", "raise the current limit as far as motor and drive allow", _weak, 0.8),
    Cause("supply", "the supply gives too little voltage", "measure the link while it runs; raise the supply's current limit", _low_supply, 0.8),
    Cause("gain", "the speed loop's gains are too high", "a third of the speed loop's gains", _control(kp_speed=_scaled(5, 25), ki_speed=_scaled(5, 25)), 0.9),
    Cause("loop-slow", "the estimator's loop is too slow", "twice the loop's frequency", _loop(0.25, 0.06), 0.7),
    Cause("loop-quick", "the estimator's loop is too quick and follows the noise", "half the loop's frequency", _loop(4, 12), 0.7),
    Cause("saliency", "the motor has less saliency than entered, or loses it under load", "measure Ld and Lq at the running current, or start by forced angle", _less_salient, 1.2, way="injection"),
    Cause("pole", "the pole is taken the wrong way: the iron answers otherwise than entered", "more current along the pole, then look whether it still turns backwards", _other_pole, 1.0, way="injection"),
    Cause("injected", "too little voltage is injected", "twice the injected voltage", _injected(volts=_scaled(0.4, 0.08)), 1.0, way="injection"),
    Cause("track-quick", "the injection follows too quickly and follows the noise", "half of its frequency", _injected(natural=_scaled(3, 8)), 0.8, way="injection"),
)  # fmt: skip


def causes_of(way: str) -> tuple[Cause, ...]:
    """Return the causes of a start by ``forced`` angle or by ``injection``."""
    return tuple(c for c in CAUSES if c.way in ("both", way))


def symptom_of(
    drive: Drive, load: float, angle: float, seed: int, target: float, *, reverse: bool = False
) -> StartSymptom | None:  # fmt: skip
    """Play a start up to ``target`` [rad/s] and say what a person would see; None where nothing is wrong."""
    sim = Simulation(drive, seed=seed)
    sim.state[state.THETA] = angle
    sim.set_load(load)
    hand_over = hand_over_of(drive)
    sim.command(SPEED, speed=-target if reverse else target)
    most = longest(drive) + (target / hand_over - BEYOND) * hand_over / drive.control.ramp
    chunk = max(math.pi / (drive.machine.pole_pairs * hand_over), 8 * drive.control.ts)
    speeds, torques, phases, closed = [], [], [], None
    while sim.time < most:
        sim.skip(chunk)
        speeds.append(sim.speed)
        torques.append(float(sim.state[state.IQ_REF]))
        phases.append(float(sim.state[state.PHASE]))
        if closed is None and phases[-1] == state.CLOSED:
            closed = sim.time
        if sim.state[state.FAULT] != NO_FAULT:
            break
    w, iq = np.array(speeds), np.array(torques)
    fault = sim.state[state.FAULT] != NO_FAULT
    tail = max(len(w) // 8, 3)
    if reverse or float(np.mean(w[-tail:])) < -0.3 * hand_over:
        return "wrong-way"
    if closed is None or fault:
        since = math.inf if closed is None else sim.time - closed
        if fault and since < math.inf:
            return "trips"
        return "falls-back" if float(np.max(w)) > 0.5 * hand_over and _followed(w, hand_over) else "rocks"
    last = float(np.mean(w[-tail:]))
    if last < 0.9 * target:
        return "no-more"
    surge = float(np.std(w[-tail:])) / target
    work = float(np.std(iq[-tail:])) / max(drive.control.i_limit, 1e-9)
    return "howls" if surge > 0.04 or work > 0.25 else None


def _followed(w: np.ndarray, hand_over: float) -> bool:
    """Tell whether the rotor turned with the field for a while: it kept a mean speed, not only swung."""
    width = max(len(w) // 12, 2)
    smooth = np.convolve(w, np.ones(width) / width, mode="valid") if len(w) >= width else w
    return bool(np.max(smooth) > 0.3 * hand_over)


@dataclass(frozen=True)
class Likelihoods:
    """``of`` by cause, those of this bench's way to start: how often its trials showed each symptom (with a little for what was not simulated), and how many trials each had."""

    of: dict[str, dict[StartSymptom, float]]
    draws: int


def cause_likelihoods(bench: Bench, *, draws: int | None = None, seed: int = 3) -> Likelihoods:
    """Try every cause on the bench's drive; raises Refusal as the start's design does."""
    draws = draws or DRAWS
    drive, _ = drive_for_start(bench)
    base = with_floats(drive)
    study: StartStudy = study_of(bench)
    target = max(_OF_TOP * bench.settings.plate.top_speed, 2 * hand_over_of(drive))
    found: dict[str, dict[StartSymptom, float]] = {}
    ours = causes_of(bench.settings.start_up.standstill)
    for place, cause in enumerate(CAUSES):  # each keeps its own draws, whichever others are tried
        if cause not in ours:
            continue
        rng = np.random.default_rng([seed, place])
        counts: dict[StartSymptom, float] = dict.fromkeys(SYMPTOMS, 0.0)
        for k in range(draws):
            severity = (k + 0.5) / draws
            made = cause.make(base, severity)
            load = cause.load * study.rated_torque * (0.5 + 0.8 * severity)
            seen = symptom_of(
                made,
                load,
                float(rng.uniform(0, 2 * math.pi)),
                int(rng.integers(1, 2**31)),
                target,
                reverse=cause.reverse,
            )
            if seen is not None:
                counts[seen] += 1
        found[cause.key] = {s: (c + 0.2) / (draws + 0.2 * (len(SYMPTOMS) + 1)) for s, c in counts.items()}
    return Likelihoods(found, draws)


@dataclass(frozen=True)
class Ranked:
    """A cause with its probability in the light of what was seen."""

    cause: Cause
    probability: float


def rank(seen: StartSymptom, trials: Sequence[StartTrial], likelihoods: Likelihoods) -> list[Ranked]:
    """Rank the causes of the symptom seen now by Bayes' rule, the likeliest first; a change that was tried and did not help sets its cause back."""
    tried = {t.changed for t in trials if t.changed}
    causes = [c for c in CAUSES if c.key in likelihoods.of]
    weights = {c.key: c.weight * likelihoods.of[c.key][seen] * (_TRIED if c.key in tried else 1.0) for c in causes}
    total = sum(weights.values())
    ranked = [Ranked(c, weights[c.key] / total) for c in causes]
    return sorted(ranked, key=lambda r: -r.probability)


def log_trial(bench: Bench, symptom: StartSymptom, changed: str, when: str) -> Bench:
    """Return the bench with one more trial in its log: what was changed before it (a cause's key, or nothing) and what was seen."""
    text = SYMPTOMS[symptom]
    change = next((c.change for c in CAUSES if c.key == changed), "")
    line = LedgerEntry(
        when=when, kind="note", text=f"start failed: {text}" + (f", after: {change}" if change else "")
    )
    trial = StartTrial(symptom=symptom, changed=changed if change else "", when=when)
    return bench.model_copy(update={"start_trials": (*bench.start_trials, trial), "ledger": (*bench.ledger, line)})
