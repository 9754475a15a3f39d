"""Models of the bench file. Everything is SI; every number stands beside its unit. All models are frozen."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError, model_validator

from crisp_compass.bench.ranges import (
    CHECK_READINGS,
    MORE_VALUES,
    Ampere,
    AmpereOrNone,
    Bus,
    Digest,
    Duration,
    Finite,
    HallCode,
    Henry,
    Inertia,
    Key,
    Long,
    Loop,
    Name,
    Ohm,
    Order,
    Speed,
    SpeedOrRest,
    Text,
    Torque,
    TorqueSome,
    ValueKey,
    Viscous,
    Volt,
    Watt,
    Weber,
    When,
)
from crisp_compass.bench.registry import rules
from crisp_compass.quantities import UNITS

FORMAT = 5

Scheme = Literal["sine", "space-vector", "third-harmonic", "clamped-low", "clamped-high", "clamped-60", "six-step"]
#: Key of a waypoint that settles something; which there are, the registry of waypoints says.
Topic = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z_]{0,20}$")]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Quantity(_Frozen):
    """A value with unit and, where it was estimated, its standard uncertainty and 95 % interval."""

    value: Finite
    unit: str
    u: Finite | None = None
    u_repeat: Finite | None = Field(
        default=None, description="the part of u that a repeat with the same instruments shows"
    )
    interval95: tuple[Finite, Finite] | None = None

    @model_validator(mode="after")
    def _possible(self) -> Self:
        if self.unit not in UNITS:
            raise ValueError(f"the unit “{self.unit[:20]}” is unknown")
        if self.u is not None and self.u < 0:
            raise ValueError("an uncertainty cannot be negative")
        if self.interval95 is not None and self.interval95[0] > self.interval95[1]:
            raise ValueError("the interval's lower limit exceeds its upper limit")
        return self


class FoundNote(_Frozen):
    """A finding kept with the evidence."""

    level: Literal["info", "caution", "stop"]
    code: Name
    text: Long


class HallSector(_Frozen):
    """One row of the hall table, degrees of electrical angle for positive rotation."""

    center_deg: Finite
    from_deg: Finite
    to_deg: Finite
    drive: Literal["A+B-", "A+C-", "B+C-", "B+A-", "C+A-", "C+B-"]


class HallRecord(_Frozen):
    """A hall table as found."""

    spacing_deg: Literal[60, 120]
    direction: Literal[-1, 1]
    states: dict[HallCode, HallSector]
    edge_errors_deg: tuple[Finite, Finite, Finite, Finite, Finite, Finite]


class Evidence(_Frozen):
    """A capture and what was estimated from it."""

    file: Text = Field(description="Path relative to the bench file")
    sha256: Digest
    kind: Key = Field(description="Kind of capture, e.g. staircase")
    columns: tuple[str, ...] = Field(default=(), description="Column mappings NAME=[-]SOURCE[*FACTOR]")
    when: When
    method: Text = ""
    estimates: dict[Key, Quantity] = {}
    findings: tuple[FoundNote, ...] = ()
    halls: HallRecord | None = None


class Settled(_Frozen):
    """What a person settled: the values, the reason, and the inputs they rest on (``topic.name`` → value then)."""

    values: dict[Key, Quantity]
    method: Text = ""
    reason: Text
    when: When
    rests_on: dict[str, Finite] = {}
    settings: dict[str, float | int | str | None] = Field(
        default={}, description="fields as they stood when this was settled"
    )
    halls: HallRecord | None = None


class LedgerEntry(_Frozen):
    """One line of the ledger: a typed reading, a settled value, a note or a verdict."""

    when: When
    kind: Name
    text: Text
    value: Quantity | None = None


Family = Literal["sinusoidal", "trapezoidal", "stepper", "induction", "brushed"]


Kv = Annotated[float, Field(ge=1e-3, le=1e6, allow_inf_nan=False)]
Kt = Annotated[float, Field(ge=1e-6, le=1e4, allow_inf_nan=False)]
Share = Annotated[float, Field(ge=0.01, le=1, allow_inf_nan=False)]


class PlateSettings(_Frozen):
    """The motor's plate or data sheet. Every figure is SI; a ``_base`` or ``_school`` says how it is meant there."""

    motor: Name = ""
    family: Family = "sinusoidal"
    pole_pairs: int = Field(default=4, ge=1, le=200)
    connection: Literal["star", "delta"] = "star"
    v_bus: Bus = Field(default=24.0, description="V")
    rated_current: Ampere = Field(default=5.0, description="A, in current_base")
    current_base: Literal["peak", "rms"] = "peak"
    top_speed: Speed = Field(default=314.159265, description="rad/s, mechanical")
    inertia: Inertia | None = Field(default=None, description="kg·m²")
    viscous: Viscous = Field(default=0.0, description="N·m·s/rad")
    coulomb: Torque = Field(default=0.0, description="N·m")
    kv: Kv | None = Field(default=None, description="rpm per V in kv_convention, from the data sheet")
    kv_convention: Literal["line-peak", "line-rms", "six-step-dc"] = "line-peak"
    kt: Kt | None = Field(default=None, description="N·m per A in kt_convention, from the data sheet")
    kt_convention: Literal["peak", "rms", "six-step-dc"] = "rms"
    r: Ohm | None = Field(default=None, description="Ω in winding_base, from the data sheet")
    inductance: Henry | None = Field(default=None, description="H in winding_base, from the data sheet")
    winding_base: Literal["phase", "line"] = "line"
    rated_power: Watt | None = Field(default=None, description="W")
    rated_speed: Speed | None = Field(default=None, description="rad/s, mechanical")
    rated_torque: TorqueSome | None = Field(default=None, description="N·m")
    rated_voltage: Volt | None = Field(
        default=None, description="V: line rms, per phase for steppers, DC for brushed"
    )
    stall_current: Ampere | None = Field(default=None, description="A from the supply, shaft held")
    no_load_speed: Speed | None = Field(default=None, description="rad/s at rated voltage or v_bus")
    no_load_current: AmpereOrNone | None = Field(default=None, description="A from the supply")
    mains_hz: float = Field(default=50.0, ge=1, le=1000, description="Hz on the plate")
    power_factor: Share | None = Field(default=None)
    efficiency: Share | None = Field(default=None)
    steps_per_turn: int = Field(default=200, ge=4, le=2000)
    holding_torque: TorqueSome | None = Field(default=None, description="N·m, both phases at rated current")
    v1: Volt | None = Field(default=None, description="V, first working point of a brushed motor")
    i1: AmpereOrNone | None = Field(default=None, description="A, first working point")
    n1: SpeedOrRest | None = Field(default=None, description="rad/s, first working point")
    v2: Volt | None = Field(default=None, description="V, second working point")
    i2: AmpereOrNone | None = Field(default=None, description="A, second working point")
    n2: SpeedOrRest | None = Field(default=None, description="rad/s, second working point")
    sensor: Literal["encoder", "halls"] = "encoder"
    counts_per_rev: int = Field(default=4096, ge=4, le=2**31, description="encoder counts, ×4")


class SupplySettings(_Frozen):
    """Supply and drive. Drive currents in ``drive_base``."""

    source: Literal["bench", "battery", "mains"] = "bench"
    current_limit: Ampere | None = Field(default=None, description="A, set at the bench supply")
    v_full: Bus | None = Field(default=None, description="V, battery charged")
    v_empty: Bus | None = Field(default=None, description="V, battery empty")
    mains_v: float = Field(default=230.0, ge=1, le=1000, description="V rms between the rectifier's leads")
    mains_hz: Literal[50, 60] = 50
    drive_continuous: Ampere | None = Field(default=None, description="A")
    drive_peak: Ampere | None = Field(default=None, description="A")
    drive_base: Literal["peak", "rms"] = "rms"
    command_volts: float = Field(default=10.0, ge=0.1, le=100, description="V that ask for top speed")


class FluxSettings(_Frozen):
    """Whole turns of the shaft counted by hand over the capture."""

    turns: float | None = Field(default=None, ge=0.01, le=1e9)


Way = Literal["", "wanted", "other"]


class CommutationSettings(_Frozen):
    """Turns by hand over an encoder capture; what a wrong angle, a held current and a pole search are tried with."""

    revolutions: float | None = Field(default=None, ge=0.01, le=1e9)
    offset: float = Field(default=0.0, ge=-3.1416, le=3.1416, description="rad, electrical: angle error tried")
    lag: float = Field(
        default=0.087266463, ge=1e-4, lt=1.5, description="rad, electrical: lag that alignment may leave"
    )
    edge_speed: Speed | None = Field(default=None, description="rad/s at which hall edges are judged")
    pulse_current: Ampere | None = Field(default=None, description="A at the end of a search pulse")
    pulse_noise: float = Field(default=0.01, ge=0, le=1, description="noise of one reading over pulse_current")
    larger: Literal["lq", "ld"] = Field(default="lq", description="axis with the larger inductance")
    magnet: float = Field(default=0.05, ge=0, le=0.8, description="current towards over against the pole, less one")
    seen: Way = Field(default="", description="way the shaft really turned in a slow forced turn")
    measured: Way = Field(default="", description="way the encoder showed")
    observed: Way = Field(default="", description="way the drive's observer showed")


class AutoTuneSettings(_Frozen):
    """What the drive held before and after its own auto-tune, per phase of the star: Ω, H, Wb."""

    resistance_before: Ohm | None = Field(default=None)
    resistance_after: Ohm | None = Field(default=None)
    inductance_before: Henry | None = Field(default=None)
    inductance_after: Henry | None = Field(default=None)
    flux_before: Weber | None = Field(default=None)
    flux_after: Weber | None = Field(default=None)


class Lead(_Frozen):
    """One lead of motor or sensor cable: what it is, its colour, the connector's pin, the drive's terminal."""

    name: Name
    colour: Literal["", "BK", "BN", "RD", "OG", "YE", "GN", "BU", "VT", "GY", "WH", "PK", "TQ", "GNYE"] = ""
    pin: Name = ""
    terminal: Name = ""


CheckChoice = Literal["", "in-order", "not-in-order", "not-applicable"]


class CheckRecord(_Frozen):
    """What was measured or found for one check before power; ``skipped`` holds the reason if it was left out.

    A check without a reading is judged by its ``choice`` alone; ``said`` is the remark beside it. Files of older versions hold a
    remark only: there the check is open again.
    """

    values: dict[str, Finite] = {}
    choice: CheckChoice = ""
    said: Text = ""
    skipped: Text = ""
    when: When


class SpikeReading(_Frozen):
    """Peak of an interference, V, with what was changed since the first reading (empty for that one)."""

    remedy: Text = ""
    peak: float = Field(ge=1e-6, le=1e6, allow_inf_nan=False)
    loaded: bool
    when: When


ScopeShape = Literal["", "flat", "square", "square-with-pull-up", "opposite", "pulse", "sine"]


class CableAgain(_Frozen):
    """A reading taken once more: Ω, V of the diode test, A, or what the scope showed."""

    kind: Literal["ohms", "diode", "current", "scope"]
    other: str = ""
    value: Finite = 0.0
    shape: ScopeShape = ""


class CableWire(_Frozen):
    """Readings on one wire of an unknown sensor cable. None where not read yet.

    ``ohms`` are resistances to other wires by name, ``diode`` the meter's diode test in V with the red probe on this wire and
    the black one on the other (infinity is written as 1e12 in both), ``supply_current`` is what it drew at 5 V against the 0 V
    found, ``scope`` what it showed while the shaft was turned, ``again`` readings repeated, ``known`` a role from elsewhere.
    """

    name: str
    ohms: dict[str, Finite] = {}
    diode: dict[str, Finite] = {}
    supply_current: Finite | None = None
    scope: ScopeShape = ""
    again: tuple[CableAgain, ...] = ()
    known: Literal["", "screen", "ground", "supply", "thermistor", "channel", "index"] = ""


Symptom = Literal["", "smooth", "nudge", "vibrates", "still", "wrong-way", "hot"]


class Trial(_Frozen):
    """What was seen with the leads in one order: symptom and supply current [A] at equal speed in each commanded direction."""

    forward: Symptom = ""
    backward: Symptom = ""
    current_forward: Finite | None = None
    current_backward: Finite | None = None
    speed_forward: Finite | None = Field(default=None, description="rad/s, mechanical")
    speed_backward: Finite | None = Field(default=None, description="rad/s, mechanical")


class CurrentTrial(_Frozen):
    """Gains tried on the current loop: V/A and V/(A·s), the test current [A], whether the drive found them by itself.

    A measured trial keeps its ``overshoot`` (ratio), ``ringing`` [Hz], ``rise`` and ``settling`` [s], and its ``curve`` as
    pairs of time from the step [s] and current over the step; a trial without a curve is simulated.
    """

    kp: float = Field(ge=1e-9, le=1e7, allow_inf_nan=False)
    ki: float = Field(ge=1e-9, le=1e11, allow_inf_nan=False)
    current: Finite | None = None
    automatic: bool = False
    overshoot: Finite | None = None
    ringing: Finite | None = None
    rise: Finite | None = None
    settling: Finite | None = None
    curve: tuple[tuple[Finite, Finite], ...] = ()
    when: When


class InstrumentSettings(_Frozen):
    """What the instruments are trusted to, standard uncertainties: gains over the reading, offsets in V and A.

    The defaults are typical of a bench scope with probes and a current clamp, and of a handheld meter (common practice); the
    data sheets of the instruments have better ones.
    """

    v_gain: float = Field(default=0.01, ge=0, le=0.5, description="voltage channel's gain, u over the reading")
    i_gain: float = Field(default=0.01, ge=0, le=0.5, description="current channel's gain, u over the reading")
    meter_gain: float = Field(default=0.004, ge=0, le=0.5, description="ohmmeter's gain, u over the reading")
    meter_contact: float = Field(default=0.004, ge=0, le=1e3, description="Ω, u of the contacts of one reading")
    speed_gain: float = Field(default=0.002, ge=0, le=0.5, description="tachometer's gain, u over the reading")


class ResistanceSettings(_Frozen):
    """Temperatures in °C, one lead of the cable in Ω."""

    temperature: float | None = Field(default=None, ge=-273.15, le=1000)
    reference: float = Field(default=20.0, ge=-273.15, le=1000)
    rule: Literal["iec", "ieee"] = "iec"
    cable: float = Field(default=0.0, ge=0, le=1e4)
    meter_resolution: float | None = Field(default=None, ge=1e-9, le=1e6, description="Ω, last digit of the meter")


class PwmSettings(_Frozen):
    """Timer clock and carrier in Hz, times in s, switch resistance in Ω; what the pages try them with."""

    timer_hz: float = Field(default=144e6, ge=1e5, le=1e10)
    carrier_hz: float = Field(default=20e3, ge=100, le=1e6)
    aligned: Literal["centre", "edge"] = "centre"
    dead_time: Duration = Field(default=500e-9)
    min_pulse: Duration = Field(default=0.0, description="s, shortest pulse a leg may make")
    scheme: Scheme = "space-vector"
    loop_divider: int = Field(default=1, ge=1, le=64)
    updates: Literal["once", "twice"] = Field(default="once", description="loads of the timer per carrier period")
    shunts: Literal["one", "two", "three", "in-line"] = "three"
    settling: Duration = Field(default=800e-9, description="s, current amplifier after a switching")
    sample_time: Duration = Field(default=300e-9, description="s, the converter's sampling")
    r_switch: float = Field(default=5e-3, ge=0, le=100, description="Ω, one switch")
    t_on: Duration = Field(default=40e-9, description="s")
    t_off: Duration = Field(default=40e-9, description="s")
    modulation_depth: float = Field(default=0.6, ge=0, le=1, description="voltage shown, of the linear limit")
    angle: float = Field(default=0.5, ge=-100, le=100, description="rad, electrical angle of the voltage shown")
    command_low: float = Field(
        default=0.06, ge=0, le=1, description="duty of a command at which the motor begins to turn"
    )
    command_high: float = Field(
        default=0.94, ge=0, le=1, description="duty of a command at the highest speed allowed"
    )
    command_step: float = Field(default=0.01, ge=1e-6, le=0.5, description="duty step of whatever commands")
    band_low: float = Field(default=300.0, gt=0, description="Hz, lowest legal frequency of the command")
    band_high: float = Field(default=2.5e3, gt=0, description="Hz, highest legal frequency of the command")


class CurrentSettings(_Frozen):
    """Design crossover in Hz, whole delay in periods, size of the shown step in A."""

    method: Literal["bandwidth", "modulus-optimum", "placement"] = "bandwidth"
    bandwidth_hz: Loop = Field(default=1000.0)
    damping: float = Field(default=0.8, ge=0.3, le=1, description="of the placed pole pair")
    delay_samples: float = Field(default=1.5, ge=0.5, le=20)
    step: Ampere = Field(default=1.0)
    saturation: float = Field(default=0.0, ge=0, lt=0.9, description="share of L lost at the step, at most")
    sag: float = Field(default=0.1, ge=0, lt=0.9, description="share of the bus lost, at most")
    cold: float = Field(default=10.0, ge=-60, le=200, description="°C, coldest winding")
    hot: float = Field(default=110.0, ge=-60, le=250, description="°C, hottest winding")
    trial_kp: float | None = Field(default=None, ge=1e-9, le=1e7, description="V/A that ran when a step was captured")
    trial_ki: float | None = Field(default=None, ge=1e-9, le=1e11, description="V/(A·s) that ran then")
    trial_current: Ampere | None = Field(default=None, description="A, test current of the drive's own tuning")
    i_base: Ampere = Field(default=40.0, description="A at full scale of the firmware's word")
    v_base: Volt = Field(default=60.0, description="V at full scale")
    bits: int = Field(default=16, ge=8, le=32)
    kp_integer: int | None = Field(default=None, ge=1, le=2**40, description="Kp as found in the firmware")
    kp_shift: int = Field(default=0, ge=0, le=31)
    ki_integer: int | None = Field(
        default=None, ge=1, le=2**40, description="Ki as found in the firmware, sampling period inside"
    )
    ki_shift: int = Field(default=0, ge=0, le=31)


class SpeedSettings(_Frozen):
    """Factor a of the symmetrical optimum or crossover in Hz, filter in Hz, loop divider, step in rad/s."""

    method: Literal["symmetric-optimum", "bandwidth"] = "symmetric-optimum"
    a: float = Field(default=3.0, ge=1.05, le=50)
    bandwidth_hz: Loop = Field(default=30.0)
    filter_hz: Loop = Field(default=300.0)
    divider: int = Field(default=10, ge=1, le=1000)
    ramp: float = Field(default=2000.0, ge=1e-3, le=1e8, description="rad/s²")
    lowest_speed: Speed | None = Field(
        default=None, description="rad/s, lowest speed to be held with halls; a tenth of top speed where empty"
    )


class RunSettings(_Frozen):
    """Reference in rad/s, load in N·m, limits of the first run.

    A load brakes whichever way the shaft turns, unless it ``drives`` (a weight): then it pulls one way, at rest too.
    """

    speed: float = Field(default=100.0, ge=-2.1e5, le=2.1e5)
    load: float = Field(default=0.0, ge=-1e6, le=1e6)
    load_kind: Literal["brakes", "drives"] = "brakes"
    i_limit: Ampere = Field(default=5.0, description="A peak")
    i_trip: Ampere = Field(default=10.0, description="A peak")
    v_min: float = Field(default=10.0, ge=0, le=1500, description="V")


class Settings(_Frozen):
    """What the pages' fields hold."""

    plate: PlateSettings = PlateSettings()
    supply: SupplySettings = SupplySettings()
    auto_tune: AutoTuneSettings = AutoTuneSettings()
    resistance: ResistanceSettings = ResistanceSettings()
    instruments: InstrumentSettings = InstrumentSettings()
    flux: FluxSettings = FluxSettings()
    commutation: CommutationSettings = CommutationSettings()
    pwm: PwmSettings = PwmSettings()
    current_loop: CurrentSettings = CurrentSettings()
    speed_loop: SpeedSettings = SpeedSettings()
    run: RunSettings = RunSettings()


class Bench(_Frozen):
    """A whole bench."""

    format: Literal[5] = 5
    name: Name = "Untitled bench"
    notes: Long = ""
    settings: Settings = Settings()
    entered: dict[str, tuple[str, ...]] = Field(
        default={}, description="fields by topic that somebody entered or confirmed, though they hold a default"
    )
    evidence: dict[str, tuple[Evidence, ...]] = {}
    settled: dict[Topic, Settled] = {}
    leads: tuple[Lead, ...] = ()
    trials: dict[Order, Trial] = {}
    current_trials: tuple[CurrentTrial, ...] = ()
    checks: dict[Key, CheckRecord] = {}
    spikes: tuple[SpikeReading, ...] = ()
    cable: tuple[CableWire, ...] = ()
    ledger: tuple[LedgerEntry, ...] = ()

    @model_validator(mode="after")
    def _whole(self) -> Self:
        """Refuse what is well formed and cannot be: a topic without its values, evidence without its estimates."""
        for topic in self.entered:
            if topic not in Settings.model_fields:
                raise ValueError(f"entered.{topic[:20]}: there is no such topic")
        for topic, settled in self.settled.items():
            _check_values(topic, settled)
            if settled.settings:
                page = getattr(self.settings, topic, None)
                if page is None:
                    raise ValueError(f"settled.{topic}.settings: this topic has no fields")
                try:
                    type(page).model_validate({**page.model_dump(), **settled.settings})
                except ValidationError as error:
                    name = error.errors()[0]["loc"][0]
                    raise ValueError(f"settled.{topic}.settings.{name}: this value is not possible") from None
        for leg, items in self.evidence.items():
            for evidence in items:
                _check_evidence(leg, evidence)
        for key, record in self.checks.items():
            readings = CHECK_READINGS.get(key)
            if readings is None:
                raise ValueError(f"checks.{key}: there is no such check")
            wrong = set(record.values) - set(readings)
            if wrong:
                raise ValueError(f"checks.{key}: there is no reading “{min(wrong)[:20]}”")
        return self


def _check_values(topic: str, settled: Settled) -> None:
    needed = rules().settles.get(topic)
    if needed is None:
        raise ValueError(f"settled.{topic}: nothing of this name is settled")
    lacking = set(needed) - set(settled.values)
    if lacking:
        raise ValueError(f"settled.{topic}: the value {min(lacking)} is missing")
    for name, quantity in settled.values.items():
        limits = needed.get(name) or MORE_VALUES.get(name)
        if limits is None:
            continue
        unit, least, most = limits
        if UNITS[quantity.unit] is not UNITS[unit]:
            raise ValueError(f"settled.{topic}.{name}: the unit {unit or 'none'} is needed")
        if not least <= abs(quantity.value) <= most:
            raise ValueError(f"settled.{topic}.{name}: {quantity.value:g} is not possible")
        if name not in _SIGNED and quantity.value < 0:
            raise ValueError(f"settled.{topic}.{name}: {quantity.value:g} is negative")


_SIGNED = ("direction", "zero_offset", "temperature", "phase_margin")


def _check_evidence(topic: str, evidence: Evidence) -> None:
    rule = rules().kinds.get(evidence.kind)
    if rule is None or rule[0] != topic:
        raise ValueError(f"evidence.{topic[:20]}: “{evidence.kind}” is no kind of its captures")
    _, with_interval, without, has_halls = rule
    for name in (*with_interval, *without):
        found = evidence.estimates.get(name)
        if found is None:
            raise ValueError(f"evidence.{topic}: the estimate {name} is missing")
        if name in with_interval and (found.interval95 is None or found.u is None):
            raise ValueError(f"evidence.{topic}.{name}: its uncertainty is missing")
    if has_halls and evidence.halls is None:
        raise ValueError(f"evidence.{topic}: the hall table is missing")


class Profile(_Frozen):
    """A motor's figures apart from any bench: plate fields and settled constants by ``topic.name``."""

    format: Literal[1] = 1
    kind: Literal["motor-profile"] = "motor-profile"
    name: Name
    plate: dict[Key, Name | float | int]
    constants: dict[ValueKey, Quantity] = {}
