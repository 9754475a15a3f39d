"""An induction motor without a sensor on this bench: from which speed its flux can be told and why, what is done below, and which of the ways to run it fits."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.course.sensorless import OFFSET_OF_SCALE, USUAL_FILTER_HZ, full_scale, without_sensor
from crisp_compass.errors import Refusal
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.plant.parameters import Start
from crisp_compass.quantities import grouped, show
from crisp_compass.sensing import SENSORS
from crisp_compass.sensorless.estimator import Estimator

#: Angle by which the flux may be off at the lowest speed, and how far above it the loops close and below that again let go.
MOST_OFF, ABOVE, BELOW = math.radians(12.0), 1.2, 0.7
#: What of the dead time's voltage is left after it is taken off.
DEAD_LEFT = 0.3
#: Share of the forced current's greatest torque that its ramp may take; the rest is for the load.
RAMP_SHARE = 0.4


def observes(bench: Bench) -> bool:
    """Tell whether this bench's firmware orients itself by a flux that nothing but currents and voltages tell."""
    return family_of(bench).own_circuit and closes_loops(bench) and not SENSORS[bench.settings.sensor.kind].leads


@dataclass(frozen=True)
class Lowest:
    """The lowest ``speed`` [rad/s of the shaft] at which the flux's angle is within 12°, the voltage [V] that each doubt makes (``parts``), and the flux [Wb]."""

    speed: float
    parts: dict[str, float]
    flux: float

    @property
    def reason(self) -> str:
        """What makes most of it."""
        return max(self.parts, key=lambda k: self.parts[k])


def lowest_speed(bench: Bench) -> Lowest:
    """Return from which speed the flux can be told at rated current: what is not known of the voltage over ω·ψ is the sine of its angle's error. Raises Refusal where the circuit is not settled."""
    lm, i_flux, r = (need(bench, k) for k in ("circuit.magnetizing_inductance", "circuit.magnetizing_current", "resistance.resistance"))
    current, flux = max(rated_peak(bench.settings.plate), i_flux), lm * i_flux
    dead = settled_value(bench, "pwm.dead_time_voltage")
    parts = {
        "the stator's resistance, warm or cold": bench.settings.circuit.stator_doubt * r * current, "what the dead time's correction leaves": DEAD_LEFT * 4 / math.pi * (dead.value if dead else 0.0),
        "the current sensors' offset": OFFSET_OF_SCALE * full_scale(bench) * r,
    }  # fmt: skip
    return Lowest(sum(parts.values()) / (flux * math.sin(MOST_OFF)) / pole_pairs_of(bench.settings.plate), parts, flux)


def hand_over(bench: Bench) -> float:
    """Return the speed [rad/s] above which the loops close: as entered, else a fifth above the lowest."""
    asked = bench.settings.circuit.hand_over
    return ABOVE * lowest_speed(bench).speed if asked is None else asked


def forced_current(bench: Bench) -> float:
    """Return the current that is turned below [A peak], within the current limit."""
    return min(bench.settings.circuit.forced_share * need(bench, "circuit.magnetizing_current"), bench.settings.run.i_limit)


def forced_torque(bench: Bench) -> float:
    """Return the greatest torque of that current [N·m]: 1.5·p·LM·I²/2, where it stands 45° before the flux (inverse-Γ circuit, steady)."""
    return 0.75 * pole_pairs_of(bench.settings.plate) * need(bench, "circuit.magnetizing_inductance") * forced_current(bench) ** 2


def firmware_of(bench: Bench, ts: float, filter_hz: float) -> tuple[Start, Estimator]:
    """Return what the firmware runs without a sensor: the loop's two lags at twice the speed filter's corner are late by as much as that filter."""
    up, p = hand_over(bench), pole_pairs_of(bench.settings.plate)
    lm, i_flux, leakage, r, rr = (
        need(bench, k) for k in ("circuit.magnetizing_inductance", "circuit.magnetizing_current", "circuit.leakage_inductance", "resistance.resistance", "circuit.rotor_resistance")
    )
    dead = settled_value(bench, "pwm.dead_time_voltage")
    natural = min(2 * 2 * math.pi * (filter_hz or USUAL_FILTER_HZ), 2 * math.pi / (16 * ts))
    estimator = Estimator(
        ts, r, leakage, leakage, psi=lm * i_flux, kind=1.0, kp=2 * natural, ki=natural**2, filter=min(0.2 * up * p, 0.5 / ts), correction=0.5 * up * p, spread=math.radians(20.0), hold=6 * math.pi
    )
    start = Start(
        wait=max(1.0, 3 * lm / rr), lost=max(0.1, 2 * math.pi / (up * p)), low_current=forced_current(bench), low_down=BELOW * up, low_up=up, dead_voltage=dead.value if dead else 0.0,
        low_ramp=RAMP_SHARE * forced_torque(bench) / need(bench, "mechanics.inertia"),
    )  # fmt: skip
    return start, estimator


def check_hand_over(bench: Bench) -> None:
    """Refuse a closing speed that cannot be: beyond what the voltage reaches."""
    asked = bench.settings.circuit.hand_over
    top = bench.settings.plate.rated_speed or bench.settings.plate.top_speed
    if asked is not None and asked > top:
        raise Refusal("the closing speed lies above the rated speed", "a lower one, or leave it empty", field="circuit.hand_over")


def estimates(bench: Bench) -> bool:
    """Tell whether no sensor but an estimate tells this bench's firmware angle and speed."""
    return without_sensor(bench) or observes(bench)


def sure_from(bench: Bench) -> float | None:
    """Return the speed [rad/s] from which that estimate is sure; None with a sensor, or where the start is not settled."""
    if observes(bench):
        return hand_over(bench)
    found = settled_value(bench, "start_up.hand_over")
    return found.value if found is not None and without_sensor(bench) else None


@dataclass(frozen=True)
class Choice:
    """A way to run the motor: its name, whether it does what the lowest speed needs (None: nobody has said which that is), and why (not)."""

    name: str
    fits: bool | None
    why: str


#: Volts over frequency hold a load down to this part of the rated speed (common practice: one to ten).
_HERTZ_REACH = 0.1


def choices(bench: Bench) -> tuple[Choice, ...]:
    """Return the ways to run this motor against the lowest speed that must pull its load."""
    needed, rated = bench.settings.circuit.lowest_needed, bench.settings.plate.rated_speed or bench.settings.plate.top_speed
    closes, down = hand_over(bench), BELOW * hand_over(bench)
    torque, load = forced_torque(bench), abs(bench.settings.run.load)

    def fits(can: bool) -> bool | None:
        return None if needed is None else can

    at = needed or 0.0
    rpm = RPM_PER_RAD_S
    below = f"below a current is turned, up to {show(torque, 'N·m', 3)}" + (f", less than the load of {show(load, 'N·m', 3)}" if load > torque else "")
    return (
        Choice("volts over frequency", fits(at >= _HERTZ_REACH * rated), f"from {grouped(_HERTZ_REACH * rated * rpm)} rpm; slow to answer"),
        Choice("no sensor", fits(at >= down or load <= RAMP_SHARE * torque), f"closed from {grouped(closes * rpm)}, down to {grouped(down * rpm)} rpm; {below}"),
        Choice("encoder", fits(True), "full torque at rest"),
    )
