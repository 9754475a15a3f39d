"""The state machine of a drive by CiA 402-2 (IEC 61800-7-201): states, status words, control words, transitions; for the drive that obeys it and for whoever commands one.

Transitions are numbered as in the standard's figure. Error codes are the standard's, written from memory.
"""

from __future__ import annotations

from enum import Enum

from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import (
    FOLLOWING,
    LOST,
    NO_POLE,
    NO_START,
    OVER_CURRENT,
    OVER_SPEED,
    OVER_VOLTAGE,
    OVERLOAD,
    STALL,
    UNDER_VOLTAGE,
)

CONTROLWORD, STATUSWORD, MODE, MODE_SHOWN = 0x6040, 0x6041, 0x6060, 0x6061
ERROR_CODE, VELOCITY, TARGET_VELOCITY, SUPPORTED_MODES = 0x603F, 0x606C, 0x60FF, 0x6502
#: Moves from rest to rest, where the drive knows a place: mode, target and actual position, profile velocity and acceleration, and the windows around target and profile.
POSITION, TARGET_POSITION, PROFILE_SPEED, PROFILE_ACCEL = 0x6064, 0x607A, 0x6081, 0x6083
FOLLOWING_WINDOW, POSITION_WINDOW = 0x6065, 0x6067
#: Homing: its method, its speeds (sought, found) and its acceleration.
HOMING_METHOD, HOMING_SPEEDS, HOMING_ACCEL = 0x6098, 0x6099, 0x609A
#: Profile position, profile velocity and homing: the modes that the simulated drive has.
PROFILE_POSITION, PROFILE_VELOCITY, HOMING = 1, 3, 6
#: Bits of the control word: new set-point (a homing begins with it), at once instead of after the one under way, relative, halt.
NEW_SET_POINT, AT_ONCE, RELATIVE, HALT = 0x10, 0x20, 0x40, 0x100
#: Bits of the status word in a move: target reached, set-point taken, following error; in a homing the last two say found and not found.
TARGET_REACHED, SET_POINT_TAKEN, FOLLOWING_ERROR = 0x400, 0x1000, 0x2000
HOME_FOUND, HOMING_ERROR = 0x1000, 0x2000
ERROR_CODES = {
    OVER_CURRENT: 0x2310, OVERLOAD: 0x2350, OVER_VOLTAGE: 0x3210, UNDER_VOLTAGE: 0x3220, STALL: 0x7121, LOST: 0x7300, NO_START: 0x7300, NO_POLE: 0x7300, OVER_SPEED: 0x8400, FOLLOWING: 0x8611,
}  # fmt: skip


class State(Enum):
    """A state: the bits of the status word that tell it, and the mask of those bits."""

    NOT_READY = (0x00, 0x4F)
    SWITCH_ON_DISABLED = (0x40, 0x4F)
    READY_TO_SWITCH_ON = (0x21, 0x6F)
    SWITCHED_ON = (0x23, 0x6F)
    OPERATION_ENABLED = (0x27, 0x6F)
    QUICK_STOP_ACTIVE = (0x07, 0x6F)
    FAULT_REACTION_ACTIVE = (0x0F, 0x4F)
    FAULT = (0x08, 0x4F)


def state_of(status: int) -> State:
    """Return the state that a status word tells; raises Refusal for a word that is none."""
    for state in State:
        bits, mask = state.value
        if status & mask == bits:
            return state
    raise Refusal(f"the status word 0x{status:04X} is none of CiA 402", "look at the description")


class Command(Enum):
    """What a control word asks for: its bits, and the mask of those bits."""

    DISABLE_VOLTAGE = (0x00, 0x02)
    QUICK_STOP = (0x02, 0x06)
    SHUTDOWN = (0x06, 0x07)
    SWITCH_ON = (0x07, 0x0F)
    ENABLE_OPERATION = (0x0F, 0x0F)


def command_of(control: int) -> Command:
    """Return what a control word asks for, its fault reset aside."""
    return next(c for c in Command if control & c.value[1] == c.value[0])


#: State and command → number of the transition and the state it leads to. Fault reset (15) is an edge and stands apart.
TRANSITIONS: dict[tuple[State, Command], tuple[int, State]] = {
    (State.SWITCH_ON_DISABLED, Command.SHUTDOWN): (2, State.READY_TO_SWITCH_ON),
    (State.READY_TO_SWITCH_ON, Command.SWITCH_ON): (3, State.SWITCHED_ON),
    (State.READY_TO_SWITCH_ON, Command.QUICK_STOP): (7, State.SWITCH_ON_DISABLED),
    (State.READY_TO_SWITCH_ON, Command.DISABLE_VOLTAGE): (7, State.SWITCH_ON_DISABLED),
    (State.SWITCHED_ON, Command.ENABLE_OPERATION): (4, State.OPERATION_ENABLED),
    (State.SWITCHED_ON, Command.SHUTDOWN): (6, State.READY_TO_SWITCH_ON),
    (State.SWITCHED_ON, Command.QUICK_STOP): (10, State.SWITCH_ON_DISABLED),
    (State.SWITCHED_ON, Command.DISABLE_VOLTAGE): (10, State.SWITCH_ON_DISABLED),
    (State.OPERATION_ENABLED, Command.SWITCH_ON): (5, State.SWITCHED_ON),
    (State.OPERATION_ENABLED, Command.SHUTDOWN): (8, State.READY_TO_SWITCH_ON),
    (State.OPERATION_ENABLED, Command.DISABLE_VOLTAGE): (9, State.SWITCH_ON_DISABLED),
    (State.OPERATION_ENABLED, Command.QUICK_STOP): (11, State.QUICK_STOP_ACTIVE),
    (State.QUICK_STOP_ACTIVE, Command.DISABLE_VOLTAGE): (12, State.SWITCH_ON_DISABLED),
}  # fmt: skip
_RESET = 0x80


class Machine:
    """The machine of one drive. It begins as the drive powers up, which passes by itself (0 and 1)."""

    def __init__(self) -> None:
        self.state = State.SWITCH_ON_DISABLED
        self._control = 0

    def write(self, control: int) -> tuple[int, ...]:
        """Take a control word; return the transitions that it made. Nothing is done for a word that asks nothing of this state.

        From Ready to switch on, Enable operation goes by Switch on (3, then 4), as the standard allows.
        """
        reset = bool(control & _RESET) and not self._control & _RESET
        self._control = control
        if self.state is State.FAULT:
            if not reset:
                return ()
            self.state = State.SWITCH_ON_DISABLED
            return (15,)
        asked = command_of(control)
        if asked is Command.ENABLE_OPERATION and self.state is State.READY_TO_SWITCH_ON:
            self.state = State.OPERATION_ENABLED
            return (3, 4)
        found = TRANSITIONS.get((self.state, asked))
        if found is None:
            return ()
        number, self.state = found
        return (number,)

    def refuse(self) -> None:
        """Undo Enable operation where the drive does not let itself be enabled."""
        if self.state is State.OPERATION_ENABLED:
            self.state = State.SWITCHED_ON

    def fell(self) -> tuple[int, ...]:
        """A fault came (13)."""
        if self.state in (State.FAULT, State.FAULT_REACTION_ACTIVE):
            return ()
        self.state = State.FAULT_REACTION_ACTIVE
        return (13,)

    def rested(self) -> tuple[int, ...]:
        """The shaft rests: a fault's reaction is over (14), a quick stop too (12)."""
        if self.state is State.FAULT_REACTION_ACTIVE:
            self.state = State.FAULT
            return (14,)
        if self.state is State.QUICK_STOP_ACTIVE:
            self.state = State.SWITCH_ON_DISABLED
            return (12,)
        return ()

    def let_go(self) -> None:
        """Whoever commanded is gone: the drive disarmed by itself."""
        if self.state is State.OPERATION_ENABLED:
            self.state = State.SWITCH_ON_DISABLED

    @property
    def status(self) -> int:
        """The status word: the state, voltage enabled (bit 4) from Ready to switch on, remote (bit 9)."""
        on = self.state in (State.READY_TO_SWITCH_ON, State.SWITCHED_ON, State.OPERATION_ENABLED, State.QUICK_STOP_ACTIVE)
        return self.state.value[0] | (0x10 if on else 0) | 0x200


#: Control words that lead on from a state to Operation enabled.
_ON = {
    State.SWITCH_ON_DISABLED: 0x06, State.READY_TO_SWITCH_ON: 0x07, State.SWITCHED_ON: 0x0F, State.QUICK_STOP_ACTIVE: 0x00,
}  # fmt: skip


def next_word(state: State) -> int | None:
    """Return the control word that leads a drive on towards Operation enabled, None where it is there; raises Refusal where a fault stands."""
    if state in (State.FAULT, State.FAULT_REACTION_ACTIVE):
        raise Refusal("a fault stands", "find its cause, then acknowledge it")
    return None if state is State.OPERATION_ENABLED else _ON.get(state, 0x00)
