"""Commands as a caller gives them: their JSON, or the one line that refuses."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from crisp_compass.cli.main import run


def ask(capsys: pytest.CaptureFixture[str], *arguments: object) -> dict[str, Any]:
    """Return what a command answers."""
    code = run([str(a) for a in arguments] + ["--json"])
    out = capsys.readouterr()
    assert code == 0, out.err
    return json.loads(out.out)  # type: ignore[no-any-return]


def refused(capsys: pytest.CaptureFixture[str], *arguments: object) -> str:
    """Return the line by which a command refuses."""
    code = run([str(a) for a in arguments])
    out = capsys.readouterr()
    assert code == 2, out.out
    assert out.err.count("\n") == 1
    assert "Traceback" not in out.err
    return out.err


def table(path: Path, header: str, *columns: np.ndarray) -> Path:
    """Write columns as a capture."""
    rows = [",".join(f"{x:.9g}" for x in row) for row in np.column_stack(columns)]
    path.write_text("\n".join([header, *rows]) + "\n", encoding="utf-8")
    return path
