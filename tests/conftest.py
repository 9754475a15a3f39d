"""Common ground of all tests: folders of their own, and simulated captures."""

from __future__ import annotations

import gc
import os
import tempfile
from pathlib import Path

_HOME = tempfile.mkdtemp(prefix="crisp-compass-tests-")
for _name in ("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[_name] = _HOME
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import pytest  # noqa: E402

_run: list[None] = []
DEMO = Path(__file__).resolve().parent.parent / "demo"


def pytest_addoption(parser: pytest.Parser) -> None:
    """Let all tests be asked for."""
    parser.addoption("--thorough", action="store_true", help="also the tests marked thorough, which take most of the time")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave out what is marked thorough, but for what its mark keeps (``but``, all that is not in ``only``, or of a number ``each`` one); whoever names a test gets it."""
    if config.getoption("--thorough") or any("::" in a for a in config.args):
        return
    left: list[pytest.Item] = []
    seen: dict[str, int] = {}
    for item in items:
        mark, (name, _, case) = item.get_closest_marker("thorough"), item.nodeid.partition("[")
        case = case[:-1]
        if mark is not None and "each" in mark.kwargs:
            seen[name] = seen.get(name, -1) + 1
            if seen[name] % mark.kwargs["each"]:
                left.append(item)
        elif mark is not None and case not in mark.kwargs.get("but", ()) and case in mark.kwargs.get("only", (case,)):
            left.append(item)
    if left:
        config.hook.pytest_deselected(items=left)
        gone = set(left)
        items[:] = [item for item in items if item not in gone]


@pytest.hookimpl(trylast=True)
def pytest_runtest_teardown() -> None:
    """Collect the garbage between tests once an application has switched that off: a safe place, and memory stays what it is."""
    if not gc.isenabled():
        _run.append(None)
        gc.collect(1 if len(_run) % 8 else 2)


@pytest.fixture
def winch() -> Path:
    """The settled demo bench."""
    return DEMO / "winch" / "winch.bench.json"


@pytest.fixture
def thruster() -> Path:
    """The demo bench whose captures wait to be read."""
    return DEMO / "thruster" / "thruster.bench.json"


@pytest.fixture
def pump() -> Path:
    """The settled demo bench without a sensor."""
    return DEMO / "pump" / "pump.bench.json"
