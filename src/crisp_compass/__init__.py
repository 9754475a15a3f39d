"""Crisp Compass: the navigator of the motor bench.

``import crisp_compass`` gives the interface for scripts (``__all__``, see docs/library.md): stable by semantic versioning. Names are loaded when they are first used.
"""

from __future__ import annotations

import importlib
import logging
import warnings
from typing import Any

__version__ = "0.2.0"

#: Where each name of the interface lives.
_HOMES = {
    "bench.models": ("Bench",), "bench.store": ("load_bench", "save_bench"), "capture": ("Capture", "read_capture", "write_capture"), "errors": ("Refusal",),
    "estimates": ("Estimate", "Finding", "Result"), "library": ("compare", "enter", "estimate", "export_firmware", "export_record", "propose", "settle", "simulate", "stated"),
    "loops.current": ("tune_current",), "loops.speed": ("tune_speed",), "motion.duty": ("duty",), "motion.profile": ("shortest",), "plant.simulation": ("Simulation",),
    "record.formats": ("export_settings",), "studies.scenarios": ("open_simulation",),
}  # fmt: skip
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names}
#: Names that go: each with the one to use instead, warned of for a minor version.
_RENAMED: dict[str, str] = {}

__all__ = [
    "Bench", "Capture", "Estimate", "Finding", "Refusal", "Result", "Simulation", "compare", "duty", "enter", "estimate", "export_firmware", "export_record", "export_settings",
    "load_bench", "open_simulation", "propose", "read_capture", "save_bench", "settle", "shortest", "simulate", "stated", "tune_current", "tune_speed", "write_capture",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name in _RENAMED:
        warnings.warn(f"crisp_compass.{name} is now crisp_compass.{_RENAMED[name]}", DeprecationWarning, stacklevel=2)
        name = _RENAMED[name]
    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(importlib.import_module(f"{__name__}.{_HOME_OF[name]}"), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])


# what the core notes goes to the window's log file, or to whoever uses it as a library; commands say what matters themselves
logging.getLogger(__name__).addHandler(logging.NullHandler())
