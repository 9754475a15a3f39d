"""Which kernel runs a machine: picked once a run. The modules of ``machines`` say what they run in their ``KERNELS``."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable
from typing import Any

from crisp_compass.plant import machines

KERNELS: dict[type, Callable[..., int]] = {
    machine: run
    for info in pkgutil.iter_modules(machines.__path__, f"{machines.__name__}.")
    for machine, run in importlib.import_module(info.name).KERNELS.items()
}


def kernel_of(machine: Any) -> Callable[..., int]:
    """Return the compiled run of a machine: state, drive, inputs, edges, table edges, steps, every, out → rows written."""
    return KERNELS[type(machine)]
