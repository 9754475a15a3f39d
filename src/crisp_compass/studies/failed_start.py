"""A start that failed: which cause shows the symptom that was seen, by simulated trials of each on this motor, and what to change next."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry, StartSymptom, StartTrial
from crisp_compass.plant import state
from crisp_compass.plant.parameters import NO_FAULT, SPEED, START_COLUMNS, Drive
from crisp_compass.plant.simulation import Simulation, with_floats
from crisp_compass.quantities import grouped, show
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
#: Trials of each cause, and places of the rotor from which each is started.
DRAWS, _PLACES = 8, 2
#: How well speed and current are read by a person (ratio); causes within this part of the first are ties; a look that takes less doubt than this is not worth it.
_READING, _TIE, _WORTH = 0.12, 0.8, 0.1
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
    Cause("leads", "two motor leads are exchanged", "power off, link discharged, exchange two leads", lambda d, _: d, weight=1.5, reverse=True),
    Cause("load", "the load is too heavy for the ramp", "more current in the ramp, or take the load off", lambda d, _: d, weight=1.5, load=1.0),
    Cause("ramp", "the ramp is too steep", "a third of the acceleration", _lever("ramp", _scaled(2.5, 10)), weight=1.5, way="forced"),
    Cause("current", "the ramp's current is too small", "half as much current again in the ramp", _lever("current", _scaled(0.5, 0.15)), weight=1.2, way="forced"),
    Cause("align", "the alignment is too short", "three times the alignment's time", _lever("align", _scaled(0.3, 0.03)), weight=1.0, way="forced"),
    Cause("sticks", "the shaft sticks at rest", "more alignment current; free the shaft and the bearing", _sticks, weight=0.7),
    Cause("early", "hand-over comes too early", "twice the hand-over speed", _lever("hand_over", _scaled(0.5, 0.12)), weight=1.2),
    Cause("r-high", "the true resistance is higher: hot winding, long leads", "measure R warm, with its cable", _true(r=_scaled(1.5, 3)), weight=0.8),
    Cause("r-low", "the true resistance is lower: line instead of phase entered", "check the base of R: phase of the star", _true(r=_scaled(0.67, 0.4)), weight=0.8),
    Cause("l-off", "the inductance is wrong", "check the base of L, and saturation", _true(ld=_scaled(0.6, 0.25), lq=_scaled(0.6, 0.25)), weight=0.7),
    Cause("psi-low", "the true flux linkage is lower: hot or weakened magnets, wrong Kv base", "measure the flux by coasting", _true(psi=_scaled(0.8, 0.5)), weight=0.8),
    Cause("psi-high", "the true flux linkage is higher: wrong Kv base", "measure the flux by coasting", _true(psi=_scaled(1.25, 2)), weight=0.8),
    Cause("dead-time", "the dead time is not made up for", "enter the dead time, or hand over at twice the speed", _dead, weight=1.0),
    Cause("offset", "a current channel has an offset", "measure the offsets at zero current before each start", _offset, weight=0.8),
    Cause("inertia", "the inertia is larger than believed", "a third of the acceleration, lower speed-loop gains", _shaft(inertia=_scaled(2.5, 10)), weight=0.8),
    Cause("limit", "the current limit of the running drive is low", "raise the current limit as far as motor and drive allow", _weak, weight=0.8),
    Cause("supply", "the supply gives too little voltage", "measure the link while it runs; raise the supply's current limit", _low_supply, weight=0.8),
    Cause("gain", "the speed loop's gains are too high", "a third of the speed loop's gains", _control(kp_speed=_scaled(5, 25), ki_speed=_scaled(5, 25)), weight=0.9),
    Cause("loop-slow", "the estimator's loop is too slow", "twice the loop's frequency", _loop(0.25, 0.06), weight=0.7),
    Cause("loop-quick", "the estimator's loop is too quick and follows the noise", "half the loop's frequency", _loop(4, 12), weight=0.7),
    Cause("saliency", "the motor has less saliency than entered, or loses it under load", "measure Ld and Lq at the running current, or start by forced angle", _less_salient, weight=1.2, way="injection"),
    Cause("pole", "the pole is taken the wrong way: the iron answers otherwise than entered", "more current along the pole, then look whether it still turns backwards", _other_pole, weight=1.0, way="injection"),
    Cause("injected", "too little voltage is injected", "twice the injected voltage", _injected(volts=_scaled(0.4, 0.08)), weight=1.0, way="injection"),
    Cause("track-quick", "the injection follows too quickly and follows the noise", "half of its frequency", _injected(natural=_scaled(3, 8)), weight=0.8, way="injection"),
)  # fmt: skip


def causes_of(way: str) -> tuple[Cause, ...]:
    """Return the causes of a start by ``forced`` angle or by ``injection``."""
    return tuple(c for c in CAUSES if c.way in ("both", way))


@dataclass(frozen=True)
class Seen:
    """What a person sees of a failed start: the ``symptom``; the ``speed`` [rad/s] from which it fell, or that it kept; the ``current`` [A peak] and the length of the commanded ``voltage`` [V, phase peak] then; whether that
    current ``pulses``; whether a start from another place of the rotor ``repeats`` it. What was not looked at is None."""

    symptom: StartSymptom
    speed: float | None = None
    current: float | None = None
    voltage: float | None = None
    pulses: bool | None = None
    repeats: bool | None = None


def seen_of(
    drive: Drive, load: float, angle: float, seed: int, target: float, *, reverse: bool = False
) -> Seen | None:  # fmt: skip
    """Play a start up to ``target`` [rad/s] and say what a person would see of it; None where nothing is wrong."""
    sim = Simulation(drive, seed=seed)
    sim.state[state.THETA] = angle
    sim.set_load(load)
    hand_over = hand_over_of(drive)
    sim.command(SPEED, speed=-target if reverse else target)
    most = longest(drive) + (target / hand_over - BEYOND) * hand_over / drive.control.ramp
    chunk = max(math.pi / (drive.machine.pole_pairs * hand_over), 8 * drive.control.ts)
    speeds, torques, currents, volts, closed = [], [], [], [], None
    while sim.time < most:
        sim.skip(chunk)
        speeds.append(sim.speed)
        torques.append(float(sim.state[state.IQ_REF]))
        currents.append(math.hypot(sim.state[state.ID], sim.state[state.IQ]))
        volts.append(math.hypot(sim.state[state.VD], sim.state[state.VQ]))
        if closed is None and sim.state[state.PHASE] == state.CLOSED:
            closed = sim.time
        if sim.state[state.FAULT] != NO_FAULT:
            break
    w, iq, i = np.array(speeds), np.array(torques), np.array(currents)
    fault = sim.state[state.FAULT] != NO_FAULT
    tail = max(len(w) // 8, 3)
    last = float(np.mean(w[-tail:]))
    if reverse or last < -0.3 * hand_over:
        symptom: StartSymptom = "wrong-way"
    elif closed is None or fault:
        if fault and closed is not None:
            symptom = "trips"
        else:
            symptom = "falls-back" if float(np.max(w)) > 0.5 * hand_over and _followed(w, hand_over) else "rocks"
    elif last < 0.9 * target:
        symptom = "no-more"
    else:
        surge = float(np.std(w[-tail:])) / target
        work = float(np.std(iq[-tail:])) / max(drive.control.i_limit, 1e-9)
        if surge <= 0.04 and work <= 0.25:
            return None
        symptom = "howls"
    # the current before it fell, or what it keeps; a tripped drive has none any more
    peak = int(np.argmax(np.abs(w))) if symptom in ("falls-back", "trips") else len(w) - 1
    before = i[max(peak - tail, 0) : peak + 1]
    mean = float(np.mean(before))
    return Seen(
        symptom, float(np.max(np.abs(w[max(peak - tail, 0) : peak + 1]))), mean,
        float(np.mean(volts[max(peak - tail, 0) : peak + 1])), pulses=float(np.std(before)) > 0.2 * max(mean, 1e-9),
    )  # fmt: skip


def _followed(w: np.ndarray, hand_over: float) -> bool:
    """Tell whether the rotor turned with the field for a while: it kept a mean speed, not only swung."""
    width = max(len(w) // 12, 2)
    smooth = np.convolve(w, np.ones(width) / width, mode="valid") if len(w) >= width else w
    return bool(np.max(smooth) > 0.3 * hand_over)


@dataclass(frozen=True)
class Likelihoods:
    """``of`` by cause, those of this bench's way to start: what its trials showed (None: nothing wrong); how many trials each had, and the scales of speed [rad/s], current [A]
    and voltage [V] below which a person reads no difference."""

    of: dict[str, tuple[Seen | None, ...]]
    draws: int
    speed: float
    current: float
    voltage: float


def cause_likelihoods(bench: Bench, *, draws: int | None = None, seed: int = 3) -> Likelihoods:
    """Try every cause on the bench's drive; raises Refusal as the start's design does."""
    draws = draws or DRAWS
    drive, _ = drive_for_start(bench)
    base = with_floats(drive)
    study: StartStudy = study_of(bench)
    target = target_of(bench, base)
    found: dict[str, tuple[Seen | None, ...]] = {}
    ours = causes_of(bench.settings.start_up.standstill)
    for place, cause in enumerate(CAUSES):  # each keeps its own draws, whichever others are tried
        if cause in ours:
            rng = np.random.default_rng([seed, place])
            found[cause.key] = tuple(
                trial(base, cause, (k + 0.5) / draws, study.rated_torque, target=target, rng=rng) for k in range(draws)
            )
    return Likelihoods(
        found,
        draws,
        0.05 * hand_over_of(base),
        0.03 * max(base.start.rows[::START_COLUMNS]),
        voltage=0.01 * base.inverter.v_supply,
    )


def target_of(bench: Bench, drive: Drive) -> float:
    """Return the speed [rad/s] up to which trials go."""
    return max(_OF_TOP * bench.settings.plate.top_speed, 2 * hand_over_of(drive))


def trial(
    drive: Drive, cause: Cause, severity: float, rated: float, target: float, rng: np.random.Generator
) -> Seen | None:
    """Return what a person sees with a cause at a severity of 0 to 1, also of whether it repeats: it is started from several places of the rotor."""
    made, load = cause.make(drive, severity), cause.load * rated * (0.5 + 0.8 * severity)
    first: Seen | None = None
    for k in range(_PLACES):
        seen = seen_of(
            made, load, float(rng.uniform(0, 2 * math.pi)), int(rng.integers(1, 2**31)), target=target, reverse=cause.reverse
        )
        if k == 0:
            first = seen
        if first is None:
            break
        if seen is None or seen.symptom != first.symptom:
            return replace(first, repeats=False)
    return None if first is None else replace(first, repeats=True)


@dataclass(frozen=True)
class Ranked:
    """A cause with its probability in the light of what was seen."""

    cause: Cause
    probability: float


def rank(seen: Seen, trials: Sequence[StartTrial], likelihoods: Likelihoods) -> list[Ranked]:
    """Rank the causes of what is seen now by Bayes' rule, the likeliest first; a change that was tried and did not help sets its cause back."""
    tried = {t.changed for t in trials if t.changed}
    causes = [c for c in CAUSES if c.key in likelihoods.of]
    weights = {
        c.key: c.weight * _likelihood(seen, likelihoods, c.key) * (_TRIED if c.key in tried else 1.0) for c in causes
    }
    total = sum(weights.values())
    ranked = [Ranked(c, weights[c.key] / total) for c in causes]
    return sorted(ranked, key=lambda r: (-r.probability, r.cause.text))


def ties(ranked: Sequence[Ranked]) -> list[Ranked]:
    """Return the causes that what was seen cannot tell from the first, itself among them."""
    return [r for r in ranked if r.probability > _TIE * ranked[0].probability]


def _likelihood(seen: Seen, likelihoods: Likelihoods, key: str) -> float:
    """Return how well a cause's trials agree with what was seen; a little stays for what was not simulated."""
    kernels = [_agreement(seen, shown, likelihoods) for shown in likelihoods.of[key] if shown is not None]
    return (sum(kernels) + 0.2 * _agreement(seen, None, likelihoods)) / (likelihoods.draws + 0.2 * len(SYMPTOMS))


def _agreement(seen: Seen, shown: Seen | None, likelihoods: Likelihoods) -> float:
    """Return the agreement of what is seen with one trial, 0 to 1; with None, what a trial that was not simulated would have on the average."""
    if shown is not None and shown.symptom != seen.symptom:
        return 0.0
    found = 1.0
    for name, least in (
        ("speed", likelihoods.speed),
        ("current", likelihoods.current),
        ("voltage", likelihoods.voltage),
    ):
        read = getattr(seen, name)
        if read is None:
            continue
        if shown is None:
            found *= 0.3
            continue
        apart = math.log((abs(read) + least) / (getattr(shown, name) + least)) / _READING
        found *= 0.02 + 0.98 * math.exp(-0.5 * apart**2)
    for name in ("pulses", "repeats"):
        read = getattr(seen, name)
        if read is not None:
            found *= 0.5 if shown is None else 0.9 if read == getattr(shown, name) else 0.1
    return found


def look_next(seen: Seen, trials: Sequence[StartTrial], likelihoods: Likelihoods) -> str:
    """Return which observation tells most beside those that were made (a field of ``Seen``); empty where none tells much.

    For each, what every likely trial would show is taken in turn, and the doubt (entropy) that is left is averaged.
    """
    now = rank(seen, trials, likelihoods)
    before, chance = _doubt(now), {r.cause.key: r.probability for r in now}
    best, gained = "", _WORTH
    for name in (n for n in ("speed", "repeats", "pulses", "current", "voltage") if getattr(seen, n) is None):
        left, weight = 0.0, 0.0
        for key, shown in likelihoods.of.items():
            agreeing = [t for t in shown if t is not None and t.symptom == seen.symptom]
            for t in agreeing:
                share = chance[key] / len(agreeing)
                if share < 0.01:
                    continue
                left += share * _doubt(rank(replace(seen, **{name: getattr(t, name)}), trials, likelihoods))
                weight += share
        if weight > 0 and before - left / weight > gained:
            best, gained = name, before - left / weight
    return best


def _doubt(ranked: Sequence[Ranked]) -> float:
    return -sum(r.probability * math.log(r.probability) for r in ranked if r.probability > 0)


#: What can be looked at beside the symptom, as a sentence asks for it.
LOOKS = {
    "speed": "the speed from which it fell, or that it keeps",
    "current": "the current just before",
    "voltage": "the voltage that the drive gave just before",
    "pulses": "whether the current pulses",
    "repeats": "whether it does the same from another place of the rotor",
}


def said(seen: Seen) -> str:
    """Return what was seen as a line of the log."""
    parts = [SYMPTOMS[seen.symptom]]
    if seen.speed is not None:
        parts.append(f"{grouped(seen.speed * 30 / math.pi)} rpm")
    if seen.current is not None:
        parts.append(show(seen.current, "A"))
    if seen.voltage is not None:
        parts.append(show(seen.voltage, "V"))
    if seen.pulses is not None:
        parts.append("current pulses" if seen.pulses else "current steady")
    if seen.repeats is not None:
        parts.append("each time" if seen.repeats else "not each time")
    return ", ".join(parts)


def log_trial(bench: Bench, seen: Seen, changed: str, when: str) -> Bench:
    """Return the bench with one more trial in its log: what was changed before it (a cause's key, or nothing) and what was seen."""
    text = said(seen)
    change = next((c.change for c in CAUSES if c.key == changed), "")
    line = LedgerEntry(
        when=when, kind="note", text=f"start failed: {text}" + (f", after: {change}" if change else "")
    )
    trial = StartTrial(symptom=seen.symptom, changed=changed if change else "", when=when)
    return bench.model_copy(update={"start_trials": (*bench.start_trials, trial), "ledger": (*bench.ledger, line)})
