"""A simulated drive whose motor gets warm: winding and housing follow what flows, and the resistance follows the winding."""

from __future__ import annotations

from collections.abc import Callable

from crisp_compass.conversions import COPPER_RULES
from crisp_compass.plant import state
from crisp_compass.plant.parameters import NO_FAULT, OFF, TOO_HOT, Drive
from crisp_compass.plant.simulation import Simulation
from crisp_compass.thermal.model import Bodies, Stretch, after

_COPPER = COPPER_RULES["iec"]
#: The resistance is set anew when it is another by this share.
_WORTH = 1e-3
#: No step of the bodies is longer than this share of the winding's time constant, as its loss grows meanwhile.
_STEP = 0.05


class Warming:
    """Winding and housing [°C] of a simulation, from ``ambient`` on; ``losses`` gives what else is lost into the housing [W] and the factor of its resistance, from speed [rad/s] and current [A peak].

    ``trip`` [°C] is the firmware's, of a sensor in the winding; None without one.
    """

    def __init__(self, bodies: Bodies, ambient: float, losses: Callable[[float, float], tuple[float, float]], trip: float | None = None) -> None:
        self.bodies, self.ambient, self.losses, self.trip = bodies, ambient, losses, trip
        self.winding = self.housing = ambient
        self._counted = 0.0

    def cool(self) -> None:
        """Let the motor be as cold as the air again."""
        self.winding = self.housing = self.ambient

    def hot(self, drive: Drive) -> Drive:
        """Return a drive with its copper, stated for the bodies' reference, as warm as it is."""
        share = (_COPPER + self.winding) / (_COPPER + self.bodies.reference)
        machine = drive.machine
        changed = {k: getattr(machine, k) * share for k in ("r", "rr") if hasattr(machine, k)}
        return drive._replace(machine=machine._replace(**changed))

    def advance(self, sim: Simulation, cold: Drive, seconds: float) -> None:
        """Follow what a simulation did in the last ``seconds``; ``cold`` is its drive with the copper at the reference temperature."""
        if seconds <= 0:
            return
        counted = float(sim.state[state.SQUARE])
        current = (max(counted - self._counted, 0.0) / seconds) ** 0.5
        self._counted = counted
        housing_loss, air = self.losses(sim.speed, current)
        steps = max(1, round(seconds / (_STEP * self.bodies.winding_time)))
        for _ in range(min(steps, 1000)):
            self.winding, self.housing = after(self.bodies, Stretch(seconds / min(steps, 1000), current, housing_loss, air), self.ambient, (self.winding, self.housing))
        warm = self.hot(cold)
        if abs(warm.machine.r / sim.drive.machine.r - 1) > _WORTH:
            sim.retune(warm)
        if self.trip is not None and self.winding > self.trip and sim.state[state.FAULT] == NO_FAULT and sim.inputs[state.IN_MODE] != OFF:
            sim.state[state.FAULT] = TOO_HOT

    def begin(self, sim: Simulation, cold: Drive) -> None:
        """Take over a simulation as it stands."""
        self._counted = float(sim.state[state.SQUARE])
        sim.retune(self.hot(cold))
