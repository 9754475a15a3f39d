"""Start-up and field orientation without a sensor, as the firmware runs it; compiled.

Phases: the bridge rests; zero current is held to find a motor that turns already; the rows of the start sequence turn a current of given
length at a forced angle (which the rotor follows like a stepper's); the loop closes on the estimate; below a speed the angle is forced again.
With injection instead of rows: the axis is sought at zero current, a current along it tells the pole, and the loop closes at standstill.
The estimator runs through all of them on the voltage that the firmware commanded and the currents that it read.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.field_oriented import command, hold_currents, read_currents, released, speed_loop
from crisp_compass.plant.control.speed import forget_reference
from crisp_compass.plant.parameters import CURRENT, LOST, NO_POLE, NO_START, OFF, START_COLUMNS, Drive
from crisp_compass.plant.sensors import dead_time_taken
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    BLEND,
    CATCHING,
    CLOSED,
    CURRENT_FROM,
    CUT,
    FAULT,
    FIELD,
    FORCED,
    FORCED_FROM,
    FORCING,
    ID_REF,
    IN_ID,
    IN_IQ,
    IN_SPEED,
    INT_D,
    INT_Q,
    INT_SPEED,
    IQ_REF,
    LOST_CLOCK,
    PHASE,
    PHASE_CLOCK,
    POLING,
    REF,
    RESTING,
    ROW,
    SEEKING,
    SPEED_SEEN,
    STARTING,
    TRIES,
    V_ALPHA,
    V_BETA,
    V_BUS,
    VD,
    VQ,
    WEAK,
)
from crisp_compass.sensorless.estimator import (
    HELD,
    I_ALPHA,
    I_BETA,
    OUT_ANGLE,
    SPEED,
    VALID,
    clear,
    estimate,
    wrapped,
)
from crisp_compass.sensorless.injection import (
    AXIS_VALID,
    KNOWN_ALREADY,
    POLE_DOUBT,
    POLE_MEAN,
    POLE_SURE,
    SIGN,
    begin_counting,
    counted,
    know_axis,
    seek_axis,
    share_of_injection,
    take_pole,
    track,
)


@inlined
def _share(x: FloatArray, seen: FloatArray, drive: Drive) -> float:
    """Return how much of the angle injection tells: all of it until the loop is closed, however the search swings."""
    if x[PHASE] < CLOSED:
        return 1.0
    return float(share_of_injection(seen, drive.injected, seen[VALID] != 0.0))


@inlined
def _look(x: FloatArray, seen: FloatArray, drive: Drive, whole: int, early: float) -> tuple[float, float]:
    """Read the currents and let the estimator take in the period that ends; return the current [A] in α and β."""
    alpha, beta = read_currents(x, drive)
    if x[PHASE] == RESTING:  # nothing was commanded before
        clear(seen, alpha, beta)
        return alpha, beta
    ts = drive.control.ts
    part = early / ts
    va = part * x[V_ALPHA + whole + 1] + (1.0 - part) * x[V_ALPHA + whole]
    vb = part * x[V_BETA + whole + 1] + (1.0 - part) * x[V_BETA + whole]
    was_alpha, was_beta = seen[I_ALPHA], seen[I_BETA]
    loss = drive.start.dead_voltage
    if loss > 0.0:
        lost_a, lost_b = dead_time_taken(alpha, beta, was_alpha, was_beta, loss, drive.inverter.knee)
        va -= lost_a
        vb -= lost_b
    share = _share(x, seen, drive) if drive.injected.volts > 0.0 and x[PHASE] >= SEEKING else 0.0
    estimate(seen, drive.estimator, ts, va, vb, alpha, beta, 1.0 - share)
    if drive.injected.volts > 0.0 and x[PHASE] >= SEEKING:
        _track(seen, drive, va, vb, alpha - was_alpha, beta - was_beta, share)
        if share > 0.0:  # the loops are not to answer what alternates
            return 0.5 * (alpha + was_alpha), 0.5 * (beta + was_beta)
    return alpha, beta


@compiled
def _track(
    seen: FloatArray, drive: Drive, va: float, vb: float, step_alpha: float, step_beta: float, share: float
) -> None:
    """Let what alternates tell its share of the angle."""
    track(seen, drive.injected, drive.control.ts, va, vb, step_alpha, step_beta, share, drive.estimator.psi)
    # an angle that injection knows already needs no ten turns of back-EMF
    if seen[AXIS_VALID] != 0.0 and abs(seen[HELD]) >= KNOWN_ALREADY * drive.estimator.hold:
        seen[VALID] = 1.0
    if share == 0.0:
        know_axis(seen, drive.injected)


@compiled
def _failed(x: FloatArray, drive: Drive, fault: int) -> None:
    """Give up with a fault, or let the bridge rest for a while and try again."""
    if x[TRIES] >= drive.start.retries:
        x[FAULT] = fault
    else:
        x[TRIES] += 1.0
        x[PHASE], x[PHASE_CLOCK] = RESTING, -drive.start.wait


@compiled
def _enter_row(x: FloatArray, drive: Drive, row: int, current: float) -> None:
    """Begin a row of the sequence; rows that align turn the field on by a quarter."""
    rows = drive.start.rows
    if row > 0 and rows[row * START_COLUMNS + 1] == 0.0:
        x[FIELD] += 0.5 * math.pi
    x[PHASE], x[ROW], x[PHASE_CLOCK] = STARTING, row, 0.0
    x[FORCED_FROM], x[CURRENT_FROM] = x[FORCED], current


@compiled
def _force(x: FloatArray, angle: float, speed: float) -> None:
    """Turn the frame of the loops to a forced angle [rad] and speed [rad/s]."""
    x[FIELD], x[FORCED] = wrapped(angle), speed
    x[ANGLE_SEEN], x[SPEED_SEEN] = x[FIELD], speed


@compiled
def _turn_frame(x: FloatArray, drive: Drive, by: float, i_d: float, i_q: float, feed: float) -> None:
    """Turn the frame on by ``by`` [rad] so that the voltage stays: the integrators take what the decoupling of ``i_d``, ``i_q`` [A] does not give."""
    ct, st = math.cos(by), math.sin(by)
    vd, vq = x[VD] * ct + x[VQ] * st, x[VQ] * ct - x[VD] * st
    c = drive.control
    we = drive.machine.pole_pairs * x[SPEED_SEEN] * feed
    x[INT_D], x[INT_Q] = vd + we * c.lq * i_q, vq - we * (c.ld * i_d + c.psi)


@compiled
def _close(x: FloatArray, seen: FloatArray, drive: Drive, current: float, field: float) -> None:
    """Close the loop on the estimate: current and voltage stay what they are, seen from the rotor."""
    lead = wrapped(field - seen[OUT_ANGLE])
    x[SPEED_SEEN] = seen[SPEED] / drive.machine.pole_pairs
    i_d, i_q = current * math.cos(lead), current * math.sin(lead)
    forget_reference(x, drive.control, x[SPEED_SEEN], i_q)
    x[BLEND], x[ID_REF], x[IQ_REF], x[INT_SPEED] = i_d, i_d, i_q, i_q
    x[WEAK] = x[CUT] = 0.0
    _turn_frame(x, drive, -lead, i_d, i_q, drive.control.decouple)
    x[PHASE], x[PHASE_CLOCK], x[LOST_CLOCK] = CLOSED, 0.0, 0.0


@compiled
def _may_close(x: FloatArray, seen: FloatArray, drive: Drive, sense: float) -> bool:
    """Tell whether the estimate is valid, turns the right way and lies where a rotor dragged by the field can be."""
    lead = wrapped(x[FIELD] - seen[OUT_ANGLE]) * sense
    placed = drive.start.ahead_least <= lead <= drive.start.ahead_most
    return bool(seen[VALID] != 0.0 and seen[SPEED] * sense > 0.0 and placed)


@compiled
def _begin(x: FloatArray, seen: FloatArray, drive: Drive) -> None:
    """Begin the start from rest: by injection, or with the first row."""
    x[INT_D] = x[INT_Q] = 0.0
    if drive.injected.volts > 0.0:
        seek_axis(seen)
        x[PHASE], x[PHASE_CLOCK], x[LOST_CLOCK] = SEEKING, 0.0, 0.0
    else:
        _enter_row(x, drive, 0, 0.0)


@compiled
def _find_by_injection(x: FloatArray, seen: FloatArray, drive: Drive) -> None:
    """Seek the axis at zero current, then tell the pole by a current along it; close the loop at standstill once both are known."""
    j, p = drive.injected, drive.machine.pole_pairs
    x[ID_REF] = x[IQ_REF] = 0.0
    if x[PHASE] == SEEKING:
        if seen[VALID] != 0.0:  # it turns already
            _close(x, seen, drive, 0.0, seen[OUT_ANGLE])
        elif seen[AXIS_VALID] != 0.0:
            x[PHASE], x[PHASE_CLOCK] = POLING, 0.0
        elif x[PHASE_CLOCK] > drive.start.wait + j.settle:
            _failed(x, drive, NO_START)
    elif x[PHASE_CLOCK] <= j.pole_time:
        x[ID_REF] = j.pole_current
    elif x[PHASE_CLOCK] <= 2.0 * j.pole_time:
        x[ID_REF] = -j.pole_current
    else:
        there, doubt_there = seen[POLE_MEAN], seen[POLE_DOUBT]
        back, doubt_back = counted(seen)
        if abs(there - back) < POLE_SURE * math.sqrt(doubt_there + doubt_back):
            _failed(x, drive, NO_POLE)
        else:
            other = back > there
            take_pole(seen, drive.estimator, other)
            if other:
                x[INT_D], x[INT_Q] = -x[INT_D], -x[INT_Q]
            x[PHASE], x[PHASE_CLOCK], x[LOST_CLOCK] = CLOSED, 0.0, 0.0
            x[BLEND] = x[INT_SPEED] = x[WEAK] = x[CUT] = 0.0
            x[SPEED_SEEN] = 0.0
            forget_reference(x, drive.control, 0.0, 0.0)
    if x[PHASE] == POLING:  # each half settles before it counts
        ts, clock = drive.control.ts, x[PHASE_CLOCK]
        if abs(clock - 0.5 * j.pole_time) < 0.5 * ts or abs(clock - 1.5 * j.pole_time) < 0.5 * ts:
            begin_counting(seen)
        elif abs(clock - j.pole_time) < 0.5 * ts:
            seen[POLE_MEAN], seen[POLE_DOUBT] = counted(seen)
    x[ANGLE_SEEN], x[SPEED_SEEN] = seen[OUT_ANGLE], seen[SPEED] / p


@inlined
def _injected_volts(x: FloatArray, drive: Drive) -> float:
    """Return what is injected [V]: never more than half of the voltage there is."""
    return float(min(drive.injected.volts, 0.5 * x[V_BUS] * drive.control.volts_per_bus))


@compiled
def _before_closed(x: FloatArray, seen: FloatArray, drive: Drive, target: float) -> None:
    """Go on with whatever comes before the loop is closed, at the ``target`` speed [rad/s]; may close it."""
    c, start, p = drive.control, drive.start, drive.machine.pole_pairs
    sense = 1.0 if target >= 0.0 else -1.0
    if x[PHASE] == RESTING and x[PHASE_CLOCK] < -0.5 * c.ts:
        return  # between two tries
    if x[PHASE] == RESTING:
        x[FIELD] = x[FORCED] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = 0.0
        forget_reference(x, c, 0.0, 0.0)
        if start.catch > 0.0:
            x[PHASE], x[PHASE_CLOCK] = CATCHING, 0.0
        else:
            _begin(x, seen, drive)
    if x[PHASE] == CATCHING:
        x[ID_REF] = x[IQ_REF] = 0.0
        x[ANGLE_SEEN], x[SPEED_SEEN] = seen[OUT_ANGLE], seen[SPEED] / p
        if seen[VALID] != 0.0:
            _close(x, seen, drive, 0.0, seen[OUT_ANGLE])
        elif x[PHASE_CLOCK] > start.catch:
            _begin(x, seen, drive)
    if x[PHASE] == SEEKING or x[PHASE] == POLING:
        _find_by_injection(x, seen, drive)
    elif x[PHASE] == STARTING:
        row = int(x[ROW])
        k = row * START_COLUMNS
        current, goal, span = start.rows[k], start.rows[k + 1] * sense, max(start.rows[k + 2], c.ts)
        done = min(x[PHASE_CLOCK] / span, 1.0)
        flowing = x[CURRENT_FROM] + (current - x[CURRENT_FROM]) * min(4.0 * done, 1.0)
        speed = x[FORCED_FROM] + (goal - x[FORCED_FROM]) * done
        _force(x, x[FIELD] + p * speed * c.ts, speed)
        x[ID_REF], x[IQ_REF] = flowing, 0.0
        if start.rows[k + 3] != 0.0 and _may_close(x, seen, drive, sense):
            _close(x, seen, drive, flowing, x[FIELD])
        elif done >= 1.0:
            if row + 1 < int(start.used):
                _enter_row(x, drive, row + 1, current)
            elif x[PHASE_CLOCK] > span + start.wait:
                _failed(x, drive, NO_START)
    elif x[PHASE] == FORCING:
        most = c.ramp * c.ts
        limit = start.low_up if seen[VALID] == 0.0 else abs(target)
        goal = min(limit, max(-limit, target))
        x[REF] += min(most, max(-most, goal - x[REF]))
        _force(x, x[FIELD] + p * x[REF] * c.ts, x[REF])
        x[ID_REF], x[IQ_REF] = start.low_current, 0.0
        side = 1.0 if x[REF] >= 0.0 else -1.0
        if abs(x[REF]) >= start.low_up * 0.999:
            if _may_close(x, seen, drive, side):
                _close(x, seen, drive, start.low_current, x[FIELD])
            else:
                x[LOST_CLOCK] += c.ts
                if x[LOST_CLOCK] > start.wait:
                    _failed(x, drive, NO_START)
        else:
            x[LOST_CLOCK] = 0.0


@compiled
def _force_again(x: FloatArray, seen: FloatArray, drive: Drive) -> None:
    """Go back to a forced angle where the estimate will soon be worth nothing: current and voltage stay what they are."""
    low = drive.start.low_current
    lead = math.asin(min(1.0, max(-1.0, x[IQ_REF] / low))) if low > 0.0 else 0.0
    x[PHASE], x[PHASE_CLOCK], x[LOST_CLOCK] = FORCING, 0.0, 0.0
    _turn_frame(x, drive, lead, 0.0, 0.0, 0.0)
    _force(x, seen[OUT_ANGLE] + lead, x[REF])
    x[ID_REF], x[IQ_REF] = low, 0.0


@inlined
def _closed(x: FloatArray, seen: FloatArray, drive: Drive, target: float, speed_due: bool) -> None:
    """Run the closed loop by the estimate: watch it, and now and then make a speed step."""
    c, start = drive.control, drive.start
    x[ANGLE_SEEN] = seen[OUT_ANGLE]
    if seen[VALID] == 0.0 and seen[AXIS_VALID] == 0.0:
        x[LOST_CLOCK] += c.ts
        if x[LOST_CLOCK] > start.lost:
            if target == 0.0:  # slowed down until nothing is seen any more: it was to stand
                released(x, c)
                x[PHASE] = RESTING
            else:
                _failed(x, drive, LOST)
            return
    else:
        x[LOST_CLOCK] = 0.0
    if x[PHASE_CLOCK] > start.wait:  # it runs: the tries count anew
        x[TRIES] = 0.0
    if speed_due:
        raw, period = seen[SPEED] / drive.machine.pole_pairs, c.ts * c.speed_divider
        follow = 1.0 - math.exp(-c.speed_filter * period) if c.speed_filter > 0.0 else 1.0
        x[SPEED_SEEN] += follow * (raw - x[SPEED_SEEN])
        speed_loop(x, drive, target)
    fading = x[BLEND] * max(1.0 - x[PHASE_CLOCK] / start.blend, 0.0) if start.blend > 0.0 else 0.0
    x[ID_REF] = fading + x[WEAK]
    if start.low_down > 0.0 and abs(x[REF]) < start.low_down and x[PHASE_CLOCK] > start.blend:
        _force_again(x, seen, drive)


@inlined
def sensorless(
    x: FloatArray,
    seen: FloatArray,
    drive: Drive,
    inputs: FloatArray,
    mode: int,
    speed_due: bool,
    whole: int,
    early: float,
) -> tuple[float, float]:
    """Run one period; return the stationary voltage [V] it commands. ``seen`` (SEEN_INJECTED,) is the estimator's part of the state."""
    c = drive.control
    # a drive that is asked to stand does not start
    runs = mode != OFF and (mode == CURRENT or x[PHASE] != RESTING or inputs[IN_SPEED] != 0.0)
    va = vb = 0.0
    if runs:
        alpha, beta = _look(x, seen, drive, whole, early)
        if mode == CURRENT:  # by the estimate, as far as there is one
            x[PHASE] = CLOSED
            x[ANGLE_SEEN], x[SPEED_SEEN] = seen[OUT_ANGLE], seen[SPEED] / drive.machine.pole_pairs
            x[ID_REF], x[IQ_REF] = inputs[IN_ID], inputs[IN_IQ]
        else:
            x[PHASE_CLOCK] += c.ts
            if x[PHASE] != CLOSED:
                _before_closed(x, seen, drive, inputs[IN_SPEED])
            if x[PHASE] == CLOSED:
                _closed(x, seen, drive, inputs[IN_SPEED], speed_due)
        runs = x[PHASE] != RESTING
        injected = 0.0
        if drive.injected.volts > 0.0 and x[PHASE] >= SEEKING and _share(x, seen, drive) > 0.0:
            injected = _injected_volts(x, drive)
        hold_currents(
            x, drive, alpha, beta, x[ID_REF], x[IQ_REF], c.decouple if x[PHASE] == CLOSED else 0.0, injected
        )
        own = x[VD]
        if injected > 0.0:
            seen[SIGN] = 1.0 if seen[SIGN] <= 0.0 else -1.0
            x[VD] = own + seen[SIGN] * injected
        va, vb = command(x, drive)
        x[VD] = own
    if mode == OFF:
        x[PHASE_CLOCK] = x[TRIES] = 0.0
    if not runs:
        released(x, c)
        x[PHASE] = RESTING
        clear(seen, 0.0, 0.0)
        va = vb = 0.0
    return va, vb
