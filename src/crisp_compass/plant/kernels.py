"""Compiled kernels of the drive; nothing stateful lives here. Model and sources: docs/theory.md, “Plant”.

The state is one float array (see the index names), so that a run can stop and go on anywhere. The stationary voltage
vector is constant (averaged inverter) but for the moment within a period at which a fractional delay lets the next one
in. The currents are integrated in the rotor frame by an exponential rule of second order (S. M. Cox, P. C. Matthews,
J. Comput. Phys. 176, 2002: ETD2RK): the winding's own decay is exact, however short L/R is against the period; speed and
angle by Heun's rule. At least 4 sub-steps a period, more where the rotor turns far within one.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from crisp_compass.estimates import FloatArray
from crisp_compass.plant.parameters import (
    ALIGN,
    CURRENT,
    HALLS,
    MOST_DELAY,
    NO_FAULT,
    OFF,
    OVER_CURRENT,
    SPEED,
    STALL,
    UNDER_VOLTAGE,
    Control,
    Drive,
    Load,
    Machine,
)

# fmt: off
(ID, IQ, OMEGA, THETA, TIME, INT_D, INT_Q, INT_SPEED, REF, SPEED_SEEN, IQ_REF, ID_REF, COUNT, LAST_ANGLE,
 FAULT, STALL_CLOCK, V_BUS, TORQUE, SECTOR, EDGE_CLOCK, HALL_SPEED, VD, VQ, ANGLE_SEEN, IA, IB, EDGE_ANGLE, RNG_STATE, COS, SIN, COS_SEEN, SIN_SEEN) = range(32)
# voltages commanded, the newest first: one for each period of the longest delay and the two that share a period
HISTORY = MOST_DELAY + 2
V_ALPHA, V_BETA = 32, 32 + HISTORY
STATES = 32 + 2 * HISTORY
# what is asked of the drive at the moment; IN_DRIVES 1 where the load drives (a weight), 0 where it only brakes
IN_MODE, IN_SPEED, IN_ID, IN_IQ, IN_LOAD, IN_SUPPLY, IN_DRIVES = range(7)
INPUTS = 7
# one recorded row
OUT = ("t", "speed_ref", "speed", "i_d_ref", "i_d", "i_q_ref", "i_q", "v_d", "v_q", "i_a", "i_b", "i_c", "v_bus", "torque", "angle", "theta_e", "speed_seen")
# fmt: on
SUBSTEPS = 4
_FAST = {"contract", "reassoc", "arcp", "nsz"}  # no assumption about NaN or infinity
_TABLE = np.random.default_rng(20).standard_normal(1 << 14)
_TWO_PI = 2 * math.pi
_PER_TURN = 1 / _TWO_PI
_SQRT3 = math.sqrt(3.0)


@njit(cache=True, inline="always", error_model="numpy", fastmath=_FAST)
def _normal(x: FloatArray) -> float:
    """Return a standard normal number: a table picked from by a 32-bit linear congruential generator in the state."""
    n = (np.uint64(x[RNG_STATE]) * np.uint64(1664525) + np.uint64(1013904223)) & np.uint64(0xFFFFFFFF)
    x[RNG_STATE] = float(n)
    return float(_TABLE[n >> np.uint64(18)])


@njit(cache=True, inline="always", error_model="numpy", fastmath=_FAST)
def _seen(x: FloatArray, i: float, offset: float, noise: float, step: float, full: float) -> float:
    value = i + offset
    if noise > 0:
        value += noise * _normal(x)
    if step > 0:
        value = step * math.floor(value / step + 0.5)
    return min(full, max(-full, value))


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _hall_sector(theta: float, edges: FloatArray) -> int:
    """Return the sector whose lower edge lies last below theta (edges ascend within one turn)."""
    x = theta % _TWO_PI
    for k in range(5, -1, -1):
        if x >= edges[k]:
            return k
    return 5


@njit(cache=True, inline="always", error_model="numpy", fastmath=_FAST)
def _friction(drive_torque: float, w: float, coulomb: float) -> float:
    """Return the accelerating torque; at rest Coulomb friction holds until it is exceeded."""
    if w > 0 or (w == 0 and drive_torque > coulomb):
        return drive_torque - coulomb
    if w < 0 or (w == 0 and drive_torque < -coulomb):
        return drive_torque + coulomb
    return 0.0


@njit(cache=True, inline="always", error_model="numpy", fastmath=_FAST)
def _iron(i: float, inductance: float, rest: float, knee: float) -> tuple[float, float]:
    """Return flux and incremental inductance of one axis whose iron saturates (identify.saturation's curve)."""
    x = i / knee
    flux = inductance * (rest * i + (1.0 - rest) * knee * math.atan(x))
    return flux, inductance * (rest + (1.0 - rest) / (1.0 + x * x))


@njit(cache=True, inline="always", error_model="numpy", fastmath=_FAST)
def _decay(rate: float, h: float) -> tuple[float, float, float]:
    """Return e^(−z), (1 − e^(−z))/rate and (e^(−z) − 1 + z)/(rate·z) with z = rate·h: the weights of the exponential rule."""
    z = rate * h
    if z < 1e-3:
        return math.exp(-z), h * (1.0 - z * (0.5 - z / 6.0)), h * (0.5 - z * (1.0 / 6.0 - z / 24.0))
    e = math.exp(-z)
    return e, (1.0 - e) / rate, (e - 1.0 + z) / (rate * z)


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _advance(
    x: FloatArray,
    drive: Drive,
    va: float,
    vb: float,
    active: bool,
    load: float,
    holds: float,
    span: float,
    usual: FloatArray,
) -> None:
    """Advance the machine by ``span`` seconds under one stationary voltage; ``load`` drives, ``holds`` only brakes [N·m].

    ``usual`` (7,) holds the weights of the usual sub-step and its length. The rotor's sine and cosine are turned on by each sub-step's angle instead of being computed anew; they start each
    period exact.
    """
    m, inv = drive.machine, drive.inverter
    p, r, ld, lq, psi = m.pole_pairs, m.r, m.ld, m.lq, m.psi
    slope_d, slope_q, over_j = ld, lq, 1.0 / drive.load.inertia
    loss = inv.dead_voltage if active else 0.0
    coulomb, viscous = drive.load.coulomb + holds, drive.load.viscous
    i_d, i_q, w, th = x[ID], x[IQ], x[OMEGA], x[THETA]
    # sub-steps of a quarter period, and of no more than an eighth of a radian
    steps = max(math.ceil(SUBSTEPS * span / drive.control.ts - 1e-9), math.ceil(min(8.0 * abs(p * w * span), 64.0)))
    h = span / steps
    rate_d, rate_q = r / ld, r / lq
    if h == usual[0]:
        e_d, first_d, second_d, e_q, first_q, second_q = usual[1], usual[2], usual[3], usual[4], usual[5], usual[6]
    else:
        e_d, first_d, second_d = _decay(rate_d, h)
        e_q, first_q, second_q = _decay(rate_q, h)
    # never a steeper knee than the sub-step resolves; the current's ripple, which makes the knee, is always wider
    knee = max(inv.knee, loss * max(first_d / ld, first_q / lq), 1e-9)
    over_knee = 1.0 / knee
    c, s = x[COS], x[SIN]
    saturates = m.saturated < 1.0
    for _ in range(steps):
        d0, q0, w0 = i_d, i_q, w
        n_d = n_q = k_w0 = k_w = 0.0
        if saturates:
            _, slope_d = _iron(i_d, ld, m.saturated, m.i_sat)
            _, slope_q = _iron(i_q, lq, m.saturated, m.i_sat)
            rate_d, rate_q = r / slope_d, r / slope_q
            e_d, first_d, second_d = _decay(rate_d, h)
            e_q, first_q, second_q = _decay(rate_q, h)
        for stage in range(2):
            we = p * w
            flux_d, flux_q = ld * i_d, lq * i_q
            if saturates:
                flux_d, slope_d = _iron(i_d, ld, m.saturated, m.i_sat)
                flux_q, slope_q = _iron(i_q, lq, m.saturated, m.i_sat)
            f_d = f_q = 0.0
            if active:
                ua, ub = va, vb
                if loss > 0:
                    alpha, beta = i_d * c - i_q * s, i_d * s + i_q * c
                    half = 0.5 * _SQRT3 * beta
                    ea = min(1.0, max(-1.0, alpha * over_knee))
                    eb = min(1.0, max(-1.0, (half - 0.5 * alpha) * over_knee))
                    ec = min(1.0, max(-1.0, (-half - 0.5 * alpha) * over_knee))
                    ua -= loss * (2.0 * ea - eb - ec) / 3.0
                    ub -= loss * (eb - ec) / _SQRT3
                # what acts on each current beside its own decay at rate R/L
                f_d = (ua * c + ub * s - r * i_d + we * flux_q) / slope_d + rate_d * i_d
                f_q = (ub * c - ua * s - r * i_q - we * (flux_d + psi)) / slope_q + rate_q * i_q
            torque = 1.5 * p * ((psi + flux_d) * i_q - flux_q * i_d)
            k_w = _friction(torque - viscous * w - load, w, coulomb) * over_j
            if stage == 0:
                n_d, n_q, k_w0 = f_d, f_q, k_w
                if active:
                    i_d, i_q = e_d * d0 + first_d * n_d, e_q * q0 + first_q * n_q
                w = w0 + h * k_w
                if w0 * w < 0:
                    w = 0.0
                turn = h * p * (w0 + 0.5 * h * k_w)
                square = turn * turn  # at most an eighth of a radian and what the speed gained
                sin_t = turn * (1.0 - square * (1.0 / 6.0) * (1.0 - square * (1.0 / 20.0)))
                cos_t = 1.0 - square * (0.5 - square * (1.0 / 24.0 - square * (1.0 / 720.0)))
                c, s = c * cos_t - s * sin_t, s * cos_t + c * sin_t
            elif active:
                i_d, i_q = i_d + second_d * (f_d - n_d), i_q + second_q * (f_q - n_q)
        if not active and (i_d != 0 or i_q != 0):
            # switches off: diodes return the current to the supply until it is gone
            size = math.sqrt(i_d * i_d + i_q * i_q)
            left = max(size - h * (0.6 * x[V_BUS] + r * size) * 2.0 / (ld + lq), 0.0)
            i_d, i_q = i_d * left / size, i_q * left / size
        w = w0 + 0.5 * h * (k_w0 + k_w)
        if w0 * w < 0:  # friction stops the rotor before it can reverse it
            w = 0.0
        th += 0.5 * h * (w0 + w)
    flux_d, flux_q = ld * i_d, lq * i_q
    if saturates:
        flux_d, slope_d = _iron(i_d, ld, m.saturated, m.i_sat)
        flux_q, slope_q = _iron(i_q, lq, m.saturated, m.i_sat)
    x[TORQUE] = 1.5 * p * ((psi + flux_d) * i_q - flux_q * i_d)
    x[ID], x[IQ], x[OMEGA], x[THETA], x[COS], x[SIN] = i_d, i_q, w, th, c, s


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _sense_angle(x: FloatArray, drive: Drive, edges: FloatArray, table_edges: FloatArray) -> None:
    """Update the firmware's angle (electrical rad) and, with halls, its speed."""
    p, ts = drive.machine.pole_pairs, drive.control.ts
    if drive.sensing.angle_sensor == HALLS:
        theta_e = drive.sensing.sense * p * x[THETA]
        sector = _hall_sector(theta_e, edges)
        last = int(x[SECTOR])
        x[EDGE_CLOCK] += ts
        if last < 0:
            x[SECTOR] = sector
            x[EDGE_ANGLE] = -1.0
        elif sector != last:
            forward = (sector - last) % 6 <= 3
            edge = table_edges[sector] if forward else table_edges[(sector + 1) % 6]
            if x[EDGE_ANGLE] >= 0.0:
                travel = (edge - x[EDGE_ANGLE] + math.pi) % _TWO_PI - math.pi
                if (forward and travel < 0) or (not forward and travel > 0):
                    travel = 0.0  # came back over the same edge
                x[HALL_SPEED] = travel / x[EDGE_CLOCK]
            x[EDGE_ANGLE] = edge
            x[EDGE_CLOCK] = 0.0
            x[SECTOR] = sector
        width = (table_edges[(sector + 1) % 6] - table_edges[sector]) % _TWO_PI
        # without an edge the speed can at most be what would just not have reached the next one
        most = width / max(x[EDGE_CLOCK], ts)
        x[HALL_SPEED] = min(most, max(-most, x[HALL_SPEED]))
        if x[EDGE_ANGLE] < 0.0 or abs(x[HALL_SPEED]) < 1.0:
            seen = table_edges[sector] + 0.5 * width
        else:
            run = min(abs(x[HALL_SPEED]) * x[EDGE_CLOCK], width)
            seen = x[EDGE_ANGLE] + (run if x[HALL_SPEED] > 0 else -run)
        x[ANGLE_SEEN] = seen + drive.control.angle_offset
    else:
        n = drive.sensing.counts_per_rev
        counts = math.floor(drive.sensing.sense * x[THETA] * (n * _PER_TURN))
        x[ANGLE_SEEN] = p * (counts + 0.5) * (_TWO_PI / n) + drive.control.angle_offset


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _sense_speed(x: FloatArray, drive: Drive) -> None:
    """Update the firmware's mechanical speed once a speed step."""
    c = drive.control
    period = c.ts * c.speed_divider
    if drive.sensing.angle_sensor == HALLS:
        raw = x[HALL_SPEED] / drive.machine.pole_pairs
    else:
        n = drive.sensing.counts_per_rev
        counts = math.floor(drive.sensing.sense * x[THETA] * (n * _PER_TURN))
        raw = (counts - x[LAST_ANGLE]) * _TWO_PI / n / period
        x[LAST_ANGLE] = counts
    if c.speed_filter > 0:
        x[SPEED_SEEN] += (1.0 - math.exp(-c.speed_filter * period)) * (raw - x[SPEED_SEEN])
    else:
        x[SPEED_SEEN] = raw


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _speed_step(x: FloatArray, drive: Drive, target: float) -> None:
    """Ramp, PI with clamped integrator."""
    c = drive.control
    period = c.ts * c.speed_divider
    most = c.ramp * period
    x[REF] += min(most, max(-most, target - x[REF]))
    error = x[REF] - x[SPEED_SEEN]
    trial = x[INT_SPEED] + c.ki_speed * period * error
    want = c.kp_speed * error + trial
    limited = min(c.i_limit, max(-c.i_limit, want))
    if want == limited or error * want < 0:
        x[INT_SPEED] = trial
    x[IQ_REF] = limited


@njit(cache=True, inline="always", error_model="numpy", fastmath=_FAST)
def regulate(
    c: Control, int_d: float, int_q: float, e_d: float, e_q: float, feed_d: float, feed_q: float, limit: float
) -> tuple[float, float, float, float]:  # fmt: skip
    """Return v_d, v_q [V] and the two integrators after one step of the current controller.

    Parallel PI on errors [A] with feed-forward [V]; the voltage limit [V] is a circle, d first. At the limit an integrator
    goes the share ``track`` of the way to what the limited voltage leaves for it (loops.current.limit_tracking).
    """
    new_d, new_q = int_d + c.ki_d * c.ts * e_d, int_q + c.ki_q * c.ts * e_q
    vd, vq = c.kp_d * e_d + new_d + feed_d, c.kp_q * e_q + new_q + feed_q
    vd_set = min(limit, max(-limit, vd))
    rest = math.sqrt(max(limit * limit - vd_set * vd_set, 0.0))
    vq_set = min(rest, max(-rest, vq))
    if vd_set != vd:
        new_d = int_d + c.track_d * (c.kp_d * e_d + vd_set - vd)
    if vq_set != vq:
        new_q = int_q + c.track_q * (c.kp_q * e_q + vq_set - vq)
    return vd_set, vq_set, new_d, new_q


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _current_step(x: FloatArray, drive: Drive, id_ref: float, iq_ref: float) -> None:
    """PI on d and q with decoupling; the voltage limit is a circle, d first."""
    c, s = drive.control, drive.sensing
    ct, st = x[COS], x[SIN]
    alpha, beta = x[ID] * ct - x[IQ] * st, x[ID] * st + x[IQ] * ct
    ia = _seen(x, alpha, s.offset_a, s.noise, s.step, s.full_scale)
    ib = _seen(x, -0.5 * alpha + 0.5 * _SQRT3 * beta, s.offset_b, s.noise, s.step, s.full_scale)
    x[IA], x[IB] = ia, ib
    alpha_seen, beta_seen = ia, (ia + 2.0 * ib) / _SQRT3
    cs, ss = math.cos(x[ANGLE_SEEN]), math.sin(x[ANGLE_SEEN])
    x[COS_SEEN], x[SIN_SEEN] = cs, ss
    i_d, i_q = alpha_seen * cs + beta_seen * ss, -alpha_seen * ss + beta_seen * cs
    we = drive.machine.pole_pairs * x[SPEED_SEEN] * c.decouple
    feed_d, feed_q = -we * c.lq * i_q, we * (c.ld * i_d + c.psi)
    limit = x[V_BUS] * c.volts_per_bus
    x[VD], x[VQ], x[INT_D], x[INT_Q] = regulate(
        c, x[INT_D], x[INT_Q], id_ref - i_d, iq_ref - i_q, feed_d, feed_q, limit
    )


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _firmware(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> tuple[float, float]:
    """Run the current controller of one period; return the stationary voltage it commands, its angle advanced by the delay."""
    if mode == OFF:
        x[INT_D] = x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[ID_REF] = 0.0
        x[VD] = x[VQ] = 0.0
        x[REF] = x[SPEED_SEEN]
        return 0.0, 0.0
    if mode == ALIGN:  # a voltage held along phase A
        x[VD], x[VQ] = inputs[IN_ID], 0.0
        return inputs[IN_ID], 0.0
    if mode == CURRENT:
        x[ID_REF], x[IQ_REF] = inputs[IN_ID], inputs[IN_IQ]
    else:
        x[ID_REF] = 0.0
    _current_step(x, drive, x[ID_REF], x[IQ_REF])
    ahead = drive.control.delay_samples * drive.control.ts * drive.machine.pole_pairs * x[SPEED_SEEN]
    turn_c, turn_s = math.cos(ahead), math.sin(ahead)
    ca, sa = x[COS_SEEN] * turn_c - x[SIN_SEEN] * turn_s, x[SIN_SEEN] * turn_c + x[COS_SEEN] * turn_s
    return x[VD] * ca - x[VQ] * sa, x[VD] * sa + x[VQ] * ca


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _protect(x: FloatArray, drive: Drive, mode: int) -> None:
    """Latch a fault: over-current, under-voltage, or full current at standstill for too long."""
    c = drive.control
    stuck = abs(x[IQ_REF]) > 0.95 * c.i_limit and abs(x[OMEGA]) < 0.02 * max(abs(x[REF]), 1.0) + 0.5
    if math.sqrt(x[ID] * x[ID] + x[IQ] * x[IQ]) > c.i_trip:
        x[FAULT] = OVER_CURRENT
    elif x[V_BUS] < c.v_min:
        x[FAULT] = UNDER_VOLTAGE
    elif mode == SPEED and stuck:
        x[STALL_CLOCK] += c.ts
        if x[STALL_CLOCK] > c.stall_time:
            x[FAULT] = STALL
    else:
        x[STALL_CLOCK] = 0.0


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def _record(x: FloatArray, row: FloatArray, theta_e: float) -> None:
    """Write one row in the order of ``OUT``."""
    ct, st = x[COS], x[SIN]
    alpha, beta = x[ID] * ct - x[IQ] * st, x[ID] * st + x[IQ] * ct
    row[0], row[1], row[2], row[3] = x[TIME], x[REF], x[OMEGA], x[ID_REF]
    row[4], row[5], row[6], row[7], row[8] = x[ID], x[IQ_REF], x[IQ], x[VD], x[VQ]
    row[9], row[10] = alpha, -0.5 * alpha + 0.5 * _SQRT3 * beta
    row[11] = -row[9] - row[10]
    row[12], row[13], row[14], row[15] = x[V_BUS], x[TORQUE], x[THETA], theta_e
    row[16] = x[SPEED_SEEN]


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def run(
    x: FloatArray,
    drive: Drive,
    inputs: FloatArray,
    edges: FloatArray,
    table_edges: FloatArray,
    steps: int,
    every: int,
    out: FloatArray,
) -> int:
    """Advance ``steps`` sampling periods; write every ``every``-th one into ``out`` (rows, 17). Return rows written.

    ``x`` (STATES,) is changed in place. ``inputs`` (7,) holds mode, speed [rad/s], id, iq [A], load torque [N·m],
    supply [V] and whether the load drives. ``edges`` and ``table_edges`` (6,) are the hall edges as mounted and as the firmware believes them, rad.
    """
    c, inv = drive.control, drive.inverter
    computing = c.delay_samples - 0.5  # the hold is the other half period of the delay
    whole = int(computing + 1e-9)
    early = c.ts * (computing - whole) if computing - whole > 1e-9 else 0.0
    p = drive.machine.pole_pairs
    usual = np.empty(7)
    usual[0] = (c.ts - early) / math.ceil(SUBSTEPS * (c.ts - early) / c.ts - 1e-9)
    usual[1], usual[2], usual[3] = _decay(drive.machine.r / drive.machine.ld, usual[0])
    usual[4], usual[5], usual[6] = _decay(drive.machine.r / drive.machine.lq, usual[0])
    rows = 0
    divider = int(c.speed_divider)
    speed_phase = int(x[COUNT]) % divider
    row_phase = int(x[COUNT]) % every
    x[COUNT] += float(steps)
    for _ in range(steps):
        mode = int(inputs[IN_MODE])
        if x[FAULT] != NO_FAULT:
            mode = OFF
        power = 1.5 * (x[VD] * x[ID] + x[VQ] * x[IQ]) if mode != OFF else 0.0
        x[V_BUS] = inputs[IN_SUPPLY] - inv.r_supply * power / max(x[V_BUS], 1.0)
        te = p * x[THETA]
        x[COS], x[SIN] = math.cos(te), math.sin(te)
        _sense_angle(x, drive, edges, table_edges)
        if speed_phase == 0:
            _sense_speed(x, drive)
            if mode == SPEED:
                _speed_step(x, drive, inputs[IN_SPEED])
        speed_phase = speed_phase + 1 if speed_phase + 1 < divider else 0
        next_a, next_b = _firmware(x, drive, inputs, mode)
        if mode != OFF:
            _protect(x, drive, mode)
            if x[FAULT] != NO_FAULT:
                mode = OFF
        if row_phase == 0 and rows < len(out):
            _record(x, out[rows], te)
            rows += 1
        row_phase = row_phase + 1 if row_phase + 1 < every else 0
        for k in range(whole + 1, 0, -1):
            x[V_ALPHA + k], x[V_BETA + k] = x[V_ALPHA + k - 1], x[V_BETA + k - 1]
        x[V_ALPHA], x[V_BETA] = next_a, next_b
        drives = inputs[IN_LOAD] if inputs[IN_DRIVES] != 0.0 else 0.0
        holds = 0.0 if inputs[IN_DRIVES] != 0.0 else abs(inputs[IN_LOAD])
        if early > 0.0:
            _advance(
                x, drive, x[V_ALPHA + whole + 1], x[V_BETA + whole + 1], mode != OFF, drives, holds, early, usual
            )
        _advance(x, drive, x[V_ALPHA + whole], x[V_BETA + whole], mode != OFF, drives, holds, c.ts - early, usual)
        x[TIME] += c.ts
    return rows


@njit(cache=True, nogil=True, error_model="numpy", fastmath=_FAST)
def six_step(
    machine: Machine,
    load: Load,
    edges: FloatArray,
    pairs: FloatArray,
    volts: float,
    i_limit: float,
    theta: float,
    dt: float,
    steps: int,
) -> tuple[float, float, float, float]:
    """Run a motor under six-step drive from rest at electrical angle ``theta``: one current through two phases.

    ``edges`` (6,) are the sectors' lower bounds, ascending, ``pairs`` (6,) the angle of the current vector that each
    sector drives, rad; ``volts`` over the pair. Returns the electrical angle travelled [rad], the mean mechanical speed
    [rad/s] and mean current [A] of the last third, and the speed's standard deviation there.
    """  # fmt: skip
    p, r, psi = machine.pole_pairs, 2.0 * machine.r, _SQRT3 * machine.psi
    over_l = 2.0 / (2.0 * (machine.ld + machine.lq))
    over_j, b, c = 1.0 / load.inertia, load.viscous, load.coulomb
    i, w, start = 0.0, 0.0, theta
    first = 2 * steps // 3
    total_w = total_w2 = total_i = 0.0
    for k in range(steps):
        alpha = pairs[_hall_sector(theta, edges)]
        grip = math.sin(alpha - theta)
        i += dt * over_l * (volts - r * i - psi * p * w * grip)
        i = min(i_limit, max(-i_limit, i))
        w0 = w
        w += dt * over_j * _friction(psi * p * i * grip - b * w, w, c)
        if w0 * w < 0.0:
            w = 0.0
        theta += dt * p * w
        if k >= first:
            total_w += w
            total_w2 += w * w
            total_i += abs(i)
    n = float(steps - first)
    mean = total_w / n
    return theta - start, mean, total_i / n, math.sqrt(max(total_w2 / n - mean * mean, 0.0))
