"""What the names of the interface are, for type checkers; they are loaded when they are first used."""

from crisp_compass.bench.models import Bench as Bench
from crisp_compass.bench.store import load_bench as load_bench
from crisp_compass.bench.store import save_bench as save_bench
from crisp_compass.capture import Capture as Capture
from crisp_compass.capture import read_capture as read_capture
from crisp_compass.capture import write_capture as write_capture
from crisp_compass.errors import Refusal as Refusal
from crisp_compass.estimates import Estimate as Estimate
from crisp_compass.estimates import Finding as Finding
from crisp_compass.estimates import Result as Result
from crisp_compass.library import compare as compare
from crisp_compass.library import enter as enter
from crisp_compass.library import estimate as estimate
from crisp_compass.library import export_firmware as export_firmware
from crisp_compass.library import export_record as export_record
from crisp_compass.library import propose as propose
from crisp_compass.library import settle as settle
from crisp_compass.library import simulate as simulate
from crisp_compass.library import stated as stated
from crisp_compass.loops.current import tune_current as tune_current
from crisp_compass.loops.speed import tune_speed as tune_speed
from crisp_compass.motion.duty import duty as duty
from crisp_compass.motion.profile import shortest as shortest
from crisp_compass.plant.simulation import Simulation as Simulation
from crisp_compass.record.formats import export_settings as export_settings
from crisp_compass.studies.scenarios import open_simulation as open_simulation

__version__: str
__all__: list[str]
