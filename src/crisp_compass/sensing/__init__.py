"""Sensors of angle and speed: one module a kind, with its ``SENSOR``. Outside this package nobody asks which one it is."""

from __future__ import annotations

import importlib
import pkgutil

from crisp_compass.sensing.sensor import Sensor

_MODULES = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
#: Kinds of sensor by what ``sensor.kind`` may say.
SENSORS: dict[str, Sensor] = {m.SENSOR.key: m.SENSOR for m in _MODULES if hasattr(m, "SENSOR")}
