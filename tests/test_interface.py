"""The interface itself: public core functions say units, shapes and errors; the core never imports Qt."""

from __future__ import annotations

import ast
import importlib
import inspect
import pkgutil
import re
import tomllib
from dataclasses import is_dataclass
from importlib import metadata
from pathlib import Path
from types import ModuleType

import pytest
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

import crisp_compass

CORE = (
    "capture",
    "identify",
    "commutation",
    "modulation",
    "loops",
    "plant",
    "bench",
    "motor",
    "preparation",
    "course",
    "studies",
    "record",
)
SRC = Path(crisp_compass.__file__).parent


def _modules() -> list[ModuleType]:
    found = []
    for info in pkgutil.walk_packages([str(SRC)], "crisp_compass."):
        part = info.name.split(".")[1]
        if part in CORE or part in ("quantities", "conversions", "estimates", "errors"):
            found.append(importlib.import_module(info.name))
    return found


def _public(module: ModuleType) -> list[tuple[str, object]]:
    return [
        (n, o)
        for n, o in vars(module).items()
        if not n.startswith("_") and getattr(o, "__module__", "") == module.__name__ and callable(o)
    ]


def test_every_public_thing_is_documented() -> None:
    bare = []
    for module in _modules():
        assert module.__doc__, module.__name__
        for name, thing in _public(module):
            if inspect.isfunction(thing) or inspect.isclass(thing):
                doc = inspect.getdoc(thing) or ""
                if not doc or (is_dataclass(thing) and doc.startswith(f"{name}(")):
                    bare.append(f"{module.__name__}.{name}")
    assert bare == []


FITS = ("identify.resistance.fit_resistance", "identify.inductance.fit_inductance", "identify.flux.fit_flux", "identify.emf.fit_emf", "commutation.halls.read_halls", "capture.reader.read_capture", "loops.current.tune_current", "loops.speed.tune_speed", "modulation.pwm.plan_pwm", "quantities.parse")  # fmt: skip


@pytest.mark.parametrize("name", FITS)
def test_entry_points_name_arguments_units_and_errors(name: str) -> None:
    module, function = name.rsplit(".", 1)
    doc = inspect.getdoc(getattr(importlib.import_module(f"crisp_compass.{module}"), function)) or ""
    assert "Refusal" in doc
    assert "Raises" in doc
    assert re.search(r"Ω|Hz\b|\bWb\b|degrees|°C|\bSI\b|\[(V|A|s|H|rad)\]|\bin (V|A|s)\b|, (V|A|H|s)\b", doc)


def test_estimators_name_their_sources() -> None:
    for module in (
        "identify.resistance",
        "identify.inductance",
        "identify.emf",
        "loops.current",
        "loops.speed",
        "loops.sampled",
    ):
        doc = importlib.import_module(f"crisp_compass.{module}").__doc__ or ""
        assert re.search(r"(19|20)\d\d", doc), module


def test_results_are_frozen() -> None:
    loose = []
    for module in _modules():
        for name, thing in _public(module):
            if inspect.isclass(thing) and is_dataclass(thing) and not thing.__dataclass_params__.frozen:  # type: ignore[attr-defined]
                loose.append(f"{module.__name__}.{name}")
    assert loose == []


def test_no_bare_except_and_no_print_outside_the_command_line() -> None:
    for path in SRC.rglob("*.py"):
        part = path.relative_to(SRC).parts[0]
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ExceptHandler):
                assert node.type is not None, path
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "print":
                assert part in ("cli", "app", "commands.py", "__main__.py"), path


def test_no_registry_host_or_machine_path_in_the_set_up_files() -> None:
    root = SRC.parents[1]
    for name in ("pyproject.toml", "requirements.lock", "Makefile", "tools/setup.sh", ".ci/run"):
        text = (root / name).read_text(encoding="utf-8")
        assert not re.search(r"https?://|/opt/|/root/|/work/", text), name


def test_installing_the_package_stays_within_the_lock() -> None:
    """All that the package needs, and all that this needs in turn, is pinned to what the lock says."""
    root = Path(crisp_compass.__file__).parents[2]
    lock = dict(re.findall(r"^(\S+)==(\S+)", (root / "requirements.lock").read_text(), re.MULTILINE))
    locked = {canonicalize_name(name): version for name, version in lock.items()}
    stated = tomllib.loads((root / "pyproject.toml").read_text())["project"]["dependencies"]
    pinned = {canonicalize_name(r.name): str(r.specifier) for r in map(Requirement, stated)}
    assert {name: f"=={locked[name]}" for name in pinned} == pinned
    for name in pinned:
        for text in metadata.requires(name) or []:
            needed = Requirement(text)
            if needed.marker is None or needed.marker.evaluate({"extra": ""}):
                assert canonicalize_name(needed.name) in pinned, f"{name} needs {needed.name}"
