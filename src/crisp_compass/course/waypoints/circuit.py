"""The circuit of an induction motor: a no-load and a locked test, and the decay after cut-off."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.circuit import solved_circuit, usual_magnetizing
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.course.waypoint import Proposal, Section, Waypoint
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.decay import fit_decay
from crisp_compass.identify.phasors import SteadyState, steady_state
from crisp_compass.motor import family_of
from crisp_compass.plausible import limits
from crisp_compass.quantities import show
from crisp_compass.sensing import SENSORS

_SIGNALS = ("v_ab", "v_bc", "i_a", "i_b")
#: Impedance over rated voltage by rated current from which a test is one at no load, and without a plate's figures the power factor.
_FREE, _FACTOR = 0.7, 0.35


@dataclass(frozen=True)
class MotorTest:
    """A steady test: its phasors, and whether the shaft was held."""

    state: SteadyState
    held: bool
    method: str
    findings: tuple[Finding, ...]


def _read(bench: Bench, capture: Capture) -> MotorTest:
    family_of_capture(capture, "induction")
    state = steady_state(capture)
    plate, size = bench.settings.plate, abs(state.impedance)
    noted = capture.notes.get("test", "").strip().lower()
    if noted:
        held = noted.startswith("lock")
    elif plate.rated_voltage:
        held = size < _FREE * math.sqrt(2 / 3) * plate.rated_voltage / rated_peak(plate)
    else:
        held = state.impedance.real / size > _FACTOR
    name = "rotor locked" if held else "shaft free"
    method = f"{name}, {state.omega / (2 * math.pi):.4g} Hz, positive sequence"
    return MotorTest(state, held, method, capture.findings)


def _quantities(_: Bench, __: Capture, result: MotorTest) -> dict[str, Quantity]:
    """Return what the circuit is solved from. The covariance of voltage and current becomes that of their quotient."""
    s = result.state
    z, i = s.impedance, abs(s.i1)
    # positive-sequence voltage and current are independent; both parts of either have the same variance
    u = math.hypot(math.sqrt(s.covariance[0, 0]) / i, abs(z) / i * math.sqrt(s.covariance[2, 2]))

    def value(x: float, unit: str, bar: float | None = None) -> Quantity:
        interval = None if bar is None else (x - 1.96 * bar, x + 1.96 * bar)
        return Quantity(value=x, unit=unit, u=bar, interval95=interval)

    return {
        "test_resistance": value(z.real, "Ω", u), "test_reactance": value(z.imag, "Ω", u), "frequency": value(s.omega / (2 * math.pi), "Hz"),
        "voltage": value(abs(s.v1), "V"), "current": value(i, "A"), "power": value(s.power, "W"), "copper_current": value(math.sqrt(s.square), "A"),
        "wander": value(s.wander, ""), "unbalance": value(abs(s.v2) / abs(s.v1), ""),
    }  # fmt: skip


_NEEDS = ("frequency", "voltage", "current", "power", "copper_current", "wander", "unbalance")


def _propose(bench: Bench, _: Evidence) -> Proposal | None:
    found = solved_circuit(bench)
    if found is None:
        raise Refusal("a no-load and a locked test are needed", "load the other one too")
    typed = bench.settings.circuit.magnetizing_current
    current = typed if typed is not None else usual_magnetizing(bench, found)
    values = {k: to_quantity(found.estimates[k]) for k in (*_SETTLED, "rotor_time_constant")}
    values["magnetizing_current"] = Quantity(value=current, unit="A")
    return Proposal(
        values,
        f"Tr {show(values['rotor_time_constant'].value, 's')}, LM {show(values['magnetizing_inductance'].value, 'H')}",
        "both tests, one circuit",
        found.method,
        rests_on=("resistance.resistance",),
    )


_SETTLED = ("leakage_inductance", "magnetizing_inductance", "rotor_resistance")


def _test_headline(evidence: Evidence) -> str:
    e = evidence.estimates
    return f"{show(e['voltage'].value, 'V')}, {show(e['current'].value, 'A')} peak at {e['frequency'].value:.4g} Hz"


NO_LOAD = CaptureKind(
    "no_load",
    "circuit",
    _read,
    _test_headline,
    title=", no load",
    section="Tests",
    signals=_SIGNALS,
    rank=50,
    claims=lambda capture, _: set(_SIGNALS) <= set(capture.columns),
    fits=lambda capture: "i_a" in capture,
    refine=lambda _, result: "locked_rotor" if result.held else "no_load",
    quantities=_quantities,
    needs=(("test_resistance", "test_reactance"), _NEEDS),
    propose=_propose,
    sketch="three_phase_test",
    families=("induction",),
    view="motor_test",
)
LOCKED = replace(NO_LOAD, key="locked_rotor", title=", locked rotor", rank=1000, claims=lambda _, __: False)
DECAY = replace(
    NO_LOAD,
    key="rotor_decay",
    title=", decay",
    section="Decay",
    read=lambda _, capture: fit_decay(capture),
    headline=lambda evidence: f"Tr {show(evidence.estimates['rotor_time_constant'].value, 's')}",
    signals=("v_ab", "v_bc", "v_ca"),
    rank=52,
    claims=lambda capture, _: (
        bool({"v_ab", "v_bc", "v_ca"} & set(capture.columns)) and not {"i_a", "i_b"} & set(capture.columns)
    ),
    fits=lambda capture: "i_a" not in capture,
    refine=None,
    quantities=None,
    needs=(("rotor_time_constant",), ()),
    propose=None,
    view="rotor_decay",
)
WAYPOINT = Waypoint(
    "circuit",
    45,
    "Circuit",
    "What circuit is this induction motor?",
    first_step="Take a no-load test at rated voltage and a locked test at a quarter of rated frequency, and drop both captures on the window.",
    settles=limits(
        leakage_inductance="leakage_inductance", magnetizing_inductance="magnetizing_inductance",
        rotor_resistance="rotor_resistance", magnetizing_current="magnetizing_current",
    ),
    needs=("plate", "resistance"),
    applies=lambda bench: family_of(bench).own_circuit,
    headline=lambda settled: f"LM {show(settled.values['magnetizing_inductance'].value, 'H')}",
    captures=(NO_LOAD, LOCKED, DECAY),
    sections=(
        Section("Tests"),
        Section("Decay"),
        Section("Rotor time constant", closes_loops),
        Section("Without a sensor", lambda bench: closes_loops(bench) and not SENSORS[bench.settings.sensor.kind].leads),
        Section("Volts per hertz"),
    ),
)
