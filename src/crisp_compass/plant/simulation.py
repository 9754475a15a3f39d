"""Running the drive: one object that holds the state and steps in chunks, for scenarios and for live runs alike."""

from __future__ import annotations

import contextlib
import logging
import math
import os
import shutil
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.loops.current import limit_tracking
from crisp_compass.plant import state
from crisp_compass.plant.kernels import kernel_of
from crisp_compass.plant.parameters import (
    FAULT_NAMES,
    NO_FAULT,
    OFF,
    AnyMachine,
    Brushed,
    Control,
    Drive,
    Induction,
    Inverter,
    Load,
    Machine,
    Sensing,
    Start,
    Trapezoid,
    check,
    locked_rotor,
)
from crisp_compass.sensorless.estimator import Estimator
from crisp_compass.sensorless.injection import Injected

EVEN_EDGES = np.radians(np.arange(6) * 60.0 + 30.0)


def with_floats(drive: Drive) -> Drive:
    """Return the drive as the kernels take it: what is left to the gains is worked out, and every figure is a float.

    An integer among them would compile the kernels once more.
    """
    machine, load, inverter, sensing, control = (tuple(float(x) for x in part) for part in drive[:5])
    c = Control(*control)
    c = c._replace(
        track_d=c.track_d if c.track_d >= 0 else limit_tracking(c.kp_d, c.ki_d, c.ts),
        track_q=c.track_q if c.track_q >= 0 else limit_tracking(c.kp_q, c.ki_q, c.ts),
    )
    start = Start(tuple(float(x) for x in drive.start.rows), *(float(x) for x in drive.start[1:]))
    estimator = Estimator(*(float(x) for x in drive.estimator))
    injected = Injected(*(float(x) for x in drive.injected))
    return Drive(
        type(drive.machine)(*machine),
        Load(*load),
        Inverter(*inverter),
        Sensing(*sensing),
        control=c,
        start=start,
        estimator=estimator,
        injected=injected,
    )


@dataclass(frozen=True)
class Trace:
    """Recorded rows of a run: name → (n,) in SI; ``angle`` mechanical, ``theta_e`` electrical, rad."""

    columns: dict[str, FloatArray]

    def __getitem__(self, name: str) -> FloatArray:
        """Return one recorded signal, (n,)."""
        return self.columns[name]


class Simulation:
    """A drive in motion. ``inputs`` may be changed between chunks; a fault stays until acknowledged."""

    def __init__(
        self, drive: Drive, *, edges: FloatArray = EVEN_EDGES, table_edges: FloatArray | None = None, seed: int = 1
    ) -> None:
        check(drive)
        self.drive = with_floats(drive)
        self._kernel = kernel_of(drive.machine)
        self._edges = np.sort(np.asarray(edges, dtype=np.float64) % (2 * math.pi))
        self._table_edges = (
            self._edges if table_edges is None else np.sort(np.asarray(table_edges, dtype=np.float64) % (2 * math.pi))
        )
        self.inputs = np.zeros(state.INPUTS)
        self.inputs[state.IN_SUPPLY] = drive.inverter.v_supply
        self.state = np.zeros(state.STATES)
        self._seed = seed
        self.reset()

    def reset(self) -> None:
        """Bring the drive to rest at angle zero, without a fault."""
        self.state[:] = 0.0
        self.state[state.SECTOR] = -1.0
        self.state[state.RNG_STATE] = float(self._seed * 2654435761 % (1 << 32))
        self.state[state.V_BUS] = self.drive.inverter.v_supply
        self.inputs[state.IN_MODE] = OFF

    def retune(self, drive: Drive) -> None:
        """Change gains or figures without stopping the motion."""
        check(drive)
        self.drive = with_floats(drive)

    def turn_at(self, speed: float) -> None:
        """Let the shaft turn at a speed [rad/s], what hangs on it too."""
        self.state[state.OMEGA] = self.state[state.LOAD_SPEED] = speed

    def command(self, mode: int, *, speed: float = 0.0, i_d: float = 0.0, i_q: float = 0.0, position: float = 0.0) -> None:
        """Set mode, speed [rad/s], current references [A] and position [rad, from where the run began]; OFF releases the shaft."""
        self.inputs[state.IN_MODE] = mode
        self.inputs[state.IN_SPEED] = speed
        self.inputs[state.IN_ID], self.inputs[state.IN_IQ] = i_d, i_q
        self.inputs[state.IN_POSITION] = position

    def set_load(self, torque: float, *, drives: bool = False) -> None:
        """Set the load torque [N·m].

        A load brakes whichever way the shaft turns and holds it at rest, unless it ``drives`` (a weight, wind): then a
        positive one pulls against positive rotation, at rest too.
        """
        self.inputs[state.IN_LOAD] = torque
        self.inputs[state.IN_DRIVES] = float(drives)

    def set_supply(self, voltage: float) -> None:
        """Set the supply voltage [V]."""
        self.inputs[state.IN_SUPPLY] = voltage

    def lose_sensor(self, lost: bool) -> None:
        """Take the sensor of angle or speed away, or give it back as if it had been there all the time."""
        self.state[state.SENSOR_LOST] = float(lost)
        s = self.drive.sensing
        if not lost:
            self.state[state.LAST_ANGLE] = math.floor(s.sense * self.state[state.THETA] * s.counts_per_rev / (2 * math.pi))

    @property
    def believed(self) -> float:
        """Where the firmware believes the shaft, rad from where the run began: by its encoder, or by a stepped field that nothing watches."""
        x, d = self.state, self.drive
        if d.control.microsteps > 0 and not (d.control.lost_limit > 0 and x[state.KNOWN]):
            return float(x[state.FIELD] / float(d.machine.pole_pairs))
        return float(x[state.LAST_ANGLE] * 2 * math.pi / d.sensing.counts_per_rev + x[state.ORIGIN])

    @property
    def in_place(self) -> bool:
        """Whether the move asked for is over, and the shaft within its window where there is one."""
        x, c = self.state, self.drive.control
        rests = x[state.MOVING] != 0.0 and x[state.QUIET] >= c.move_steps and x[state.PLANNED] == self.inputs[state.IN_POSITION]
        return bool(rests and (c.window <= 0 or x[state.STANDS] != 0.0))

    @property
    def supply(self) -> float:
        """Supply voltage, V."""
        return float(self.inputs[state.IN_SUPPLY])

    @property
    def fault(self) -> str:
        """Name of the latched fault, or an empty text."""
        return FAULT_NAMES[int(self.state[state.FAULT])]

    def acknowledge(self) -> None:
        """Clear the fault; the drive stays off until commanded again."""
        self.state[state.FAULT] = NO_FAULT
        self.state[state.STALL_CLOCK] = 0.0
        self.inputs[state.IN_MODE] = OFF

    @property
    def time(self) -> float:
        """Simulated time, s."""
        return float(self.state[state.TIME])

    @property
    def speed(self) -> float:
        """Mechanical speed, rad/s."""
        return float(self.state[state.OMEGA])

    def advance(self, seconds: float, every: int = 1) -> Trace:
        """Step the drive by ``seconds`` and return every ``every``-th period."""
        steps = max(1, round(seconds / self.drive.control.ts))
        out = np.zeros((steps // every + 2, len(state.OUT)))
        rows = self._kernel(self.state, self.drive, self.inputs, self._edges, self._table_edges, steps, every, out)
        return Trace({name: out[:rows, k].copy() for k, name in enumerate(state.OUT)})

    def skip(self, seconds: float) -> None:
        """Step the drive by ``seconds`` without recording anything."""
        steps = max(1, round(seconds / self.drive.control.ts))
        self._kernel(self.state, self.drive, self.inputs, self._edges, self._table_edges, steps, steps + 1, _NOTHING)


#: Room for no row.
_NOTHING = np.empty((0, len(state.OUT)))


def join(traces: list[Trace]) -> Trace:
    """Put chunks one after the other."""
    return Trace({name: np.concatenate([t.columns[name] for t in traces]) for name in traces[0].columns})


_LOG = logging.getLogger(__name__)
#: Seconds after which compiling apart is given up.
_PATIENCE = 300
#: Cleared while the kernels are being compiled in the background; whoever must not wait asks it first.
READY = threading.Event()
READY.set()


def prepare() -> None:
    """Make the kernels ready without holding up other threads of this process.

    Compiling would keep the interpreter's lock for seconds, so the first time a process of its own fills the cache.
    """
    cache = Path(os.environ["NUMBA_CACHE_DIR"])
    _sweep(cache)
    if not any(cache.rglob("permanent_magnet.run-*.nbi")):
        began = time.monotonic()
        ask = "from crisp_compass.plant.simulation import warm_up; warm_up({})"
        parts = [
            subprocess.Popen(
                [sys.executable, "-c", ask.format(place)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            for place in range(len(_PARTS))
        ]
        for part in parts:
            try:
                part.wait(timeout=_PATIENCE)
            except subprocess.TimeoutExpired:
                _LOG.warning("compiling the kernels in a process of their own took more than %d s: given up", _PATIENCE)
                part.kill()
        _LOG.info("kernels compiled in %.0f s", time.monotonic() - began)
    warm_up()


def _sweep(cache: Path) -> None:
    """Remove what other versions of the kernels left and nobody has used for a month."""
    month_ago = time.time() - 30 * 86400
    with contextlib.suppress(OSError):
        for other in cache.parent.iterdir():
            if (
                other.is_dir()
                and other != cache
                and cache.parent.name == "kernels"
                and other.stat().st_mtime < month_ago
            ):
                shutil.rmtree(other, ignore_errors=True)


#: Machines whose kernels take about as long to compile; each part may have a processor of its own.
_PARTS: tuple[tuple[AnyMachine, ...], ...] = (
    (Machine(0.5, 1e-3, 1e-3, 0.01, pole_pairs=4.0), Brushed(0.5, 1e-3, 1e-3, 0.01)),
    (Trapezoid(0.5, 1e-3, 1e-3, 0.01, pole_pairs=4.0), Induction(0.5, 1e-3, 1e-3, 0.1, pole_pairs=2.0, lm=0.1, rr=0.5)),
)  # fmt: skip


def warm_up(part: int | None = None) -> None:
    """Compile the kernels, all or one part of them (or load them from the cache), without doing anything else."""
    for place, machines in enumerate(_PARTS):
        if part is None or place == part:
            for machine in machines:
                Simulation(locked_rotor(machine, Control(ts=5e-5), Inverter(24.0))).advance(1e-3)
    if part in (None, len(_PARTS) - 1):  # the sampled loop of a measured step, which its page asks at once
        from crisp_compass.loops.step_fit import RunningLoop, respond

        respond(RunningLoop(1.0, 1.0, 2e4, 1.0, inductance=1e-3, delay_samples=1.5), 1.0, 1e-3, 1.5, reference=np.ones(2), at=np.array([0.0, 5e-5]))
