"""The state of a simulated drive as one float array, so that a run can stop and go on anywhere; and what is recorded of it."""

from __future__ import annotations

import math

from crisp_compass.plant.parameters import MOST_DELAY
from crisp_compass.sensorless.injection import SEEN_INJECTED

# fmt: off
(ID, IQ, OMEGA, THETA, TIME, INT_D, INT_Q, INT_SPEED, REF, SPEED_SEEN, IQ_REF, ID_REF, COUNT, LAST_ANGLE,
 FAULT, STALL_CLOCK, V_BUS, TORQUE, SECTOR, EDGE_CLOCK, HALL_SPEED, VD, VQ, ANGLE_SEEN, IA, IB, EDGE_ANGLE, RNG_STATE, COS, SIN, COS_SEEN, SIN_SEEN, FIELD,
 I_ALPHA, I_BETA, PSI_ALPHA, PSI_BETA, FLUX_SEEN, SLIP, PHASE_A, PHASE_B, PHASE_C, IQ_LOW, IQ_HIGH,
 MAGNETIZED, OUT_OF_STEP, WEAK, CUT, VOLTS, HEAT, TRIES, LAG, AT_REST,
 RISE, SMOOTH, NOTCH_1, NOTCH_2, LOAD_SPEED, TWIST, CHOPPER, CHOPPED, DRAWN, SUPPLIED, SQUARE) = range(64)
# voltages commanded, the newest first: one for each period of the longest delay and the two that share a period
HISTORY = MOST_DELAY + 2
V_ALPHA, V_BETA = 64, 64 + HISTORY
# running without a sensor: where the start is, since when, what the row began with; then the estimator's own state
_START = 64 + 2 * HISTORY
PHASE, ROW, PHASE_CLOCK, FORCED, FORCED_FROM, CURRENT_FROM, BLEND, LOST_CLOCK = range(_START, _START + 8)
# a move: the profile and its mean over the last steps, what the shaft is off it [rad]; whether the sensor of angle or speed tells no more
_MOVE = _START + 8
MOVING, PLANNED, PLAN_SPEED, AHEAD, RISE_AHEAD, AT, FOLLOWS, QUIET, RING_AT, SENSOR_LOST, STANDS = range(_MOVE, _MOVE + 11)
# an encoder that watches a stepped field: since when, whether it knows where the field's zero is, and that [rad]; seconds left to settle; corrections made; what the field is turned
# on by to bring the shaft to its place [rad], and for how long it stood outside its window [s]
_WATCH = _MOVE + 11
WATCHING, KNOWN, ORIGIN, SETTLING, TRIED, TRIM, TRIM_CLOCK = range(_WATCH, _WATCH + 7)
#: Steps of the speed loop over which a profile is rounded at most.
MOST_ROUNDING = 512
RING = _WATCH + 7
OBSERVER_STATE = RING + MOST_ROUNDING
STATES = OBSERVER_STATE + SEEN_INJECTED
RESTING, CATCHING, STARTING, FORCING, SEEKING, POLING, CLOSED = range(7)
# what is asked of the drive at the moment; IN_DRIVES 1 where the load drives (a weight), 0 where it only brakes
IN_MODE, IN_SPEED, IN_ID, IN_IQ, IN_LOAD, IN_SUPPLY, IN_DRIVES, IN_POSITION = range(8)
INPUTS = 8
# one recorded row
OUT = ("t", "speed_ref", "speed", "i_d_ref", "i_d", "i_q_ref", "i_q", "v_d", "v_q", "i_a", "i_b", "i_c", "v_bus", "torque", "angle", "theta_e", "speed_seen", "theta_seen", "phase", "theta_est", "emf_seen", "valid", "angle_ref")
# fmt: on
SUBSTEPS = 4
TWO_PI = 2 * math.pi
SQRT3 = math.sqrt(3.0)
