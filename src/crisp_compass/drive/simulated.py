"""The simulated drive behind the port of every drive."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.drive import build_drive, running_current, running_mode
from crisp_compass.course.heat import warming_of
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.position import holds_position, moving_mode, place_counts
from crisp_compass.course.torque_mode import torque_currents
from crisp_compass.drive.port import Arming, Identity, Surroundings, Token
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.plant import state
from crisp_compass.plant.parameters import CURRENT, MOVE, OFF, PULSE
from crisp_compass.plant.period import holds_on
from crisp_compass.plant.simulation import join, with_floats
from crisp_compass.studies.scenarios import open_simulation

#: Rows of telemetry a second.
POINTS_PER_SECOND = 1000
#: What the firmware does while it starts without a sensor, by the phase it reports.
PHASES = {
    state.CATCHING: "zero current", state.STARTING: "forced", state.FORCING: "forced", state.SEEKING: "axis sought", state.POLING: "pole sought",
    state.CLOSED: "closed",
}  # fmt: skip


class SimulatedDrive:
    """The drive of a bench, moved on by :meth:`exchange`. Raises Refusal naming what of the bench is missing."""

    def __init__(self, bench: Bench) -> None:
        self._bench = bench
        self.identity = Identity("simulated drive", "simulation")
        self._sim = open_simulation(bench)
        self._cold, self._warming = self._sim.drive, warming_of(bench)
        self._i_limit = self._cold.control.i_limit
        if self._warming is not None:
            self._warming.begin(self._sim, self._cold)
        self._mode, self._current = running_mode(bench), running_current(bench)
        self._arming = Arming()
        self.surroundings: Surroundings | None = self._sim

    @property
    def armed(self) -> bool:
        """Whether somebody may command it now."""
        return self._arming.token is not None

    @property
    def fault(self) -> str:
        """Name of the latched fault, or an empty text."""
        return self._sim.fault

    @property
    def speed(self) -> float:
        """Mechanical speed, rad/s."""
        return self._sim.speed

    @property
    def winding(self) -> float | None:
        """Temperature of the simulated winding, °C; None where nothing tells how it warms."""
        return None if self._warming is None else self._warming.winding

    def parameters(self) -> Mapping[str, float]:
        """Return what the drive holds."""
        return self._sim.drive.control._asdict()

    def follow(self, bench: Bench) -> None:
        """Take over changed settings without stopping; raises Refusal naming what is missing."""
        drive, self._bench = build_drive(bench), bench
        self._current = running_current(bench)
        drive, warming = with_floats(drive), warming_of(bench)
        if warming is not None and self._warming is not None:
            warming.winding, warming.housing = self._warming.winding, self._warming.housing
        self._warming, self._i_limit = warming, drive.control.i_limit
        if self._cold != drive or warming is not None:
            self._cold = drive
            self._sim.retune(drive)
        if warming is not None:
            warming.begin(self._sim, drive)

    def arm(self, holder: str) -> Token:
        """Enable the drive at rest; raises Refusal while a fault stands."""
        if self.fault:
            raise Refusal(f"the fault “{self.fault}” stands", "acknowledge it first", code="fault")
        self._sim.command(self._mode, speed=0.0, i_d=self._current)
        return self._arming.arm(holder)

    def run_at(self, token: Token, speed: float) -> None:
        """Ask for a speed [rad/s]; raises Refusal for a void token."""
        self._arming.check(token)
        self._sim.command(self._mode, speed=speed, i_d=self._current)

    def pull(self, token: Token, torque: float) -> None:
        """Ask for a torque [N·m] instead of a speed; raises Refusal for a void token, and where this firmware holds none."""
        self._arming.check(token)
        i_d, i_q = torque_currents(self._bench, torque)
        self._sim.command(CURRENT, i_d=i_d, i_q=i_q)

    def move_to(self, token: Token, place: float) -> None:
        """Ask for a place [rad, from where the drive began] instead of a speed; raises Refusal for a void token, and where no position loop is settled."""
        self._arming.check(token)
        if not holds_position(self._bench):
            raise Refusal("no moves are settled", "settle them on the motion leg", field="run.holds")
        self._sim.command(moving_mode(self._bench), position=place_counts(self._bench, place), i_d=self._current)

    def within(self, speed: float, accel: float, i_limit: float) -> None:
        """Keep the moves from now on within a speed [rad/s], an acceleration [rad/s²] and a torque current [A peak], until settings change."""
        c = self._cold.control
        self._cold = self._cold._replace(control=c._replace(move_speed=speed, move_accel=accel, i_limit=min(i_limit, self._i_limit)))
        self._sim.retune(self._sim.drive._replace(control=self._sim.drive.control._replace(move_speed=speed, move_accel=accel, i_limit=min(i_limit, self._i_limit))))

    @property
    def asked_place(self) -> float:
        """Where the last move goes, rad; where the shaft is believed to be while none was asked for."""
        return float(self._sim.inputs[state.IN_POSITION]) if self._sim.inputs[state.IN_MODE] in (MOVE, PULSE) else self.believed

    @property
    def arrived(self) -> bool:
        """Whether the move asked for is over, and the shaft within its window where there is one."""
        return self._sim.in_place

    @property
    def believed(self) -> float:
        """Where the firmware believes the shaft, rad: by its encoder, or by the field that nothing watches."""
        return self._sim.believed

    @property
    def profile(self) -> float:
        """Where the shaft is commanded at this moment, rad."""
        x = self._sim.state
        return float(x[state.AT]) if x[state.MOVING] else self.believed

    @property
    def holds_lost(self) -> bool:
        """Whether the field holds the shaft although a fault stands."""
        return bool(holds_on(self._sim.state, self._sim.drive))

    @property
    def place(self) -> float:
        """Where the shaft is, rad, from where the drive began."""
        return float(self._sim.state[state.THETA])

    @property
    def behind(self) -> float:
        """How far the shaft is off its profile [rad]; NaN where it follows none."""
        x = self._sim.state
        return float(x[state.AT] - x[state.THETA]) if x[state.MOVING] else math.nan

    @property
    def blocking(self) -> float:
        """Torque [N·m] of an obstacle that stops this shaft, whatever the drive and its load do."""
        m, run = self._sim.drive.machine, self._bench.settings.run
        return float(10.0 * m.torque_factor * m.pole_pairs * m.psi * max(run.i_limit, self._current) + 2.0 * abs(run.load))

    @property
    def lost_steps(self) -> int | None:
        """Full steps by which a stepped rotor stands off its field, whole electrical turns of four each; None where no field is stepped."""
        if not steps_open(self._bench):
            return None
        x, p = self._sim.state, self._sim.drive.machine.pole_pairs
        return 4 * round(float(x[state.FIELD] - p * x[state.THETA]) / (2 * math.pi))

    @property
    def corrections(self) -> int | None:
        """How often a move was begun anew after lost steps since one arrived; None where nothing watches the field."""
        c = self._sim.drive.control
        return min(int(self._sim.state[state.TRIED]), int(c.corrections)) if c.lost_limit > 0 else None

    def lose_sensor(self, lost: bool) -> None:
        """Take the sensor of angle or speed away, or give it back."""
        self._sim.lose_sensor(lost)

    @property
    def power(self) -> tuple[float, float]:
        """Power that the bridge takes from the bus in the last period, and that the shaft gives [W]."""
        x = self._sim.state
        return float(x[state.DRAWN]), float(x[state.TORQUE] * x[state.OMEGA])

    def disarm(self) -> None:
        """Let the shaft go."""
        self._arming.drop()
        self._sim.command(OFF)

    def acknowledge(self) -> None:
        """Clear the fault; the drive stays disarmed."""
        self._arming.drop()
        self._sim.acknowledge()
        if self._warming is not None:
            self._warming.cool()
        self._sim.state[state.HEAT] = 0.0  # its time stands still while nobody runs it: what an overload left has cooled meanwhile

    def exchange(self, token: Token | None, seconds: float) -> dict[str, FloatArray]:
        """Move the drive on and return what was recorded; a holder who was silent for too long has lost it."""
        every = max(1, round(1 / (self._sim.drive.control.ts * POINTS_PER_SECOND)))
        was_armed, held = self.armed, self._arming.pass_time(token, seconds)
        parts = [self._sim.advance(held, every=every)] if held > 0 else []
        if self._warming is not None:
            self._warming.advance(self._sim, self._cold, held)
        if was_armed and not self.armed:
            self._sim.command(OFF)
        if seconds - held > 0:
            parts.append(self._sim.advance(seconds - held, every=every))
            if self._warming is not None:
                self._warming.advance(self._sim, self._cold, seconds - held)
        if self.fault:
            self._arming.drop()
        told = dict(join(parts).columns) if parts else {k: np.empty(0) for k in ("t",)}
        if self._warming is not None:
            told["temp"] = np.full(len(told["t"]), self._warming.winding)
        return told
