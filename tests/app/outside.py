"""A leg with a setting and a family of motors with a machine of its own, registered from outside by the files that ARCHITECTURE.md counts.

Run by ``test_from_outside`` in a process of its own: ``python outside.py FOLDER BENCH FAMILY``. The files are written into ``FOLDER``, which is laid
over the package; of the package itself only ``bench/settings/__init__.py`` and ``bench/plate.py`` get their lines.
"""

from __future__ import annotations

import importlib.abc
import importlib.machinery
import json
import sys
from collections.abc import Sequence
from pathlib import Path
from types import CodeType, ModuleType

FILES = {
    "bench/settings/cooling.py": '''
from typing import ClassVar
from pydantic import Field
from crisp_compass.bench.base import TopicSettings

class CoolingSettings(TopicSettings):
    settles: ClassVar[tuple[str, ...]] = ("fan",)
    fan: float = Field(default=0.25, ge=0, le=10, title="fan current", json_schema_extra={"unit": "A"})
''',
    "course/waypoints/cooling.py": '''
from crisp_compass.bench.base import Quantity
from crisp_compass.course.waypoint import Proposal, Waypoint

def _propose(bench):
    return Proposal({"fan": Quantity(value=bench.settings.cooling.fan, unit="A")}, f"{bench.settings.cooling.fan:g} A", "as its plate says")

WAYPOINT = Waypoint(
    "cooling", 125, "Cooling", "What does the fan take?", "Enter the fan's current.", settles={"fan": ("A", 0.0, 10.0)},
    propose=_propose, headline=lambda settled: f"{settled.values['fan'].value:g} A",
)
''',
    "app/waypoints/cooling/__init__.py": "",
    "app/waypoints/cooling/fan.py": '''
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry

class FanPage(Page):
    key = "cooling"
    fields = (Entry("fan"),)

    def __init__(self, document):
        super().__init__(document)
        self.finish("Settle")

    def refresh(self):
        self.answer.show_answer(f"{self.seen.settings.cooling.fan:g} A", "", "as entered")
''',
    "motor/coil.py": '''
from dataclasses import replace
from crisp_compass.motor.brushed import FAMILY as BRUSHED
from crisp_compass.plant.machines.coil import Coil

FAMILY = replace(BRUSHED, keys={"coil": "moving coil"}, place=9, machine=lambda bench, of: Coil(of.r, of.ld, of.lq, of.psi))
''',
    "plant/machines/coil.py": '''
from typing import NamedTuple
from crisp_compass.compiled import compiled
from crisp_compass.plant.parameters import SPEED
from crisp_compass.plant.state import COUNT, IN_MODE, IN_SPEED, IN_SUPPLY, IQ, OMEGA, REF, THETA, TIME, V_BUS

class Coil(NamedTuple):
    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float = 1.0
    saturated: float = 1.0
    i_sat: float = 1.0
    torque_factor: float = 1.0
    detent: float = 0.0

@compiled
def run(x, drive, inputs, edges, table_edges, steps, every, out):
    rows, ts = 0, drive.control.ts
    for _ in range(steps):
        x[REF] = inputs[IN_SPEED] if int(inputs[IN_MODE]) == SPEED else 0.0
        x[V_BUS] = inputs[IN_SUPPLY]
        if int(x[COUNT]) % every == 0 and rows < len(out):
            out[rows, 0], out[rows, 1], out[rows, 2], out[rows, 6] = x[TIME], x[REF], x[OMEGA], x[IQ]
            rows += 1
        x[OMEGA] += (x[REF] - x[OMEGA]) * min(1.0, 20.0 * ts)
        x[IQ] = drive.load.viscous * x[OMEGA] / drive.machine.psi
        x[THETA] += x[OMEGA] * ts
        x[TIME] += ts
        x[COUNT] += 1.0
    return rows

KERNELS = {Coil: run}
''',
}  # fmt: skip
#: Lines that the package's own files get: what stands there before, and what is put in front of it.
LINES = {
    "crisp_compass.bench.settings": (
        ("\n\nclass Settings(Frozen):", "\nfrom crisp_compass.bench.settings.cooling import CoolingSettings"),
        ("    view: ViewSettings", "    cooling: CoolingSettings = CoolingSettings()\n"),
    ),
    "crisp_compass.bench.plate": (
        ("\nPlate = MagnetPlate", '\nclass CoilPlate(BrushedPlate):\n    called: ClassVar[str] = "a moving coil"\n    reach = (BrushedPlate.reach or frozenset()) | {"cooling"}\n    family: Literal["coil"] = "coil"\n\n'),
        ("\n#: Plates by the family", " | CoilPlate"), ("}\n\n\ndef rated_peak", '    "coil": CoilPlate,\n'),
    ),
}  # fmt: skip
_LAID_OVER = ("bench.settings", "course.waypoints", "app.waypoints", "motor", "plant.machines")


class _Lines(importlib.machinery.SourceFileLoader):
    def get_code(self, fullname: str) -> CodeType:
        source = self.get_data(self.path).decode()
        for before, line in LINES[fullname]:
            assert source.count(before) == 1, (fullname, before)
            source = source.replace(before, line + before)
        return compile(source, self.path, "exec")


class _Over(importlib.abc.MetaPathFinder):
    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> importlib.machinery.ModuleSpec | None:
        part = name.removeprefix("crisp_compass.")
        if part not in _LAID_OVER and name not in LINES:
            return None
        spec = importlib.machinery.PathFinder.find_spec(name, path)
        assert spec is not None
        if part in _LAID_OVER:
            assert spec.submodule_search_locations is not None
            spec.submodule_search_locations.append(str(self._folder / part.replace(".", "/")))
        if name in LINES:
            assert spec.origin is not None
            spec.loader = _Lines(name, spec.origin)
        return spec


def main(folder: Path, file: Path, family: str) -> None:
    """Register, open the bench as one of that family, visit every page, settle the new leg, write everything."""
    for name, text in FILES.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8")
    sys.meta_path.insert(0, _Over(folder))

    from PySide6.QtCore import QCoreApplication, QEvent, QSettings, QThreadPool

    from crisp_compass.app.main import make_application
    from crisp_compass.app.window import Window
    from crisp_compass.bench.entered import enter
    from crisp_compass.bench.store import load_bench, save_bench
    from crisp_compass.course.course import headline, waypoints_of
    from crisp_compass.course.drive import build_drive
    from crisp_compass.course.open_points import edited_text
    from crisp_compass.course.waypoints import BY_KEY
    from crisp_compass.plant.parameters import SPEED
    from crisp_compass.plant.simulation import Simulation
    from crisp_compass.record.formats import export_settings
    from crisp_compass.record.report import write_report
    from hands import answering, give_reason

    told = json.loads(file.read_text(encoding="utf-8"))
    told["settings"]["plate"]["family"] = family
    bench_file = file.with_name(f"{family}.bench.json")
    bench_file.write_text(json.dumps(told), encoding="utf-8")
    application = make_application()
    window = Window(QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat))
    window.open(bench_file)
    window.show()
    bench = window.document.bench
    visited = []
    for waypoint in waypoints_of(bench):
        for section in waypoint.sections:
            if section.applies(bench):
                window.travel(waypoint.key, section.name)
                application.processEvents()
                assert window.page.answer.text, (waypoint.key, section.name)
                visited.append(waypoint.key)
    window.travel("cooling")
    button = window.page.main_button
    assert button is not None
    with answering(give_reason):
        button.click()
    bench = window.document.bench
    QThreadPool.globalInstance().waitForDone()
    save_bench(bench, bench_file)
    again = load_bench(bench_file)
    sim = Simulation(build_drive(again))
    sim.command(SPEED, speed=20.0)
    sim.advance(0.5)
    print(json.dumps({
        "visited": visited, "machine": type(sim.drive.machine).__name__, "speed": sim.speed, "headline": headline(again, BY_KEY["cooling"]),
        "edited": edited_text(enter(again, "cooling", {"fan": 0.5}), "cooling"),
        "written": {form: export_settings(again, form) for form in ("c-header", "json", "csv")}, "record": write_report(again, bench_file.parent, "now"),
    }))  # fmt: skip
    window.document.undo_stack.setClean()
    window.close()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3])
