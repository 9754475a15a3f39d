"""The simulated drive: machine, inverter, sensors, load and control firmware as compiled kernels."""

import os
from pathlib import Path

import platformdirs

# Compiled kernels are kept in the user's cache, so an installed package needs no writable folder of its own.
os.environ.setdefault("NUMBA_CACHE_DIR", str(Path(platformdirs.user_cache_dir("crisp-compass")) / "kernels"))
