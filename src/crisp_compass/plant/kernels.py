"""Whole runs, compiled: control, inverter, machine and sensors stepped together. Model and sources: docs/theory.md, “Plant”.

The stationary voltage vector is constant (averaged inverter) but for the moment within a period at which a fractional delay lets
the next one in. A run's kernel is picked once, by the machine it is of.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.field_oriented import firmware, speed_step
from crisp_compass.plant.machines.permanent_magnet import advance, decay_weights
from crisp_compass.plant.parameters import NO_FAULT, OFF, SPEED, Drive, Machine
from crisp_compass.plant.protection import protect
from crisp_compass.plant.sensors import sense_angle, sense_speed
from crisp_compass.plant.state import (
    COS,
    COUNT,
    FAST,
    FAULT,
    ID,
    ID_REF,
    IN_DRIVES,
    IN_LOAD,
    IN_MODE,
    IN_SPEED,
    IN_SUPPLY,
    IQ,
    IQ_REF,
    OMEGA,
    REF,
    SIN,
    SPEED_SEEN,
    SQRT3,
    SUBSTEPS,
    THETA,
    TIME,
    TORQUE,
    V_ALPHA,
    V_BETA,
    V_BUS,
    VD,
    VQ,
)


@njit(cache=True, nogil=True, error_model="numpy", fastmath=FAST)
def record(x: FloatArray, row: FloatArray, theta_e: float) -> None:
    """Write one row in the order of ``OUT``."""
    ct, st = x[COS], x[SIN]
    alpha, beta = x[ID] * ct - x[IQ] * st, x[ID] * st + x[IQ] * ct
    row[0], row[1], row[2], row[3] = x[TIME], x[REF], x[OMEGA], x[ID_REF]
    row[4], row[5], row[6], row[7], row[8] = x[ID], x[IQ_REF], x[IQ], x[VD], x[VQ]
    row[9], row[10] = alpha, -0.5 * alpha + 0.5 * SQRT3 * beta
    row[11] = -row[9] - row[10]
    row[12], row[13], row[14], row[15] = x[V_BUS], x[TORQUE], x[THETA], theta_e
    row[16] = x[SPEED_SEEN]


@njit(cache=True, nogil=True, error_model="numpy", fastmath=FAST)
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
    usual[1], usual[2], usual[3] = decay_weights(drive.machine.r / drive.machine.ld, usual[0])
    usual[4], usual[5], usual[6] = decay_weights(drive.machine.r / drive.machine.lq, usual[0])
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
        sense_angle(x, drive, edges, table_edges)
        if speed_phase == 0:
            sense_speed(x, drive)
            if mode == SPEED:
                speed_step(x, drive, inputs[IN_SPEED])
        speed_phase = speed_phase + 1 if speed_phase + 1 < divider else 0
        next_a, next_b = firmware(x, drive, inputs, mode)
        if mode != OFF:
            protect(x, drive, mode)
            if x[FAULT] != NO_FAULT:
                mode = OFF
        if row_phase == 0 and rows < len(out):
            record(x, out[rows], te)
            rows += 1
        row_phase = row_phase + 1 if row_phase + 1 < every else 0
        for k in range(whole + 1, 0, -1):
            x[V_ALPHA + k], x[V_BETA + k] = x[V_ALPHA + k - 1], x[V_BETA + k - 1]
        x[V_ALPHA], x[V_BETA] = next_a, next_b
        drives = inputs[IN_LOAD] if inputs[IN_DRIVES] != 0.0 else 0.0
        holds = 0.0 if inputs[IN_DRIVES] != 0.0 else abs(inputs[IN_LOAD])
        if early > 0.0:
            advance(x, drive, x[V_ALPHA + whole + 1], x[V_BETA + whole + 1], mode != OFF, drives, holds, early, usual)
        advance(x, drive, x[V_ALPHA + whole], x[V_BETA + whole], mode != OFF, drives, holds, c.ts - early, usual)
        x[TIME] += c.ts
    return rows


#: Kernels by the machine they run.
KERNELS = {Machine: run}
