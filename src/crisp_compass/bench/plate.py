"""The motor's plate or data sheet, one model a family."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import TopicSettings
from crisp_compass.bench.ranges import (
    Ampere,
    AmpereOrNone,
    Bus,
    Henry,
    Inertia,
    Name,
    Ohm,
    Speed,
    SpeedOrRest,
    Torque,
    TorqueSome,
    Viscous,
    Volt,
    Watt,
)
from crisp_compass.conversions import peak_from_rms

Kv = Annotated[float, Field(ge=1e-3, le=1e6, allow_inf_nan=False)]
Kt = Annotated[float, Field(ge=1e-6, le=1e4, allow_inf_nan=False)]
RatedHertz = Annotated[float, Field(ge=0.1, le=1e4, allow_inf_nan=False)]
Share = Annotated[float, Field(ge=0.01, le=1, allow_inf_nan=False)]


class PlateBase(TopicSettings):
    """What every motor's plate or data sheet may say. Every figure is SI; a ``_base`` or ``_convention`` says how it is meant there.

    ``reach`` are the waypoints for which such a motor is computed (None: all), ``called`` what a sentence calls it. ``windings``
    carry current at a time: three of a star, two of a stepper, one armature; torque is ``torque_factor``·pole pairs·ψ·i_q.
    ``sensors`` are the angle sensors it may have; a ``cage`` instead of magnets makes its flux.
    """

    reach: ClassVar[frozenset[str] | None] = None
    called: ClassVar[str] = ""
    windings: ClassVar[int] = 3
    torque_factor: ClassVar[float] = 1.5
    sensors: ClassVar[tuple[str, ...]] = ("incremental", "absolute", "halls")
    cage: ClassVar[bool] = False
    presumable: ClassVar[tuple[str, ...]] = ("v_bus", "rated_current", "top_speed")
    settles: ClassVar[tuple[str, ...]] = (
        "v_bus",
        "rated_current",
        "current_base",
        "top_speed",
        "inertia",
        "viscous",
        "coulomb",
        "sensor.counts_per_rev",
    )

    motor: Name = ""
    v_bus: Bus = Field(default=24.0, description="V", title="bus voltage", json_schema_extra={"unit": "V"})
    rated_current: Ampere = Field(default=5.0, description="A, in current_base", title="rated current", json_schema_extra={"unit": "A"})
    current_base: Literal["peak", "rms"] = Field(default="peak", title="current given as")
    top_speed: Speed = Field(default=314.159265, description="rad/s, mechanical", title="top speed", json_schema_extra={"unit": "rad/s"})
    inertia: Inertia | None = Field(default=None, description="kg·m²", title="inertia", json_schema_extra={"unit": "kg·m²"})
    viscous: Viscous = Field(default=0.0, description="N·m·s/rad", title="viscous friction", json_schema_extra={"unit": "N·m·s/rad"})
    coulomb: Torque = Field(default=0.0, description="N·m", title="Coulomb friction", json_schema_extra={"unit": "N·m"})
    rated_power: Watt | None = Field(default=None, description="W")
    rated_speed: Speed | None = Field(default=None, description="rad/s, mechanical")
    rated_torque: TorqueSome | None = Field(default=None, description="N·m")
    rated_voltage: Volt | None = Field(
        default=None, description="V: line rms, per phase for steppers, DC for brushed"
    )


class MagnetPlate(PlateBase):
    """A three-phase permanent-magnet machine, its back-EMF sinusoidal or trapezoidal."""

    called: ClassVar[str] = "a three-phase permanent-magnet motor"
    sensors: ClassVar[tuple[str, ...]] = (*PlateBase.sensors, "none")
    presumable: ClassVar[tuple[str, ...]] = ("pole_pairs", *PlateBase.presumable)
    settles: ClassVar[tuple[str, ...]] = ("pole_pairs", *PlateBase.settles)

    family: Literal["sinusoidal", "trapezoidal"] = "sinusoidal"
    pole_pairs: int = Field(default=4, ge=1, le=200, title="pole pairs")
    connection: Literal["star", "delta"] = "star"
    kv: Kv | None = Field(default=None, description="rpm per V in kv_convention, from the data sheet")
    kv_convention: Literal["line-peak", "line-rms", "six-step-dc"] = "line-peak"
    kt: Kt | None = Field(default=None, description="N·m per A in kt_convention, from the data sheet")
    kt_convention: Literal["peak", "rms", "six-step-dc"] = "rms"
    r: Ohm | None = Field(default=None, description="Ω in winding_base, from the data sheet")
    inductance: Henry | None = Field(default=None, description="H in winding_base, from the data sheet")
    winding_base: Literal["phase", "line"] = "line"
    rated_hz: RatedHertz | None = Field(default=None, description="Hz on the plate, at rated speed")
    stall_current: Ampere | None = Field(default=None, description="A from the supply, shaft held")
    no_load_speed: Speed | None = Field(default=None, description="rad/s at rated voltage or v_bus")
    no_load_current: AmpereOrNone | None = Field(default=None, description="A from the supply")


class StepperPlate(PlateBase):
    """A two-phase stepper; voltage, resistance and inductance are per phase."""

    called: ClassVar[str] = "a two-phase stepper"
    windings: ClassVar[int] = 2
    torque_factor: ClassVar[float] = 1.0
    sensors: ClassVar[tuple[str, ...]] = ("incremental", "absolute")
    presumable: ClassVar[tuple[str, ...]] = ("steps_per_turn", "v_bus", "rated_current")
    settles: ClassVar[tuple[str, ...]] = ("steps_per_turn", *PlateBase.settles)

    family: Literal["stepper"] = "stepper"
    current_base: Literal["peak", "rms"] = Field(
        default="rms", description="rms: of both windings on, as labels say it", title="current given as")
    steps_per_turn: int = Field(default=200, ge=4, le=2000, title="full steps per turn")
    holding_torque: TorqueSome | None = Field(default=None, description="N·m, both phases at rated current")
    detent_torque: Torque = Field(default=0.0, description="N·m, without current")
    r: Ohm | None = Field(default=None, description="Ω in winding_base, from the data sheet")
    inductance: Henry | None = Field(default=None, description="H in winding_base, from the data sheet")

    @property
    def pole_pairs(self) -> int:
        """Pole pairs: four full steps are one electrical turn."""
        return max(self.steps_per_turn // 4, 1)


class InductionPlate(PlateBase):
    """An induction motor; its voltage is line rms."""

    called: ClassVar[str] = "an induction motor"
    reach: ClassVar[frozenset[str] | None] = frozenset(
        {"plate", "resistance", "circuit", "mechanics", "pwm", "current_loop", "speed_loop", "motion", "drive", "run", "hand_over"}
    )
    sensors: ClassVar[tuple[str, ...]] = ("incremental", "none")
    cage: ClassVar[bool] = True
    presumable: ClassVar[tuple[str, ...]] = ("mains_hz", "v_bus", "rated_current")
    settles: ClassVar[tuple[str, ...]] = ("mains_hz", *PlateBase.settles)

    family: Literal["induction"] = "induction"
    current_base: Literal["peak", "rms"] = Field(default="rms", description="rms: as nameplates say it", title="current given as")
    connection: Literal["star", "delta"] = "star"
    mains_hz: float = Field(default=50.0, ge=1, le=1000, description="Hz on the plate", title="rated frequency", json_schema_extra={"unit": "Hz"})
    power_factor: Share | None = Field(default=None)
    efficiency: Share | None = Field(default=None)


class BrushedPlate(PlateBase):
    """A brushed motor, with two working points of its data sheet."""

    called: ClassVar[str] = "a brushed motor"
    reach: ClassVar[frozenset[str] | None] = frozenset(
        {
            "plate",
            "resistance",
            "inductance",
            "flux",
            "mechanics",
            "pwm",
            "drive",
            "current_loop",
            "speed_loop",
            "motion",
            "run",
            "hand_over",
        }
    )
    windings: ClassVar[int] = 1
    sensors: ClassVar[tuple[str, ...]] = ("incremental", "tachometer", "none")
    torque_factor: ClassVar[float] = 1.0
    presumable: ClassVar[tuple[str, ...]] = ("v_bus", "rated_current")

    family: Literal["brushed"] = "brushed"
    v1: Volt | None = Field(default=None, description="V, first working point of a brushed motor")
    i1: AmpereOrNone | None = Field(default=None, description="A, first working point")
    n1: SpeedOrRest | None = Field(default=None, description="rad/s, first working point")
    v2: Volt | None = Field(default=None, description="V, second working point")
    i2: AmpereOrNone | None = Field(default=None, description="A, second working point")
    n2: SpeedOrRest | None = Field(default=None, description="rad/s, second working point")
    r: Ohm | None = Field(default=None, description="Ω between the terminals, from the data sheet")
    inductance: Henry | None = Field(default=None, description="H between the terminals, from the data sheet")
    ke: Kt | None = Field(default=None, description="V·s/rad, the same figure as Kt in N·m/A, from the data sheet")
    no_load_speed: Speed | None = Field(default=None, description="rad/s at rated voltage or v_bus")
    no_load_current: AmpereOrNone | None = Field(default=None, description="A from the supply")

    @property
    def pole_pairs(self) -> int:
        """One: the commutator turns the field, and nothing outside the motor counts its poles."""
        return 1


def torque_constant(plate: Plate, flux: float, pole_pairs: float) -> float:
    """Return Kt [N·m per A of the current vector] of a flux linkage [Wb]; of a brushed motor Ke is the flux linkage."""
    return plate.torque_factor * pole_pairs * flux


Plate = MagnetPlate | StepperPlate | InductionPlate | BrushedPlate
#: Plates by the family they say.
PLATES: dict[str, type[Plate]] = {
    "sinusoidal": MagnetPlate,
    "trapezoidal": MagnetPlate,
    "stepper": StepperPlate,
    "induction": InductionPlate,
    "brushed": BrushedPlate,
}


def rated_peak(plate: Plate) -> float:
    """Return the plate's rated current as phase peak, A."""
    return peak_from_rms(plate.rated_current) if plate.current_base == "rms" else plate.rated_current
