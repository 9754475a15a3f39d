"""Parameters of the simulated drive. Named tuples, because compiled kernels take them as they are."""

from __future__ import annotations

import math
from typing import Any, NamedTuple, Protocol

from crisp_compass.errors import Refusal
from crisp_compass.sensing.sensor import ENCODER
from crisp_compass.sensorless.estimator import Estimator
from crisp_compass.sensorless.injection import Injected

OFF, SPEED, CURRENT, ALIGN, STEP, HERTZ, MAINS, MOVE, PULSE = range(9)
NO_FAULT, OVER_CURRENT, UNDER_VOLTAGE, STALL, LOST, NO_START, NO_POLE, OVER_VOLTAGE, OVER_SPEED = range(9)
#: Faults of the firmware: a sensor's code that cannot be; no number, which the kernels never give; an overload; a motor that got too warm (plant.warming).
BAD_SENSOR, BAD_READING, OVERLOAD, TOO_HOT = range(9, 13)
#: A shaft too far off the profile of its move.
FOLLOWING = 13
MOST_DELAY = 20
FAULT_NAMES = {
    NO_FAULT: "", OVER_CURRENT: "over-current", UNDER_VOLTAGE: "under-voltage", STALL: "stall", LOST: "angle lost", NO_START: "no start",
    NO_POLE: "pole not told", OVER_VOLTAGE: "over-voltage", OVER_SPEED: "over-speed",
    OVERLOAD: "overload", TOO_HOT: "over-temperature", BAD_SENSOR: "sensor lost", FOLLOWING: "following error",
}  # fmt: skip


class Machine(NamedTuple):
    """Permanent-magnet machine, star equivalent or windings of a two-phase one: Ω, H, H, Wb (phase peak), pole pairs.

    Iron: the incremental inductance of both axes falls to the share ``saturated`` (1: never) around ``i_sat`` [A].
    ``torque_factor`` is 1.5 for three phases and 1 for two; ``detent`` [N·m] the amplitude of a torque with the fourth harmonic of
    the electrical angle, stable where a winding alone would hold the rotor; ``drop`` is a brushed motor's. ``bend`` [1/A]: by what share the
    magnet's own bias lowers Ld for each ampere along the pole, and raises it against it (plant.standstill's law, m/I).
    """

    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float
    saturated: float = 1.0
    i_sat: float = 1.0
    torque_factor: float = 1.5
    detent: float = 0.0
    drop: float = 0.0
    bend: float = 0.0

    @property
    def two_phase(self) -> bool:
        """Whether two windings carry the current."""
        return self.torque_factor == 1.0


class Brushed(NamedTuple):
    """Brushed motor: armature Ω and H (as both axes, so that designs read it like the others), Ke = Kt as ``psi`` [V·s/rad],
    ``drop`` of the brushes [V]."""

    r: float
    ld: float
    lq: float
    psi: float
    drop: float = 0.0
    pole_pairs: float = 1.0
    saturated: float = 1.0
    i_sat: float = 1.0
    torque_factor: float = 1.0
    detent: float = 0.0


class Trapezoid(NamedTuple):
    """Magnet machine phase by phase, star equivalent, its back-EMF with the harmonics ``h3``, ``h5``, ``h7`` (ratios to the
    fundamental ``psi``): e_a = −ω·ψ·(sin θ + h3·sin 3θ + …)."""

    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float
    h3: float = 0.0
    h5: float = 0.0
    h7: float = 0.0
    saturated: float = 1.0
    i_sat: float = 1.0
    torque_factor: float = 1.5
    detent: float = 0.0


class Induction(NamedTuple):
    """Induction machine by its inverse-Γ circuit, a phase of the star: stator ``r`` Ω, leakage ``ld`` = ``lq`` H, ``lm`` H and ``rr`` Ω
    of the rotor; ``psi`` is the rotor flux it is meant to run with [Wb, phase peak]."""

    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float
    lm: float
    rr: float
    saturated: float = 1.0
    i_sat: float = 1.0
    torque_factor: float = 1.5
    detent: float = 0.0


class AnyMachine(Protocol):
    """What the plant can turn: a NamedTuple with these at least, whose kernel is registered (``kernels.KERNELS``)."""

    @property
    def r(self) -> float:
        """Resistance of what the current takes [Ω]."""

    @property
    def ld(self) -> float:
        """Inductance along the rotor's axis [H]."""

    @property
    def lq(self) -> float:
        """Inductance across it [H]."""

    @property
    def psi(self) -> float:
        """Flux linkage that makes torque, or Ke of an armature [Wb]."""

    @property
    def pole_pairs(self) -> float:
        """Pairs of poles."""

    @property
    def saturated(self) -> float:
        """Share to which the incremental inductance falls (1: never)."""

    @property
    def i_sat(self) -> float:
        """Current around which it falls [A]."""

    @property
    def torque_factor(self) -> float:
        """1.5 for three phases, 1 for two windings or an armature."""

    @property
    def detent(self) -> float:
        """Amplitude of the detent torque [N·m]."""


class Load(NamedTuple):
    """Inertia [kg·m²], viscous [N·m·s/rad] and Coulomb friction [N·m]; ``quadratic`` [N·m·s²/rad²] of a propeller or pump, and the torque
    ``breakaway`` [N·m] up to which a resting shaft sticks, where that is more than the Coulomb friction; ``driving`` [N·m] of a weight or of
    wind, which pulls against positive rotation, at rest too.

    With ``second`` [kg·m²] a part of the load stands behind a shaft that twists: ``inertia`` and friction are then those before it, ``stiffness`` [N·m/rad], ``damping`` [N·m·s/rad]
    and ``backlash`` [rad, whole play] those of the shaft; what loads it (weight, brake) acts behind. ``swing`` [N·m] is the amplitude of a torque that comes ``swing_order`` times a turn of the motor's shaft
    (cogging, a crank, a drum that is not round). ``stop_low`` and ``stop_high`` [rad] are ends at which the motor's shaft is stopped hard.
    """

    inertia: float
    viscous: float
    coulomb: float
    quadratic: float = 0.0
    breakaway: float = 0.0
    driving: float = 0.0
    second: float = 0.0
    stiffness: float = 0.0
    damping: float = 0.0
    backlash: float = 0.0
    swing: float = 0.0
    swing_order: float = 1.0
    stop_low: float = -1e18
    stop_high: float = 1e18

    @property
    def whole(self) -> float:
        """Inertia before and behind the coupling, kg·m²."""
        return self.inertia + self.second


class Inverter(NamedTuple):
    """Supply [V] and its resistance [Ω]; ``dead_voltage`` is what one leg of a star, or all legs of a
    winding of its own, lose [V], fully developed above ``knee`` [A].

    With ``capacitance`` [F] the link stores energy (0: it follows the supply at once); a supply that does not ``sink`` takes none back. ``brake_ohm`` [Ω] is a resistor that the
    firmware switches across the link (0: none). With ``mains_hz`` the supply is a rectifier's, whose voltage has so many ``pulses`` a period of the mains (2 of one phase, 6 of three)
    and the height of the supply.
    """

    v_supply: float
    r_supply: float = 0.0
    dead_voltage: float = 0.0
    knee: float = 0.1
    capacitance: float = 0.0
    sink: float = 1.0
    brake_ohm: float = 0.0
    mains_hz: float = 0.0
    pulses: float = 2.0


class Sensing(NamedTuple):
    """Current sensing: full scale [A], converter step [A], noise [A rms], offset of A and B [A]; angle sensor.

    ``sense`` −1 where encoder or halls run against the field (their wires or two motor leads exchanged).
    """

    full_scale: float = 1e9
    step: float = 0.0
    noise: float = 0.0
    offset_a: float = 0.0
    offset_b: float = 0.0
    angle_sensor: float = float(ENCODER)
    counts_per_rev: float = float(1 << 22)
    sense: float = 1.0


class Control(NamedTuple):
    """Firmware: sampling period [s], gains in SI (V/A, V/(A·s), A/(rad/s), A/rad), limits and ramp.

    ``speed_divider`` current steps make one speed step; ``speed_filter`` rad/s (0 for none); ``decouple`` 0 or 1;
    the machine figures it decouples with are its own belief. The defaults are those of a controller that does nothing, and
    is held back by nothing. ``ramp`` in rad/s². ``track_d`` and ``track_q`` are what the
    integrators do at the voltage limit (loops.current.limit_tracking; below 0: Ki·Ts/Kp), ``delay_samples`` the whole delay
    in periods, of which the hold is half a one (0.5 to 20), ``volts_per_bus`` the longest phase vector over the bus, ``microsteps`` the
    entries of a stepper's current table a full step (0: continuous). Where the armature's voltage tells the speed, the share
    ``compensation`` of its drop across ``r`` [Ω, the firmware's belief] is taken off.

    Of induction machines the firmware believes ``lm`` [H] and ``rotor_rate`` = 1/Tr [1/s]; it magnetizes with ``i_flux`` [A peak] until
    that takes the share ``flux_share`` of the voltage there is (0: never), beyond with less as 1/ω, and lets the field go where nothing is asked for ``field_off`` [s] at rest (0: never). Volts over frequency: ``boost`` [V] at rest and
    ``volts_per_rad`` [V·s], the share ``slip_share`` of the slip compensated.
    ``v_max`` [V] and ``speed_trip`` [rad/s], of the speed as the firmware sees it, trip it where they are set; so does a current above
    ``i_continuous`` [A] once the integral of what its square is above that one's reaches ``i2t`` [A²s] (0: never). With ``brakes`` 1 a fault, but too
    much current, shorts the windings instead of letting the shaft coast.
    ``i_weak`` [A] is the most i_d against the magnet (0: i_d stays 0), taken so that the voltage asked for stays at the share ``weak_share`` of
    the limit, with the rate ``weak_rate`` [1/s].
    ``set_point`` [rad/s] is the corner of a first-order filter of the speed's reference (0: none), which the share ``set_weight`` of it passes by. With ``jerk`` [rad/s³] the
    ramp's acceleration builds and fades (0: at once). Ahead of the PI stand ``ahead_inertia`` [A per rad/s²], ``ahead_viscous`` [A per rad/s] and ``ahead_coulomb`` [A] of the
    reference. Torque that brakes is taken back from ``fold_start`` [V] of the bus on, to none at ``fold_end`` (0: never); the brake resistor is switched on above ``brake_on`` [V] and
    off below ``brake_off``. What the speed loop asks for goes the share ``torque_share`` of the way a speed step (1: no low-pass) and passes a notch (loops.filters.Notch). A stepped field that stood for ``idle_after`` [s] is
    held with the share ``idle_share`` of its current.
    Below ``slow_below`` [rad/s] (0: nowhere) the speed loop runs with the share s = ``slow_share`` of its bandwidth, Kp·s and Ki·s²; up to twice that speed s grows to 1.
    A position is held with the gain ``kv`` [1/s] and the share ``ahead_speed`` of the profile's speed; the profile keeps within ``move_speed`` [rad/s] and ``move_accel`` [rad/s²] and is the mean of
    ``move_steps`` speed steps (1: as it is). A shaft further off than ``follow_limit`` [rad] is a fault (0: never); one that came within ``window`` [rad] of
    the end of its move is left standing until it is twice as far off (0: never).
    Torque that drives is taken back below ``low_start`` [V] of the bus, to none at ``low_end`` (0: never). The speed loop takes no more than ``power_from`` [W] from the bus and gives no more than
    ``power_into`` [W] to it (0: any), by the torque constant ``power_kt`` [N·m/A] and ``power_r`` [Ω], whose loss is that times the current's square.
    While a torque is held, ``roll`` [A] is added the way that the shaft turns, fully from ``roll_knee`` [rad/s] on (0: always forwards).
    An encoder watches a stepped field where ``lost_limit`` [rad] is above 0: a shaft further off the field has lost steps. The field then goes to where the shaft is, stands for ``settle`` [s], and
    moves again with the share ``slower`` of its acceleration, up to ``corrections`` times; then it is a fault, at which the field stands (``lost_holds`` 1) or the bridge is off.
    ``block`` 1 commutates in six steps, ``advance`` [rad, electrical] ahead of the sector's edge: one current [A] through two
    phases, which the speed loop then asks for.
    """

    ts: float
    kp_d: float = 0.0
    ki_d: float = 0.0
    kp_q: float = 0.0
    ki_q: float = 0.0
    speed_divider: float = 10.0
    kp_speed: float = 0.0
    ki_speed: float = 0.0
    speed_filter: float = 0.0
    i_limit: float = 1e9
    i_trip: float = 1e9
    v_min: float = 0.0
    ramp: float = 1.0
    stall_time: float = 10.0
    decouple: float = 0.0
    ld: float = 0.0
    lq: float = 0.0
    psi: float = 0.0
    angle_offset: float = 0.0
    track_d: float = -1.0
    track_q: float = -1.0
    delay_samples: float = 1.5
    volts_per_bus: float = 1 / math.sqrt(3)
    microsteps: float = 0.0
    r: float = 0.0
    compensation: float = 0.0
    lm: float = 0.0
    rotor_rate: float = 0.0
    i_flux: float = 0.0
    flux_share: float = 0.0
    boost: float = 0.0
    volts_per_rad: float = 0.0
    slip_share: float = 0.0
    block: float = 0.0
    advance: float = 0.0
    v_max: float = 1e9
    speed_trip: float = 1e9
    i_continuous: float = 0.0
    i2t: float = 0.0
    brakes: float = 0.0
    i_weak: float = 0.0
    weak_share: float = 0.95
    weak_rate: float = 0.0
    set_point: float = 0.0
    set_weight: float = 0.0
    jerk: float = 0.0
    ahead_inertia: float = 0.0
    ahead_viscous: float = 0.0
    ahead_coulomb: float = 0.0
    torque_share: float = 1.0
    fold_start: float = 0.0
    fold_end: float = 0.0
    brake_on: float = 1e9
    brake_off: float = 1e9
    notch_b0: float = 1.0
    notch_b1: float = 0.0
    notch_b2: float = 0.0
    notch_a1: float = 0.0
    notch_a2: float = 0.0
    idle_share: float = 1.0
    idle_after: float = 0.5
    field_off: float = 0.0
    slow_below: float = 0.0
    slow_share: float = 1.0
    kv: float = 0.0
    ahead_speed: float = 1.0
    move_speed: float = 1.0
    move_accel: float = 1.0
    move_steps: float = 1.0
    follow_limit: float = 0.0
    window: float = 0.0
    low_start: float = 0.0
    low_end: float = 0.0
    power_from: float = 0.0
    power_into: float = 0.0
    power_kt: float = 0.0
    power_r: float = 0.0
    roll: float = 0.0
    roll_knee: float = 0.0
    lost_limit: float = 0.0
    settle: float = 0.1
    corrections: float = 0.0
    slower: float = 1.0
    lost_holds: float = 0.0


#: Rows of a start sequence, and what each holds: current [A], speed at its end [rad/s], duration [s], whether the estimator may take over.
START_ROWS, START_COLUMNS = 6, 4


class Start(NamedTuple):
    """How the firmware starts a motor that has no sensor.

    ``rows`` holds ``used`` rows of START_COLUMNS; rows that end at rest align, each a quarter turn on from the one before. The estimate takes over
    where its row allows, it is valid and the current leads the rotor by ``ahead_least`` to ``ahead_most`` [rad]; within ``wait`` [s] after
    the last row, else the start has failed. i_d fades within ``blend`` [s]. An estimate lost for ``lost`` [s] is a fault. Zero current is
    held for ``catch`` [s] first, to find a motor that turns already. Below ``low_down`` [rad/s] the firmware goes back to a current ``low_current`` [A] at a
    forced angle until ``low_up``. ``dead_voltage`` [V] is what it believes one leg loses. A start that failed is tried again up to ``retries``
    times, each after the bridge was off for ``wait`` [s]. An induction motor's field is turned at a forced angle along ``low_ramp`` [rad/s²] at most.
    """

    rows: tuple[float, ...] = (0.0,) * (START_ROWS * START_COLUMNS)
    used: float = 0.0
    ahead_least: float = -math.radians(20.0)
    ahead_most: float = math.radians(110.0)
    wait: float = 0.5
    blend: float = 0.05
    lost: float = 0.02
    catch: float = 0.0
    low_current: float = 0.0
    low_down: float = 0.0
    low_up: float = 0.0
    dead_voltage: float = 0.0
    retries: float = 0.0
    low_ramp: float = 0.0


class Drive(NamedTuple):
    """Everything that stays fixed while the drive runs."""

    machine: Any  # an AnyMachine: each kernel takes its own
    load: Load
    inverter: Inverter
    sensing: Sensing
    control: Control
    start: Start = Start()
    estimator: Estimator = Estimator(1.0, 0.0, 0.0, 0.0, psi=0.0)
    injected: Injected = Injected()


#: A shaft that nothing turns.
LOCKED = Load(1e12, 0.0, 0.0)


def locked_rotor(machine: AnyMachine, control: Control, inverter: Inverter, sensing: Sensing | None = None) -> Drive:
    """Return a drive whose shaft is held, seen by sensors without fault unless others are given."""
    return Drive(machine, LOCKED, inverter, sensing or Sensing(), control=control)


def check(drive: Drive) -> None:
    """Refuse a drive that cannot be simulated (zero inertia, inductance, period)."""
    needed = {
        "resistance": drive.machine.r, "d inductance": drive.machine.ld, "q inductance": drive.machine.lq,
        "pole pairs": drive.machine.pole_pairs, "inertia": drive.load.inertia, "supply": drive.inverter.v_supply,
        "sampling period": drive.control.ts,
    }  # fmt: skip
    if not (0 < drive.machine.saturated <= 1 and drive.machine.i_sat > 0):
        raise Refusal("the saturation curve of the simulated machine is not possible", "settle the inductance again")
    if not 0.5 <= drive.control.delay_samples <= MOST_DELAY:
        raise Refusal(
            f"a delay of {drive.control.delay_samples:g} periods cannot be simulated", f"0.5 to {MOST_DELAY} can"
        )
    for name, value in needed.items():
        if not (value > 0 and math.isfinite(value)):
            raise Refusal(f"the {name} of the simulated drive is {value:g}", "a value above zero is needed")
