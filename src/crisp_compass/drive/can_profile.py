"""The simulated drive as a CiA 402 node: control and status word, profile velocity and, where moves are settled, profile position and homing, process data, emergencies; beside its own objects.

Process data: RPDO 1 takes control word and target velocity, TPDO 1 tells status word and velocity (CiA 301, CiA 402-2). One count of velocity is that of the
drive's own command. Whatever is written to control word or target velocity shows that the master is there.
"""

from __future__ import annotations

from typing import Any

from crisp_compass.drive.cia402 import (
    AT_ONCE,
    CONTROLWORD,
    ERROR_CODE,
    ERROR_CODES,
    FOLLOWING_ERROR,
    FOLLOWING_WINDOW,
    HALT,
    HOME_FOUND,
    HOMING,
    HOMING_ACCEL,
    HOMING_ERROR,
    HOMING_METHOD,
    HOMING_SPEEDS,
    MODE,
    MODE_SHOWN,
    NEW_SET_POINT,
    POSITION,
    POSITION_WINDOW,
    PROFILE_ACCEL,
    PROFILE_POSITION,
    PROFILE_SPEED,
    PROFILE_VELOCITY,
    RELATIVE,
    SET_POINT_TAKEN,
    STATUSWORD,
    SUPPORTED_MODES,
    TARGET_POSITION,
    TARGET_REACHED,
    TARGET_VELOCITY,
    VELOCITY,
    Machine,
    State,
)
from crisp_compass.drive.description import Entry
from crisp_compass.drive.registers import raw_of
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.served_homing import FOUND, HERE, NOT_FOUND, SEEKS
from crisp_compass.drive.served_rules import AT_REST, HERE_ASKED, Denial
from crisp_compass.plant.parameters import FOLLOWING

#: Objects: name, whether it may be written, least and most.
_OBJECTS = {
    ERROR_CODE: ("Error code", "UNSIGNED16", False), CONTROLWORD: ("Controlword", "UNSIGNED16", True), STATUSWORD: ("Statusword", "UNSIGNED16", False),
    MODE: ("Modes of operation", "INTEGER8", True), MODE_SHOWN: ("Modes of operation display", "INTEGER8", False), VELOCITY: ("Velocity actual value", "INTEGER32", False),
    TARGET_VELOCITY: ("Target velocity", "INTEGER32", True), SUPPORTED_MODES: ("Supported drive modes", "UNSIGNED32", False),
}  # fmt: skip
#: Objects of a drive that makes moves, beside them; positions in counts of its own, the velocity in those of its command, the acceleration in rad/s².
_MOVES = {
    POSITION: ("Position actual value", "INTEGER32", False), TARGET_POSITION: ("Target position", "INTEGER32", True), PROFILE_SPEED: ("Profile velocity", "UNSIGNED32", True),
    PROFILE_ACCEL: ("Profile acceleration", "UNSIGNED32", True), HOMING_METHOD: ("Homing method", "INTEGER8", True), HOMING_ACCEL: ("Homing acceleration", "UNSIGNED32", False), FOLLOWING_WINDOW: ("Following error window", "UNSIGNED32", False), POSITION_WINDOW: ("Position window", "UNSIGNED32", False),
}  # fmt: skip
#: Parts of the speeds of a homing: sought, and found.
_SPEEDS = ("Speed during search for switch", "Speed during search for zero")
_SIZES = {"UNSIGNED16": 2, "INTEGER8": 1, "INTEGER32": 4, "UNSIGNED32": 4}
_DEVICE_TYPE = 0x00020192  # CiA 402, servo drive
_EVERY_S = 0.02


class Profile:
    """One node's profile over a drive; ``client`` is who the bus is to the drive."""

    def __init__(self, drive: ServedDrive, client: object) -> None:
        self._drive, self._client = drive, client
        self.machine = Machine()
        self._mode = PROFILE_VELOCITY
        self._target = 0
        self._fault = 0
        self._commands = {e.name: e for e in drive.description.commands}
        self._objects = _OBJECTS | (_MOVES if drive.moves else {})
        self._goal, self._place = 0, 0
        self._asks = self._taken = False  # the bit of a new set-point, and whether the drive took it
        self._going = 0
        self._next: int | None = None  # the set-point that waits for the end of the move under way
        self._resumes: int | None = None
        self._halted = False

    # ---- objects

    def add_to(self, dictionary: Any, node_id: int) -> None:
        """Add the profile's objects and process data to an object dictionary."""
        from canopen import objectdictionary as od

        for index, (name, kind, writable) in self._objects.items():
            variable = od.ODVariable(name, index, 0)
            variable.data_type = getattr(od, kind)
            variable.access_type = "rw" if writable else "ro"
            variable.pdo_mappable = True
            variable.default = 0
            dictionary.add_object(variable)
        if self._drive.moves:
            speeds = od.ODRecord("Homing speeds", HOMING_SPEEDS)
            for k, part in enumerate(("Highest subindex", *_SPEEDS)):
                variable = od.ODVariable(part, HOMING_SPEEDS, k)
                variable.data_type, variable.access_type, variable.default = (od.UNSIGNED32, "rw", 0) if k else (od.UNSIGNED8, "ro", len(_SPEEDS))
                speeds.add_member(variable)
            dictionary.add_object(speeds)
        device = od.ODVariable("Device type", 0x1000, 0)
        device.data_type, device.access_type, device.default = od.UNSIGNED32, "ro", _DEVICE_TYPE
        dictionary.add_object(device)
        for at, cob, first, second in ((0x1400, 0x200, CONTROLWORD, TARGET_VELOCITY), (0x1800, 0x180, STATUSWORD, VELOCITY)):
            words = (("Highest subindex", od.UNSIGNED8, 2), ("COB-ID", od.UNSIGNED32, cob + node_id), ("Transmission type", od.UNSIGNED8, 255))
            maps = (("Number of objects", od.UNSIGNED8, 2), ("First object", od.UNSIGNED32, first << 16 | 16), ("Second object", od.UNSIGNED32, second << 16 | 32))
            for index, title, parts in ((at, "PDO communication", words), (at + 0x200, "PDO mapping", maps)):
                record = od.ODRecord(f"{title} {at:04X}", index)
                for k, (part, number, value) in enumerate(parts):
                    variable = od.ODVariable(part, index, k)
                    variable.data_type, variable.access_type, variable.default = number, "ro", value
                    record.add_member(variable)
                dictionary.add_object(record)

    def has(self, index: int, subindex: int = 0) -> bool:
        """Tell whether an object is the profile's."""
        return (index in self._objects and subindex == 0) or (index == HOMING_SPEEDS and self._drive.moves and 0 <= subindex <= len(_SPEEDS))

    def size(self, index: int, subindex: int = 0) -> int:
        """Return the bytes of an object."""
        if index == HOMING_SPEEDS:
            return 4 if subindex else 1
        return _SIZES[self._objects[index][1]]

    def read(self, index: int, subindex: int = 0) -> int:
        """Return an object's value."""
        drive = self._drive
        speed = self._commands["speed"]
        if index == HOMING_SPEEDS:
            plan = drive.homing.plan
            return len(_SPEEDS) if not subindex else int(raw_of(speed, (plan.fast, plan.slow)[subindex - 1])) if plan is not None else 0
        if index in _MOVES:
            return self._moves(index)
        return {
            ERROR_CODE: ERROR_CODES.get(self._fault, 0x1000) if self._fault else 0, CONTROLWORD: 0, STATUSWORD: self._status(), MODE: self._mode, MODE_SHOWN: self._mode,
            VELOCITY: int(raw_of(speed, drive.speed)), TARGET_VELOCITY: self._target, SUPPORTED_MODES: sum(1 << (mode - 1) for mode in self._modes),
        }[index]  # fmt: skip

    @property
    def _modes(self) -> tuple[int, ...]:
        """The modes of operation that this drive has."""
        return (PROFILE_POSITION, PROFILE_VELOCITY, HOMING) if self._drive.moves else (PROFILE_VELOCITY,)

    def _moves(self, index: int) -> int:
        """Return an object of a drive that makes moves."""
        place, c = self._commands["place"], self._drive.control
        return int({
            POSITION: raw_of(place, self._drive.place), TARGET_POSITION: self._goal, PROFILE_SPEED: raw_of(self._commands["speed"], c.move_speed), PROFILE_ACCEL: round(c.move_accel),
            HOMING_METHOD: self._drive.homing.chosen, HOMING_ACCEL: round(c.ramp),
            FOLLOWING_WINDOW: round(c.follow_limit / place.scale) if c.follow_limit else 0xFFFFFFFF, POSITION_WINDOW: round(c.window / place.scale) if c.window else 0xFFFFFFFF,
        }[index])  # fmt: skip

    def _status(self) -> int:
        """Return the status word, in a move or a homing with its own bits."""
        word, drive = self.machine.status, self._drive
        rests = abs(drive.speed) <= AT_REST
        if self._mode == PROFILE_POSITION:
            reached = rests if self._halted else drive.in_place and self._next is None
            word |= (SET_POINT_TAKEN if self._taken or self._next is not None else 0) | (TARGET_REACHED if reached else 0) | (FOLLOWING_ERROR if self._fault == FOLLOWING else 0)
        elif self._mode == HOMING:
            told = drive.homing.told
            word |= (TARGET_REACHED if rests and told != SEEKS else 0) | {FOUND: HOME_FOUND, NOT_FOUND: HOMING_ERROR}.get(told, 0)
        return word

    def write(self, index: int, value: int, subindex: int = 0) -> Denial | None:
        """Write an object; return why it is refused, or None."""
        if index == HOMING_SPEEDS:
            return self._write_homing_speed(value, subindex)
        if not self._objects[index][2]:
            return Denial.ADDRESS
        if index == MODE:
            return self._write_mode(value)
        if index == HOMING_METHOD:
            if value not in (self._drive.homing.method, HERE):
                return Denial.LIMITS
            self._drive.homing.chosen = value
            return None
        if index in (TARGET_POSITION, PROFILE_SPEED, PROFILE_ACCEL):
            return self._write_move(index, value)
        if index == TARGET_VELOCITY:
            entry = self._commands["speed"]
            if entry.max is not None and abs(value * entry.scale) > entry.max * (1 + 1e-9):
                return Denial.LIMITS
            self._target = value
            self._drive.fed(self._client)
            self._run()
            return None
        self._control(value & 0xFFFF)
        return None

    def _write_mode(self, value: int) -> Denial | None:
        if value not in (0, *self._modes):
            return Denial.LIMITS
        if value != self._mode:
            self._next = None
            if self._drive.homing.runs:  # another mode ends it
                self._write("home", 0.0)
        if value == PROFILE_POSITION != self._mode:  # relative moves begin where it is now
            self._place = int(raw_of(self._commands["place"], self._drive.place))
        self._mode = value
        if value == PROFILE_VELOCITY:
            self._run()
        return None

    def _write_homing_speed(self, value: int, subindex: int) -> Denial | None:
        """Set a speed of the homings from the next one on."""
        entry, homing = self._commands["speed"], self._drive.homing
        if not subindex:
            return Denial.ADDRESS
        speed = value * entry.scale
        if homing.plan is None or speed <= 0 or (entry.max is not None and speed > entry.max * (1 + 1e-9)):
            return Denial.LIMITS
        self._drive.fed(self._client)
        homing.at_speeds(**{("fast", "slow")[subindex - 1]: speed})
        return None

    def _write_move(self, index: int, value: int) -> Denial | None:
        """Write target, speed or acceleration of a move; the target counts with the next new set-point."""
        self._drive.fed(self._client)
        if index == TARGET_POSITION:
            self._goal = value
            return None
        if value <= 0:
            return Denial.LIMITS
        if index == PROFILE_ACCEL:
            return self._drive.within(self._client, accel=float(value))
        entry = self._commands["speed"]
        if entry.max is not None and value * entry.scale > entry.max * (1 + 1e-9):
            return Denial.LIMITS
        return self._drive.within(self._client, speed=value * entry.scale)

    def _set_point(self, word: int) -> None:
        """Take a new set-point at the edge of its bit, in operation: a place, after that under way or at once, or the beginning of a homing."""
        asks = bool(word & NEW_SET_POINT)
        begins = asks and not self._asks and self.machine.state is State.OPERATION_ENABLED and not self._halted
        if begins and self._mode == HOMING:
            self._write("home", float(HERE_ASKED if self._drive.homing.chosen == HERE else 1))
        elif begins and self._mode == PROFILE_POSITION:
            place = self._goal + (self._place if word & RELATIVE else 0)
            if self._under_way and not word & AT_ONCE:  # it waits; where one waits already, it is not taken
                self._taken = self._next is None
                self._next = place if self._taken else self._next
            else:
                self._taken = self._go(place)
            self._place = place if self._taken else self._place
        self._asks, self._taken = asks, self._taken and asks

    def _go(self, place: int) -> bool:
        """Move to a place [counts]; return whether the drive took it."""
        if not self._write("place", float(place)):
            return False
        self._going, self._next = place, None
        return True

    @property
    def _under_way(self) -> bool:
        return self._drive.moving and not self._drive.in_place

    def _halt(self, word: int) -> None:
        """Stop along the ramp while the bit of a halt stands; a move goes on after it, a homing does not."""
        was, self._halted = self._halted, bool(word & HALT)
        if self.machine.state is not State.OPERATION_ENABLED or self._halted == was:
            return
        if self._halted:
            self._resumes = self._going if self._under_way else None
            self._write("speed", 0.0)
        elif self._mode == PROFILE_POSITION and self._resumes is not None:
            self._write("place", float(self._resumes))
        else:
            self._run()

    def _control(self, word: int) -> None:
        drive = self._drive
        drive.fed(self._client)
        self._halt(word)
        for number in self.machine.write(word):
            if number == 4:
                if drive.deny(self._commands["arm"], 1.0, self._client) is None:
                    drive.write(self._commands["arm"], 1.0, self._client)
                    self._run()
                else:
                    self.machine.refuse()
            elif number in (5, 8, 9, 11):
                drive.disarm()
            elif number == 15:
                self._write("acknowledge", 1.0)
        self._set_point(word)

    def _write(self, name: str, raw: float) -> bool:
        """Write a command; return whether the drive took it."""
        entry: Entry = self._commands[name]
        if self._drive.deny(entry, raw, self._client) is not None:
            return False
        self._drive.write(entry, raw, self._client)
        return True

    def _run(self) -> None:
        if self.machine.state is State.OPERATION_ENABLED and self._mode == PROFILE_POSITION:
            self._place = int(raw_of(self._commands["place"], self._drive.place))
        if self.machine.state is State.OPERATION_ENABLED and self._mode == PROFILE_VELOCITY and not self._halted:
            self._write("speed", float(self._target))

    # ---- time

    def follow(self) -> int:
        """Follow the drive after it moved on; return the error code of a fault that came just now, else 0."""
        drive, fell = self._drive, 0
        if drive.fault_code != self._fault:
            self._fault = drive.fault_code
            if self._fault:
                self.machine.fell()
                fell = ERROR_CODES.get(self._fault, 0x1000)
        if self.machine.state is State.OPERATION_ENABLED and not drive.armed:
            self.machine.let_go()
        if self.machine.state is not State.OPERATION_ENABLED:
            self._next = self._resumes = None
        elif self._next is not None and not self._under_way and not self._halted:
            place, self._next = self._next, None
            self._go(place)
        if self.machine.state is State.FAULT_REACTION_ACTIVE or (self.machine.state is State.QUICK_STOP_ACTIVE and abs(drive.speed) <= AT_REST):
            self.machine.rested()
        return fell


class ProcessData:
    """Process data of a node: what the master sends is written like any object, what the drive does is told every 20 ms while the node is operational."""

    def __init__(self, node: Any, profile: Profile, guard: Any) -> None:
        self._node, self._profile, self._guard = node, profile, guard
        node.rpdo.read(from_od=True)
        node.tpdo.read(from_od=True)
        node.rpdo[1].add_callback(self._on_message)
        self._left = 0.0

    def _on_message(self, message: Any) -> None:
        if self._node.nmt.state != "OPERATIONAL":
            return
        values = {v.index: v.raw for v in message}
        with self._guard:
            for index in (TARGET_VELOCITY, CONTROLWORD):
                if index in values:
                    self._profile.write(index, int(values[index]))

    def pass_time(self, seconds: float) -> None:
        """Tell what the drive does, where it is time."""
        self._left -= seconds
        if self._left > 0 or self._node.nmt.state != "OPERATIONAL":
            return
        self._left = _EVERY_S
        told = self._node.tpdo[1]
        for variable in told:
            variable.raw = self._profile.read(variable.index)
        told.transmit()
