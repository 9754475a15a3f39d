"""A stepped field that an encoder watches: what the shaft really does behind an obstacle, whatever the firmware believes."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench.entered import enter, standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import load_bench
from crisp_compass.course.open_loop import full_step, stepping_current
from crisp_compass.course.position import as_designed, count_of
from crisp_compass.errors import Refusal
from crisp_compass.plant import state
from crisp_compass.plant.parameters import OFF, PULSE
from crisp_compass.plant.simulation import Simulation
from crisp_compass.studies.scenarios import open_simulation
from crisp_compass.studies.stepped_move import unwatched
from crisp_compass.studies.watched_move import play_watched, watch_outlook

COUNT = 2 * math.pi / 8000


def watched(load: float = 0.0, kind: str = "brakes", window: float | None = 2 * COUNT, **stepping: object) -> Bench:
    bench = load_bench(Path("demo/carousel/carousel.bench.json"))
    bench = enter(enter(bench, "stepping", {"encoder": "watches", **stepping}), "motion", {"distance": 6 * math.pi, "window": window})
    return enter(bench, "run", {"load": load, "load_kind": kind})


def test_a_blocked_shaft_finds_its_place_and_without_the_encoder_it_is_whole_electrical_turns_off() -> None:
    found = watch_outlook(watched(obstacle=0.25))
    assert found.played.fault == ""
    assert 1 <= len(found.played.began) <= 3
    assert abs(found.played.off) <= 2 * COUNT
    assert found.played.arrived > found.move.duration + 0.25
    tried = standing(as_designed(watched(obstacle=0.25)))
    sim = open_simulation(tried)
    sim.retune(unwatched(sim.drive))
    lost = play_watched(sim, found.move, stepping_current(tried), count_of(tried), found.between, 3.0)
    steps = lost.off / full_step(tried)
    assert steps > 3.9
    assert steps % 4 == pytest.approx(0.0, abs=0.05) or steps % 4 == pytest.approx(4.0, abs=0.05)


def test_each_setting_binds() -> None:
    """Corrections, their pause, their acceleration and the band, read off what the shaft did."""
    usual = watch_outlook(watched(obstacle=2.0)).played
    assert usual.fault == "following error"
    assert len(usual.began) == 4  # three corrections, and the one that was too many
    assert len(watch_outlook(watched(obstacle=2.0, corrections=1)).played.began) == 2
    assert len(watch_outlook(watched(obstacle=2.0, corrections=0)).played.began) == 1
    gaps, longer = np.diff(usual.began), np.diff(watch_outlook(watched(obstacle=2.0, settle=0.3)).played.began)
    np.testing.assert_allclose(longer - gaps, 0.2, atol=0.03)
    # from rest to the band at acceleration a·slower^k takes √(2·band/a)
    bench = watched(obstacle=2.0, slower=0.25)
    slow = np.diff(watch_outlook(bench).played.began) - 0.1
    band, accel = 1.5 * full_step(bench), watch_outlook(bench).move.accel
    np.testing.assert_allclose(slow[:2], [math.sqrt(2 * band / (accel * 0.25**k)) for k in (1, 2)], rtol=0.15, atol=0.02)
    wide, narrow = (watch_outlook(enter(watched(obstacle=2.0, corrections=0, lost_after=k), "motion", {"speed": 5.0, "distance": 3.0})).played for k in (2.0, 0.5))
    assert wide.began[0] - narrow.began[0] == pytest.approx(1.5 * full_step(bench) / 5.0, abs=6e-3)


@pytest.mark.parametrize(("on_lost", "falls"), [("hold", False), ("off", True)])
def test_what_it_ends_with_holds_a_weight_or_does_not(on_lost: str, falls: bool) -> None:
    tried = standing(as_designed(watched(0.1, "drives", corrections=0, on_lost=on_lost)))
    sim = open_simulation(tried)
    free, current = sim.drive, stepping_current(tried)
    sim.command(PULSE, position=0.0, i_d=current)
    sim.advance(0.4, 100)
    sim.command(PULSE, position=6.0, i_d=current)
    sim.advance(0.1, 100)
    sim.retune(free._replace(load=free.load._replace(coulomb=50.0, breakaway=50.0)))
    sim.advance(0.2, 100)
    assert sim.fault == "following error"
    sim.retune(free)
    at = float(sim.state[state.THETA])
    sim.advance(0.5, 100)
    fell = at - float(sim.state[state.THETA])
    assert (fell > 10 * full_step(tried)) is falls
    assert falls or abs(fell) < full_step(tried)


def test_a_shaft_turned_by_hand_while_it_is_off_goes_back_to_its_place() -> None:
    tried = standing(as_designed(watched()))
    sim = open_simulation(tried)
    current = stepping_current(tried)
    _to(sim, 2.0, current, 1.5)
    sim.command(OFF)
    sim.advance(0.05)
    sim.state[state.THETA] += 1.234
    _to(sim, 2.0, current, 1.5)
    assert float(sim.state[state.THETA]) == pytest.approx(2.0, abs=count_of(tried) + 2 * COUNT)


def _to(sim: Simulation, place: float, current: float, seconds: float) -> None:
    sim.command(PULSE, position=place, i_d=current)
    sim.advance(seconds, 1000)


def test_the_window_is_reached_against_a_weight_and_never_hunts() -> None:
    """A weight draws the resting shaft by asin(T/T_hold)/p off its field; the field is turned on once or twice, and then stands."""
    bench = watched(0.15, "drives", obstacle=0.0)
    assert abs(watch_outlook(bench).played.off) <= 4 * COUNT
    tried = standing(as_designed(watched(0.15, "drives", window=None)))
    sim, loose = open_simulation(tried), watch_outlook(watched(0.15, "drives", window=None, obstacle=0.0))
    _to(sim, 1.0, stepping_current(tried), 2.0)
    assert float(sim.state[state.FIELD] / 50 - sim.state[state.THETA]) == pytest.approx(loose.lag, rel=0.2)
    tried = standing(as_designed(bench))
    sim = open_simulation(tried)
    _to(sim, 1.0, stepping_current(tried), 2.0)
    assert np.ptp(sim.advance(3.0, 100)["angle"]) < 2 * COUNT


def test_what_cannot_work_is_said() -> None:
    coarse = enter(watched(lost_after=0.25), "sensor", {"counts_per_rev": 800})
    with pytest.raises(Refusal, match="cannot tell them"):
        watch_outlook(coarse)
    codes = {f.code for f in watch_outlook(watched(0.2, "drives", window=0.5 * COUNT, lost_after=0.3, obstacle=1.0)).findings}
    assert {"window-below-count", "lag-is-lost", "gives-up-and-falls"} <= codes
