"""The circuit of an induction motor from the bench's captures, what plate and decay say to it, and what both firmwares make of it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, FloatArray
from crisp_compass.identify.induction import InductionResult, solve_tests
from crisp_compass.identify.phasors import SteadyState
from crisp_compass.motor import pole_pairs_of
from crisp_compass.quantities import show

#: What a no-load current usually is of the rated one (common practice).
_USUAL = (0.25, 0.60)


def newest(bench: Bench, kind: str) -> Evidence | None:
    """Return the newest capture of a kind of test."""
    found = [e for e in bench.evidence.get("circuit", ()) if e.kind == kind]
    return found[-1] if found else None


def state_of_test(evidence: Evidence) -> SteadyState:
    """Return the steady state that a test's estimates hold, its voltage turned to the current's phase."""
    e = {k: q.value for k, q in evidence.estimates.items()}
    u = {k: q.u or 0.0 for k, q in evidence.estimates.items()}
    i = e["current"]
    # what is not known of the impedance is put into the voltage: their quotient is what the circuit rests on
    covariance = np.diag([(i * u["test_resistance"]) ** 2, (i * u["test_reactance"]) ** 2, 0.0, 0.0])
    none: FloatArray = np.empty(0)
    return SteadyState(
        2 * math.pi * e["frequency"], i * complex(e["test_resistance"], e["test_reactance"]), complex(i),
        e["unbalance"] * e["voltage"] + 0j, i2=0j, power=e["power"], square=e["copper_current"] ** 2, covariance=covariance, wander=e["wander"], time=none, measured=none, model=none,
    )  # fmt: skip


def rated_hertz(bench: Bench) -> float:
    """Return the frequency on the plate, Hz; nought where a plate has none."""
    return float(getattr(bench.settings.plate, "mains_hz", 0.0))


def stator_of(bench: Bench) -> Estimate:
    """Return the settled stator resistance; raises Refusal where it is not settled."""
    need(bench, "resistance.resistance")
    quantity = settled_value(bench, "resistance.resistance")
    assert quantity is not None
    u = quantity.u_repeat if quantity.u_repeat is not None else quantity.u
    return Estimate.from_u(quantity.value, "Ω", u or 0.0)


def solved_circuit(bench: Bench) -> InductionResult | None:
    """Return the circuit of the newest no-load and locked tests; None while one is missing, Refusal where they contradict each other.

    The instruments' gains are common to all tests: they scale every impedance alike and leave the time constant as it is.
    """
    free, held = newest(bench, "no_load"), newest(bench, "locked_rotor")
    if free is None or held is None:
        return None
    found = solve_tests(
        state_of_test(free), state_of_test(held), stator=stator_of(bench), sources=(free.file, held.file)
    )
    instruments = bench.settings.instruments
    gain = math.hypot(instruments.v_gain, instruments.i_gain)
    scaled = {k: e.widened(gain * e.value) if e.unit in ("Ω", "H") else e for k, e in found.estimates.items()}
    return replace(found, estimates=scaled)


def usual_magnetizing(bench: Bench, found: InductionResult) -> float:
    """Return the current [A peak] that rated voltage and frequency magnetize with; without them that of the no-load test."""
    plate = bench.settings.plate
    volts = plate.rated_voltage
    hertz = rated_hertz(bench)
    if not volts or not hertz:
        return found.estimates["no_load_current"].value
    e = {k: q.value for k, q in found.estimates.items()}
    omega = 2 * math.pi * hertz
    whole = e["leakage_inductance"] + e["magnetizing_inductance"]
    return math.sqrt(2 / 3) * volts / math.hypot(e["stator_resistance"], omega * whole)


@dataclass(frozen=True)
class LossSplit:
    """Losses [W] at the highest no-load voltage: stator ``copper``, ``iron`` and ``friction``; by ``points`` voltages."""

    copper: float
    iron: float
    friction: float
    points: int


def loss_split(bench: Bench, stator: float) -> LossSplit | None:
    """Split the no-load loss: what grows with the voltage squared is iron, the rest friction (IEEE Std 112, segregation of
    losses, from memory). None with fewer than two voltages that differ by a tenth."""
    tests = [e.estimates for e in bench.evidence.get("circuit", ()) if e.kind == "no_load"]
    if len(tests) < 2:
        return None
    square = np.array([t["voltage"].value ** 2 for t in tests])
    copper = np.array([stator * t["copper_current"].value ** 2 for t in tests])
    rest = np.array([t["power"].value for t in tests]) - copper
    if float(np.ptp(np.sqrt(square))) < 0.1 * math.sqrt(float(np.max(square))):
        return None
    slope, constant = np.polyfit(square, rest, 1)
    top = int(np.argmax(square))
    iron, friction = max(float(slope * square[top]), 0.0), max(float(constant), 0.0)
    return LossSplit(float(copper[top]), iron, friction, len(tests))


def circuit_findings(bench: Bench, found: InductionResult) -> list[Finding]:
    """Compare tests, decay and plate."""
    findings = list(found.findings)
    plate, e = bench.settings.plate, {k: q.value for k, q in found.estimates.items()}
    rated = rated_peak(plate)
    free = newest(bench, "no_load")
    drawn = free.estimates["current"].value if free is not None else e["no_load_current"]
    share = drawn / rated
    if share > 1.0:
        text = f"At no load the motor draws {show(drawn, 'A')} peak, more than its rated {show(rated, 'A')}: switch off. A winding for the lower voltage is connected to the higher one (delta instead of star), or the voltage is too high for this frequency."
        findings.append(Finding("stop", "no-load-above-rated", text))
    elif not _USUAL[0] <= share <= _USUAL[1]:
        text = f"The no-load current is {100 * share:.0f} % of rated; {100 * _USUAL[0]:.0f} to {100 * _USUAL[1]:.0f} % is usual (common practice): check star or delta, and voltage over frequency."
        findings.append(Finding("caution", "no-load-unusual", text))
    decay = newest(bench, "rotor_decay")
    if decay is not None:
        tr, other = found.estimates["rotor_time_constant"], decay.estimates["rotor_time_constant"]
        apart, bar = other.value / tr.value - 1, 3 * math.hypot(tr.u / tr.value, (other.u or 0.0) / other.value)
        if abs(apart) > max(0.1, bar):
            text = f"The decay after cut-off says a rotor time constant of {show(other.value, 's')}, the tests {show(tr.value, 's')}, {100 * apart:+.0f} %: the rotor was warmer or colder, or its iron saturates at full voltage."
            findings.append(Finding("caution", "decay-differs", text.replace("-", "−", 1) if apart < 0 else text))
    return [*findings, *_against_plate(bench, e)]


def _against_plate(bench: Bench, e: dict[str, float]) -> list[Finding]:
    """Compare the torque that the circuit makes at the plate's slip and voltage with the plate's own."""
    plate = bench.settings.plate
    volts, power, speed = plate.rated_voltage, plate.rated_power, plate.rated_speed
    hertz = rated_hertz(bench)
    if not (volts and power and speed and hertz):
        return []
    omega, p = 2 * math.pi * hertz, pole_pairs_of(plate)
    slip = 1 - speed * p / omega
    if slip <= 0:
        return []
    rotor = 1 / (1 / (1j * omega * e["magnetizing_inductance"]) + slip / e["rotor_resistance"])
    current = math.sqrt(2 / 3) * volts / abs(e["stator_resistance"] + 1j * omega * e["leakage_inductance"] + rotor)
    torque, stated = 1.5 * current**2 * rotor.real * p / omega, power / speed
    ratio = torque / stated
    if 0.75 < ratio < 1.35:
        return []
    text = f"At the plate's speed this circuit makes {show(torque, 'N·m')}, the plate says {show(stated, 'N·m')}: a factor of {ratio:.2g}. Cold copper explains up to a third; beyond that look at star or delta of the tests, and at the plate's speed."
    return [Finding("caution", "torque-differs", text)]


@dataclass(frozen=True)
class Hertz:
    """Volts over frequency: ``boost`` [V peak] at rest, ``volts_per_rad`` [V·s]; ``knee`` [rad/s, electrical] where the voltage ends."""

    boost: float
    volts_per_rad: float
    knee: float


def hertz_law(bench: Bench) -> Hertz:
    """Return the line through boost·I0·Rs at rest and rated voltage at rated frequency; raises Refusal where one is missing."""
    plate = bench.settings.plate
    hertz = rated_hertz(bench)
    current = need(bench, "circuit.magnetizing_current")
    if hertz <= 0:
        raise Refusal("the plate has no frequency", "enter it on the plate", field="plate.mains_hz")
    omega = 2 * math.pi * hertz
    volts = math.sqrt(2 / 3) * plate.rated_voltage if plate.rated_voltage else None
    if volts is None:
        whole = need(bench, "circuit.leakage_inductance") + need(bench, "circuit.magnetizing_inductance")
        volts = current * math.hypot(need(bench, "resistance.resistance"), omega * whole)
    boost = bench.settings.circuit.boost_share * current * need(bench, "resistance.resistance")
    if boost >= volts:
        raise Refusal(
            f"a boost of {show(boost, 'V')} is no less than the rated {show(volts, 'V')} peak of a phase",
            "choose a smaller boost, or check the stator resistance",
            field="circuit.boost_share",
        )
    slope = (volts - boost) / omega
    return Hertz(boost, slope, max((usable_voltage(bench).motor - boost) / slope, 0.0))


@dataclass(frozen=True)
class WrongRotor:
    """What a wrong rotor time constant does at i_q (n,) [A]: true ``torque`` and what was ``asked`` for (n,) [N·m], ``flux`` (n,) over
    its wanted value, ``lag`` (n,) [rad] of the firmware's frame before the true flux."""

    i_q: FloatArray
    asked: FloatArray
    torque: FloatArray
    flux: FloatArray
    lag: FloatArray


def wrong_rotor(bench: Bench, error: float) -> WrongRotor:
    """Return the steady state under a rotor time constant wrong by the share ``error``: the slip is forced, so the rotor equation
    alone tells the flux, ψ = RR·i/(RR/LM + jω_slip) in the firmware's frame. Raises Refusal where something is not settled."""
    lm, rr, i_d = (
        need(bench, f"circuit.{k}") for k in ("magnetizing_inductance", "rotor_resistance", "magnetizing_current")
    )
    p = pole_pairs_of(bench.settings.plate)
    i_q = np.linspace(0.0, 1.2, 61) * max(math.sqrt(max(rated_peak(bench.settings.plate) ** 2 - i_d**2, 0.0)), i_d)
    rate = rr / lm
    slip = rate / (1 + error) * i_q / i_d
    i = i_d + 1j * i_q
    psi = rr * i / (rate + 1j * slip)
    torque = 1.5 * p * np.imag(np.conj(psi) * i)
    return WrongRotor(i_q, 1.5 * p * lm * i_d * i_q, torque, np.abs(psi) / (lm * i_d), lag=-np.angle(psi))
