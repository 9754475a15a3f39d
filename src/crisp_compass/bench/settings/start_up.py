"""How a motor without an angle sensor is started, and what its estimator does not know."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from crisp_compass.bench.base import Frozen, TopicSettings
from crisp_compass.bench.ranges import Ampere, Loop, Speed, Volt

Time = Annotated[float, Field(ge=1e-4, le=60, allow_inf_nan=False)]
Acceleration = Annotated[float, Field(ge=1e-2, le=1e8, allow_inf_nan=False)]


class ClimbPoint(Frozen):
    """A speed held on the climb [rad/s, mechanical], the current read there [A peak], and what the firmware's angle wandered by [rad rms], if read."""

    speed: Speed
    current: Ampere
    ripple: float | None = Field(default=None, ge=0, le=3.2)


class StartUpSettings(TopicSettings):
    """Sequence and estimator; what is empty is proposed. Currents in A peak, speeds mechanical, angles electrical; doubts are ratios."""

    settles: ClassVar[tuple[str, ...]] = (
        "method", "align_current", "align_time", "ramp_current", "load_angle", "acceleration", "times", "hand_over", "loop_hz", "r_doubt", "dead_share",
        "ahead", "standstill", "inject_volts", "track_hz", "pole_current", "commutation.magnet",
    )  # fmt: skip

    method: Literal["back-emf", "flux"] = Field(default="back-emf", title="method")
    align_current: Ampere | None = Field(default=None, description="A peak; half of the rated current if empty", title="aligning current", json_schema_extra={"unit": "A"})
    align_time: Time | None = Field(
        default=None, description="s for each of two directions; from the rotor's swing if empty", title="aligning time", json_schema_extra={"unit": "s"})
    ramp_current: Ampere | None = Field(
        default=None, description="A peak; three quarters of the rated current if empty", title="current of the ramp", json_schema_extra={"unit": "A"})
    load_angle: float = Field(
        default=0.872665, ge=0.1, le=1.5, description="rad by which the current may lead the rotor in the ramp", title="load angle", json_schema_extra={"unit": "deg"})
    acceleration: Acceleration | None = Field(default=None, description="rad/s²; from the limit if empty", title="acceleration", json_schema_extra={"unit": "rad/s²"})
    times: float = Field(default=4.0, ge=1, le=50, description="back-EMF over the voltage error at hand-over", title="back-EMF over the voltage error")
    hand_over: Speed | None = Field(default=None, description="rad/s; from the voltage error if empty", title="hand-over", json_schema_extra={"unit": "rad/s"})
    loop_hz: Loop | None = Field(
        default=None, description="natural frequency of the phase-locked loop; from speed loop and noise if empty", title="estimator's bandwidth", json_schema_extra={"unit": "Hz"})
    standstill: Literal["forced", "injection"] = Field(
        default="forced", description="how the rotor is found at rest: pulled along by a current, or by injection", title="at standstill")
    inject_volts: Volt | None = Field(default=None, description="V along the d axis; proposed if empty", title="injected voltage", json_schema_extra={"unit": "V"})
    track_hz: Loop | None = Field(
        default=None, description="natural frequency at which injection follows; from speed loop and noise if empty", title="bandwidth of injection", json_schema_extra={"unit": "Hz"})
    pole_current: Ampere | None = Field(
        default=None, description="A peak along the axis to tell the pole; that of the alignment if empty", title="current for the pole", json_schema_extra={"unit": "A"})
    ahead: float = Field(
        default=1.919862,
        ge=0.1,
        le=3.1,
        description="rad by which the forced current may lead the estimated rotor at hand-over: 20° for a motor without load, up to 110° with all it can drag", title="angle ahead", json_schema_extra={"unit": "deg"})
    r_doubt: float = Field(default=0.2, ge=0, le=1, description="of R: copper's temperature too", title="doubt of R")
    l_doubt: float = Field(default=0.1, ge=0, le=1, description="of L: saturation too")
    psi_doubt: float = Field(
        default=0.05, ge=0, le=1, description="of the flux linkage: the magnets' temperature too"
    )
    dead_share: float = Field(
        default=0.3, ge=0, le=1, description="share of the dead time's voltage that the firmware does not make up for", title="dead time left over")
    blend: Time = Field(default=0.05, description="s in which i_d fades after hand-over")
    wait: Time = Field(default=0.5, description="s after the last row until the start counts as failed")
    lost: Time = Field(default=0.02, description="s without a valid estimate until the drive trips")
    catch: float = Field(
        default=0.0, ge=0, le=10, description="s of zero current before a start, to find a motor that turns"
    )
    retries: int = Field(default=0, ge=0, le=10, description="tries after the first that failed", title="tries again")
    low_current: Ampere | None = Field(
        default=None,
        description="A peak at forced angle below the hand-over speed; none: the firmware does not go back",
    )
    low_share: float = Field(
        default=0.7, ge=0.2, le=0.95, description="of the hand-over speed, below which the angle is forced again"
    )
    across: Literal[
        "load", "ramp", "current", "hand_over", "r_error", "psi_error", "inertia", "align", "saliency"
    ] = Field(default="load", description="lever across the map")
    up: Literal["load", "ramp", "current", "hand_over", "r_error", "psi_error", "inertia", "align", "saliency"] = (
        Field(default="ramp", description="lever up the map")
    )
    climb_step: float = Field(default=1.5, ge=1.05, le=5, description="from one speed of the climb to the next")
    climb_speed: Speed | None = Field(default=None, description="rad/s of the point that is being entered")
    climb_current: Ampere | None = Field(default=None, description="A peak read there")
    climb_ripple: float | None = Field(
        default=None, ge=0, le=3.2, description="rad rms by which the angle wandered there"
    )
    climb: tuple[ClimbPoint, ...] = Field(default=(), max_length=60)
    lowest: float | None = Field(
        default=None, ge=0, le=2.1e5, description="rad/s, lowest speed that is needed under load"
    )
