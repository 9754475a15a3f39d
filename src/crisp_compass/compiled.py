"""How functions are compiled: which liberties arithmetic may take, and where compiled kernels are kept."""

from __future__ import annotations

import atexit
import os
import shutil
import tempfile
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any, TypeVar, cast

import platformdirs

from crisp_compass.kernel_cache import harden

_F = TypeVar("_F", bound=Callable[..., Any])

#: No assumption about NaN or infinity.
FAST = {"contract", "reassoc", "arcp", "nsz"}


def _sources() -> str:
    """Return a mark of the kernels' sources: a compiled kernel holds what it calls from other files, and would not notice their change."""
    here = Path(__file__).parent
    files = [here / "compiled.py", here / "kernel_cache.py", *(p for part in ("plant", "sensing", "sensorless") for p in (here / part).rglob("*.py"))]
    stamps = sorted(f"{p.relative_to(here)} {p.stat().st_mtime_ns} {p.stat().st_size}" for p in files)
    return sha256("\n".join(stamps).encode()).hexdigest()[:12]


# Compiled kernels are kept in the user's cache, so an installed package needs no writable folder of its own.
def _cache() -> Path:
    """Return a folder for compiled kernels that can be written: the user's cache, else one that ends with the program."""
    folder = Path(platformdirs.user_cache_dir("crisp-compass")) / "kernels" / _sources()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        probe = folder / f".probe-{os.getpid()}"
        probe.touch()
        probe.unlink()
    except OSError:
        folder = Path(tempfile.mkdtemp(prefix="crisp-compass-kernels-"))
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


if "NUMBA_CACHE_DIR" not in os.environ:
    os.environ["NUMBA_CACHE_DIR"] = str(_cache())


def compiled(function: _F) -> _F:
    """Compile a function that allocates nothing: without the counting of references, which took a quarter of a run."""
    return _compile(function, nogil=True, _nrt=False)


def inlined(function: _F) -> _F:
    """Compile a function into each that calls it: a drive's parameters are not copied at every call."""
    return _compile(function, inline="always", _nrt=False)


def allocating(function: _F) -> _F:
    """Compile a function that makes arrays of its own."""
    return _compile(function, nogil=True)


def _compile(function: _F, **options: Any) -> _F:
    from numba import njit  # after the folder of its cache is known

    harden()
    return cast(_F, njit(cache=True, error_model="numpy", fastmath=FAST, **options)(function))
