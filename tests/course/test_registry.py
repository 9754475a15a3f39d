"""The registry of waypoints and what every one of them must have; and the borders that the design draws."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import crisp_compass
from crisp_compass.app.menus import WAYPOINT_KEYS
from crisp_compass.app.pages import PAGES
from crisp_compass.app.widgets.wiring import TEXTS
from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.settings import Settings
from crisp_compass.course.course import headline, waypoints_of
from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints import KINDS, WAYPOINTS
from crisp_compass.motor import FAMILIES
from crisp_compass.plant.kernels import KERNELS
from crisp_compass.plant.parameters import Machine
from crisp_compass.views import view_of

SRC = Path(crisp_compass.__file__).parent


@pytest.mark.parametrize("waypoint", WAYPOINTS, ids=lambda w: w.key)
def test_every_waypoint_is_whole(waypoint: Waypoint, winch: Path) -> None:
    assert waypoint.question.endswith("?")
    assert tuple(PAGES[waypoint.key]) == tuple(s.name for s in waypoint.sections)
    if waypoint.topic is not None:
        assert waypoint.first_step.endswith(".")
        others = {
            k: winch.parents[1] / n / f"{n}.bench.json" for k, n in (("circuit", "hoist"), ("start_up", "pump"), ("motion", "carousel"))
        }
        assert headline(load_bench(others.get(waypoint.key, winch)), waypoint)
        assert waypoint.propose is not None or any(k.propose for k in waypoint.captures)
    assert all(need in {w.key for w in WAYPOINTS} for need in waypoint.needs)


@pytest.mark.parametrize("kind", KINDS.values(), ids=lambda k: k.key)
def test_every_kind_of_capture_is_whole(kind: object) -> None:
    from crisp_compass.course.kind import CaptureKind

    assert isinstance(kind, CaptureKind)
    assert kind.section in PAGES[kind.topic]
    assert callable(view_of(kind).panes)
    assert kind.sketch in TEXTS
    assert kind.signals


def test_every_waypoint_has_a_key_and_every_topic_its_settings() -> None:
    assert len(WAYPOINT_KEYS) > len(WAYPOINTS)  # the next one has a key already
    assert len(set(WAYPOINT_KEYS)) == len(WAYPOINT_KEYS)
    assert [w.key for w in waypoints_of(Bench())] == [w.key for w in WAYPOINTS if w.applies(Bench())]
    designed = {w.key for w in WAYPOINTS if w.propose is not None}
    assert designed <= set(Settings.model_fields)


def test_families_are_told_apart_in_one_package() -> None:
    """Whoever needs to know what a motor can do asks its family; nobody compares its name."""
    found = [
        f"{path.relative_to(SRC)}: {line.strip()}"
        for path in SRC.rglob("*.py")
        if path.parts[len(SRC.parts)] != "motor"
        for line in path.read_text(encoding="utf-8").splitlines()
        if re.search(r"\bfamily\s*(==|!=|in\b)|\bplate\.family\b.*(==|!=)", line)
        and not line.strip().startswith(("#", "for "))
    ]
    assert found == []
    assert set(FAMILIES) >= {"sinusoidal", "trapezoidal", "stepper", "induction", "brushed"}
    assert Machine in KERNELS
