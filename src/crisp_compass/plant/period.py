"""What every run does in a sampling period, whatever machine it turns; compiled."""

from __future__ import annotations

import math

from crisp_compass.compiled import inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.mechanics import friction
from crisp_compass.plant.parameters import FOLLOWING, NO_FAULT, OFF, Control, Drive, Load
from crisp_compass.plant.protection import heat, protect, watch_short
from crisp_compass.plant.state import (
    CHOPPED,
    CHOPPER,
    DRAWN,
    FAULT,
    IN_DRIVES,
    IN_LOAD,
    IN_MODE,
    IN_SUPPLY,
    LOAD_SPEED,
    OMEGA,
    SUPPLIED,
    THETA,
    TIME,
    TWIST,
    TWO_PI,
    V_ALPHA,
    V_BETA,
    V_BUS,
)


@inlined
def delays(c: Control) -> tuple[int, float]:
    """Return the whole periods that a voltage waits, and how long [s] in a period the one before still stands."""
    computing = c.delay_samples - 0.5  # the hold is the other half period of the delay
    whole = int(computing + 1e-9)
    return whole, c.ts * (computing - whole) if computing - whole > 1e-9 else 0.0


@inlined
def asked_mode(x: FloatArray, inputs: FloatArray) -> int:
    """Return the mode asked for; off while a fault stands."""
    return OFF if x[FAULT] != NO_FAULT else int(inputs[IN_MODE])


@inlined
def _switch_brake(x: FloatArray, c: Control) -> None:
    """Switch the brake resistor as the firmware does, whether or not the simulated link has one."""
    if x[V_BUS] > c.brake_on:
        x[CHOPPER] = 1.0
    elif x[V_BUS] < c.brake_off:
        x[CHOPPER] = 0.0


@inlined
def load_bus(x: FloatArray, drive: Drive, inputs: FloatArray) -> None:
    """Let the link have what the bridge drew in the last period (``DRAWN`` [W], less than nothing where it gave), the supply gives and the brake resistor takes.

    Without a capacitor the supply sags under it. With one: C·dV/dt = (V_S − V)/R_S − V/R_B − P/V, the supply's and the resistor's parts at the new voltage (backward Euler's rule),
    which stays calm however small R·C is against the period.
    """
    inv, c = drive.inverter, drive.control
    volts, supply = max(float(x[V_BUS]), 1.0), float(inputs[IN_SUPPLY])
    if inv.capacitance <= 0.0:
        x[V_BUS] = supply - inv.r_supply * x[DRAWN] / volts
        _switch_brake(x, c)
        return
    if inv.mains_hz > 0.0:
        angle = TWO_PI * ((x[TIME] * inv.mains_hz) % 1.0)
        supply *= abs(math.cos(angle)) if inv.pulses < 4.0 else math.cos(angle % (math.pi / 3.0) - math.pi / 6.0)
    over_c, r = c.ts / inv.capacitance, max(inv.r_supply, 1e-6)
    left = volts - over_c * x[DRAWN] / volts
    burns = over_c / inv.brake_ohm if x[CHOPPER] != 0.0 and inv.brake_ohm > 0.0 else 0.0
    fed = (left + over_c * supply / r) / (1.0 + over_c / r + burns)
    if fed > supply and inv.sink == 0.0:  # nothing flows back
        fed = left / (1.0 + burns)
        fed = max(fed, supply)
    fed = max(fed, 0.0)
    flows = (supply - fed) / r
    if flows > 0.0 or inv.sink != 0.0:
        x[SUPPLIED] += supply * flows * c.ts
    if burns > 0.0:
        x[CHOPPED] += fed * fed / inv.brake_ohm * c.ts
    x[V_BUS] = fed
    _switch_brake(x, c)


@inlined
def holds_on(x: FloatArray, drive: Drive) -> bool:
    """Tell whether a shaft that lost its steps for good is held where it is, by the field of a motor that is stepped."""
    return drive.control.lost_holds != 0.0 and x[FAULT] == FOLLOWING


@inlined
def guarded(x: FloatArray, drive: Drive, mode: int) -> int:
    """Return the mode after protection has looked."""
    heat(x, drive.control)
    if mode == OFF:
        watch_short(x, drive.control)
    else:
        protect(x, drive, mode)
        if x[FAULT] != NO_FAULT and not holds_on(x, drive):
            return OFF
    return mode


@inlined
def keep(x: FloatArray, row: FloatArray) -> None:
    """Write the whole state into a row, number by number: as an array the compiler would want memory of its own."""
    for k in range(len(x)):
        row[k] = x[k]


@inlined
def queue(x: FloatArray, whole: int, first: float, second: float) -> None:
    """Put the newest command (α and β voltage, or what stands for them) in front of those that wait."""
    for k in range(whole + 1, 0, -1):
        x[V_ALPHA + k], x[V_BETA + k] = x[V_ALPHA + k - 1], x[V_BETA + k - 1]
    x[V_ALPHA], x[V_BETA] = first, second


#: Radians that a shaft against a hard stop would swing by in a period, undamped: as stiff as a period resolves.
_STIFF = 0.2


@inlined
def _hard_stop(ld: Load, ts: float, inertia: float, theta: float, omega: float) -> float:
    """Return the torque [N·m] of an end that the shaft runs into: a stiff spring with its damper, which only pushes."""
    over = theta - ld.stop_high if theta > ld.stop_high else (theta - ld.stop_low if theta < ld.stop_low else 0.0)
    if over == 0.0:
        return 0.0
    w = _STIFF / ts
    pushes = inertia * w * (w * over + 1.4 * omega)
    return max(pushes, 0.0) if over > 0.0 else min(pushes, 0.0)


@inlined
def loads(x: FloatArray, drive: Drive, inputs: FloatArray) -> tuple[float, float]:
    """Return the torque that drives the motor's shaft, with the load's own ``driving`` one, and the one that only brakes it, N·m.

    Behind a shaft that twists both act on the load, which moves on by a period, and the twisted shaft drives the motor. Angles go on by the new speeds and speeds by the new
    twist (symplectic Euler's rule: a free swing keeps its height); ``course.coupling`` gives the stiffness that swings at the right frequency in these periods.
    """
    ld, ts = drive.load, drive.control.ts
    drives, holds = ld.driving, abs(float(inputs[IN_LOAD]))
    if ld.second > 0.0:
        drives += _hard_stop(ld, ts, ld.second, float(x[THETA] - x[TWIST]), float(x[LOAD_SPEED]))
    else:
        drives += _hard_stop(ld, ts, ld.inertia, float(x[THETA]), float(x[OMEGA]))
    if inputs[IN_DRIVES] != 0.0:
        drives, holds = drives + float(inputs[IN_LOAD]), 0.0
    if ld.swing != 0.0:
        drives += ld.swing * math.sin(ld.swing_order * float(x[THETA]))
    if ld.second <= 0.0:
        return drives, holds
    slip = float(x[OMEGA] - x[LOAD_SPEED])
    x[TWIST] += ts * slip
    twist, play = float(x[TWIST]), 0.5 * ld.backlash
    wound = twist - play if twist > play else (twist + play if twist < -play else 0.0)
    torque = ld.stiffness * wound + (ld.damping * slip if wound != 0.0 or play == 0.0 else 0.0)
    before = float(x[LOAD_SPEED])
    speed = before + ts * friction(torque - drives, before, holds, 0.0) / ld.second
    if before * speed < 0.0 and holds > 0.0:  # friction stops the load before it can reverse it
        speed = 0.0
    x[LOAD_SPEED] = speed
    return torque, 0.0
