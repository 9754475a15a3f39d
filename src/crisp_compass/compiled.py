"""How functions are compiled: which liberties arithmetic may take, and where compiled kernels are kept."""

import os
from hashlib import sha256
from pathlib import Path

import platformdirs

#: No assumption about NaN or infinity.
FAST = {"contract", "reassoc", "arcp", "nsz"}


def _sources() -> str:
    """Return a mark of the kernels' sources: a compiled kernel holds what it calls from other files, and would not notice their change."""
    here = Path(__file__).parent
    files = [here / "compiled.py", *(p for part in ("plant", "sensorless") for p in (here / part).rglob("*.py"))]
    stamps = sorted(f"{p.relative_to(here)} {p.stat().st_mtime_ns} {p.stat().st_size}" for p in files)
    return sha256("\n".join(stamps).encode()).hexdigest()[:12]


# Compiled kernels are kept in the user's cache, so an installed package needs no writable folder of its own.
os.environ.setdefault(
    "NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_dir("crisp-compass")) / "kernels" / _sources())
)
