"""Models of the bench file. Everything is SI; every number stands beside its unit. All models are frozen."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

FORMAT = 1

Topic = Literal["plate", "resistance", "inductance", "flux", "commutation", "pwm", "current_loop", "speed_loop"]
Finite = Annotated[float, Field(allow_inf_nan=False)]


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Quantity(_Frozen):
    """A value with unit and, where it was estimated, its standard uncertainty and 95 % interval."""

    value: Finite
    unit: str
    u: Finite | None = None
    interval95: tuple[Finite, Finite] | None = None


class FoundNote(_Frozen):
    """A finding kept with the evidence."""

    level: Literal["info", "caution", "stop"]
    code: str
    text: str


class HallSector(_Frozen):
    """One row of the hall table, degrees of electrical angle for positive rotation."""

    center_deg: Finite
    from_deg: Finite
    to_deg: Finite
    drive: str


class HallRecord(_Frozen):
    """A hall table as found."""

    spacing_deg: Literal[60, 120]
    direction: Literal[-1, 1]
    states: dict[str, HallSector]
    edge_errors_deg: tuple[Finite, Finite, Finite, Finite, Finite, Finite]


class Evidence(_Frozen):
    """A capture and what was estimated from it."""

    file: str = Field(description="Path relative to the bench file")
    sha256: str
    slot: str = Field(default="", description="Which of several captures of a leg this is, e.g. d or q")
    columns: tuple[str, ...] = Field(default=(), description="Column mappings NAME=[-]SOURCE[*FACTOR]")
    when: str
    method: str = ""
    estimates: dict[str, Quantity] = {}
    findings: tuple[FoundNote, ...] = ()
    halls: HallRecord | None = None


class Settled(_Frozen):
    """What a person settled: the values, the reason, and the inputs they rest on (``topic.name`` → value then)."""

    values: dict[str, Quantity]
    method: str = ""
    reason: str
    when: str
    rests_on: dict[str, Finite] = {}
    halls: HallRecord | None = None


class LedgerEntry(_Frozen):
    """One line of the ledger: a typed reading, a settled value, a note or a verdict."""

    when: str
    kind: str
    text: str
    value: Quantity | None = None


class PlateLevers(_Frozen):
    """The plate in short form. ``current_base`` says how ``rated_current`` was meant; SI units."""

    motor: str = ""
    pole_pairs: int = Field(default=4, ge=1, le=200)
    connection: Literal["star", "delta"] = "star"
    v_bus: float = Field(default=24.0, gt=0, le=1500, description="V")
    rated_current: float = Field(default=5.0, gt=0, description="A, in current_base")
    current_base: Literal["peak", "rms"] = "peak"
    top_speed: float = Field(default=314.159265, gt=0, description="rad/s, mechanical")
    inertia: float = Field(default=1e-4, gt=0, description="kg·m²")
    viscous: float = Field(default=0.0, ge=0, description="N·m·s/rad")
    coulomb: float = Field(default=0.0, ge=0, description="N·m")
    kv: float | None = Field(default=None, gt=0, description="rpm per V in kv_school, from the data sheet")
    kv_school: Literal["line-peak", "line-rms", "six-step-dc"] = "line-peak"
    sensor: Literal["encoder", "halls"] = "encoder"
    counts_per_rev: int = Field(default=4096, ge=4, description="encoder counts, ×4")


class ResistanceLevers(_Frozen):
    """Temperatures in °C, one lead of the cable in Ω."""

    temperature: float | None = None
    reference: float = 20.0
    rule: Literal["iec", "ieee"] = "iec"
    cable: float = Field(default=0.0, ge=0)


class PwmLevers(_Frozen):
    """Timer clock and carrier in Hz, dead time in s."""

    timer_hz: float = Field(default=170e6, gt=0)
    carrier_hz: float = Field(default=20e3, gt=0)
    dead_time: float = Field(default=500e-9, ge=0)
    scheme: Literal["sine", "space-vector", "third-harmonic", "six-step"] = "space-vector"
    loop_divider: int = Field(default=1, ge=1, le=64)


class CurrentLevers(_Frozen):
    """Design crossover in Hz, whole delay in periods, size of the shown step in A."""

    method: Literal["bandwidth", "modulus-optimum"] = "bandwidth"
    bandwidth_hz: float = Field(default=1000.0, gt=0)
    delay_samples: float = Field(default=1.5, ge=0.5, le=20)
    step: float = Field(default=1.0, gt=0)


class SpeedLevers(_Frozen):
    """Spread of the symmetrical optimum or crossover in Hz, filter in Hz, loop divider, step in rad/s."""

    method: Literal["symmetric-optimum", "bandwidth"] = "symmetric-optimum"
    a: float = Field(default=3.0, gt=1, le=50)
    bandwidth_hz: float = Field(default=30.0, gt=0)
    filter_hz: float = Field(default=300.0, gt=0)
    divider: int = Field(default=10, ge=1, le=1000)
    ramp: float = Field(default=2000.0, gt=0, description="rad/s²")


class RunLevers(_Frozen):
    """Reference in rad/s, load in N·m, limits of the first run."""

    speed: float = 100.0
    load: float = 0.0
    i_limit: float = Field(default=5.0, gt=0, description="A peak")
    i_trip: float = Field(default=10.0, gt=0, description="A peak")
    v_min: float = Field(default=10.0, ge=0, description="V")


class Levers(_Frozen):
    """What the pages' fields hold."""

    plate: PlateLevers = PlateLevers()
    resistance: ResistanceLevers = ResistanceLevers()
    pwm: PwmLevers = PwmLevers()
    current_loop: CurrentLevers = CurrentLevers()
    speed_loop: SpeedLevers = SpeedLevers()
    run: RunLevers = RunLevers()


class Bench(_Frozen):
    """A whole bench."""

    format: Literal[1] = 1
    name: str = "Untitled bench"
    notes: str = ""
    levers: Levers = Levers()
    evidence: dict[str, tuple[Evidence, ...]] = {}
    settled: dict[Topic, Settled] = {}
    ledger: tuple[LedgerEntry, ...] = ()
