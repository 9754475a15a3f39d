"""What the pages' fields hold, one module a topic."""

from __future__ import annotations

from pydantic import Field

from crisp_compass.bench.base import Frozen
from crisp_compass.bench.plate import MagnetPlate, Plate
from crisp_compass.bench.settings.auto_tune import AutoTuneSettings
from crisp_compass.bench.settings.bus import BusSettings
from crisp_compass.bench.settings.circuit import CircuitSettings
from crisp_compass.bench.settings.command import CommandSettings
from crisp_compass.bench.settings.commutation import CommutationSettings
from crisp_compass.bench.settings.coupling import CouplingSettings
from crisp_compass.bench.settings.current_loop import CurrentSettings
from crisp_compass.bench.settings.display import DisplaySettings
from crisp_compass.bench.settings.flux import FluxSettings
from crisp_compass.bench.settings.heat import HeatSettings
from crisp_compass.bench.settings.homing import HomingSettings
from crisp_compass.bench.settings.inductance import InductanceSettings
from crisp_compass.bench.settings.instruments import InstrumentSettings
from crisp_compass.bench.settings.limits import LimitSettings
from crisp_compass.bench.settings.load_side import LoadSideSettings
from crisp_compass.bench.settings.motion import MotionSettings
from crisp_compass.bench.settings.outer_loop import OuterLoopSettings
from crisp_compass.bench.settings.pwm import PwmSettings
from crisp_compass.bench.settings.resistance import ResistanceSettings
from crisp_compass.bench.settings.run import RunSettings
from crisp_compass.bench.settings.sensor import SensorSettings
from crisp_compass.bench.settings.speed_loop import SpeedSettings
from crisp_compass.bench.settings.start_up import StartUpSettings
from crisp_compass.bench.settings.stepping import SteppingSettings
from crisp_compass.bench.settings.supply import SupplySettings
from crisp_compass.bench.settings.terminals import TerminalSettings
from crisp_compass.bench.settings.view import ViewSettings


class Settings(Frozen):
    """What the pages' fields hold, by topic."""

    plate: Plate = Field(default=MagnetPlate(), discriminator="family")
    supply: SupplySettings = SupplySettings()
    auto_tune: AutoTuneSettings = AutoTuneSettings()
    resistance: ResistanceSettings = ResistanceSettings()
    inductance: InductanceSettings = InductanceSettings()
    instruments: InstrumentSettings = InstrumentSettings()
    flux: FluxSettings = FluxSettings()
    circuit: CircuitSettings = CircuitSettings()
    commutation: CommutationSettings = CommutationSettings()
    pwm: PwmSettings = PwmSettings()
    current_loop: CurrentSettings = CurrentSettings()
    start_up: StartUpSettings = StartUpSettings()
    speed_loop: SpeedSettings = SpeedSettings()
    coupling: CouplingSettings = CouplingSettings()
    bus: BusSettings = BusSettings()
    heat: HeatSettings = HeatSettings()
    limits: LimitSettings = LimitSettings()
    load_side: LoadSideSettings = LoadSideSettings()
    outer_loop: OuterLoopSettings = OuterLoopSettings()
    command: CommandSettings = CommandSettings()
    terminals: TerminalSettings = TerminalSettings()
    display: DisplaySettings = DisplaySettings()
    motion: MotionSettings = MotionSettings()
    homing: HomingSettings = HomingSettings()
    run: RunSettings = RunSettings()
    stepping: SteppingSettings = SteppingSettings()
    sensor: SensorSettings = SensorSettings()
    view: ViewSettings = ViewSettings()
