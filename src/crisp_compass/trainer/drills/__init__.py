"""The drills, found where they lie: each module's ``DRILLS``, in the order of work."""

from __future__ import annotations

import importlib
import pkgutil

from crisp_compass.trainer.drill import Drill


def _found() -> tuple[Drill, ...]:
    modules = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
    return tuple(d for m in sorted(modules, key=lambda m: getattr(m, "PLACE", 99)) for d in getattr(m, "DRILLS", ()))


DRILLS: tuple[Drill, ...] = _found()
BY_KEY = {d.key: d for d in DRILLS}
