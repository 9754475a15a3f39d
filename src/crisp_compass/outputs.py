"""Which files this program wrote and nobody has changed since, so that an output never replaces somebody's work."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterable
from pathlib import Path

import platformdirs

from crisp_compass.errors import Refusal
from crisp_compass.files import fingerprint, write_atomically

#: How many outputs are remembered, the newest.
_MOST = 2000


def _register() -> Path:
    return Path(platformdirs.user_state_dir("crisp-compass")) / "outputs.json"


def _known() -> dict[str, str]:
    try:
        found = json.loads(_register().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {str(k): str(v) for k, v in found.items()} if isinstance(found, dict) else {}


def is_ours(path: Path) -> bool:
    """Tell whether a file holds what this program last wrote there."""
    return fingerprint(path) == _known().get(os.path.abspath(path), "-")


def remember(paths: Iterable[Path]) -> None:
    """Remember what was written; where that cannot be kept, the next output only asks once more."""
    fresh = {os.path.abspath(p): mark for p in paths if (mark := fingerprint(p))}
    if not fresh:
        return
    kept = {k: v for k, v in _known().items() if k not in fresh} | fresh
    with contextlib.suppress(Refusal, OSError):
        _register().parent.mkdir(parents=True, exist_ok=True)
        write_atomically(_register(), json.dumps(dict(list(kept.items())[-_MOST:]), indent=0))
