"""Homing: published numbers of the methods (from memory of the table in IEC 61800-7-201, object 6098h), repeatability by a thousand homings against v·T, indices, overtravel."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench.entered import enter
from crisp_compass.bench.store import load_bench
from crisp_compass.course.homing import homing_of
from crisp_compass.errors import Refusal
from crisp_compass.motion.homing import Plan, follow, method_of, overtravel, repeat
from crisp_compass.motion.seeking import DONE
from crisp_compass.studies.home_run import home_outlook

DEMO = Path(__file__).parents[2] / "demo"
TURN = 2 * math.pi
PLAN = Plan("home-switch", "positive", "leaving", False, "negative", 30.0, 3.0, 400.0, 2e-3, 0.01, 0.0, 0.5, -10.0)
#: reference, active side, leaving or entering, way of an index alone → method with index, without.
PUBLISHED = {
    ("negative-limit", "positive", "leaving", ""): (1, 17), ("positive-limit", "positive", "leaving", ""): (2, 18),
    ("home-switch", "positive", "leaving", ""): (3, 19), ("home-switch", "positive", "entering", ""): (4, 20),
    ("home-switch", "negative", "leaving", ""): (5, 21), ("home-switch", "negative", "entering", ""): (6, 22),
    ("index", "positive", "leaving", "negative"): (33, 33), ("index", "positive", "leaving", "positive"): (34, 34), ("here", "positive", "leaving", ""): (37, 37),
}  # fmt: skip
#: Way in which the place is approached by the published pictures: 3 leaves towards the negative side, 4 enters in the positive way, and so on.
APPROACH = {1: 1, 2: -1, 3: -1, 4: 1, 5: 1, 6: -1, 33: -1, 34: 1}


@pytest.mark.parametrize("case", PUBLISHED, ids=str)
def test_the_methods_have_their_published_numbers(case: tuple[str, str, str, str]) -> None:
    reference, active, side, toward = case
    plan = replace(PLAN, reference=reference, active=active, side=side, toward=toward or "negative")
    assert (method_of(replace(plan, index=True)), method_of(plan)) == PUBLISHED[case]
    number = method_of(replace(plan, index=True))
    if number in APPROACH:
        assert plan.approach == APPROACH[number]


@pytest.mark.parametrize("side", ["leaving", "entering"])
@pytest.mark.parametrize("active", ["positive", "negative"])
@pytest.mark.parametrize("begin", [-10.0, -0.001, 0.001, 7.0])
def test_every_path_ends_at_the_edge_from_its_own_side(side: str, active: str, begin: float) -> None:
    plan = replace(PLAN, side=side, active=active, begin=begin)
    path = follow(plan)
    s = plan.switch_sign
    edge = (0.5 if side == "entering" else -0.5) * s * plan.hysteresis
    late = plan.slow * plan.scan
    assert 0.0 <= (path.found - edge) * plan.approach <= late + 1e-12
    assert (path.place[-1] - path.found) * plan.approach >= 0  # it stops beyond
    assert np.all(np.diff(path.time) >= 0)
    assert path.most <= overtravel(plan) + max(begin, 0.0) + 1e-9 or s < 0
    assert -path.least <= overtravel(plan) + max(-begin, 0.0) + 1e-9 or s > 0


def test_a_thousand_homings_spread_evenly_over_a_look() -> None:
    found = repeat(PLAN)
    late = PLAN.slow * PLAN.scan
    assert found.spread == pytest.approx(late, rel=0.01)
    assert found.deviation == pytest.approx(late / math.sqrt(12), rel=0.05)
    assert float(np.mean(found.found)) == pytest.approx(-0.5 * PLAN.hysteresis - 0.5 * late, rel=0.02)
    loose = repeat(replace(PLAN, scatter=0.02))
    assert loose.deviation == pytest.approx(math.hypot(0.02, late / math.sqrt(12)), rel=0.06)


def test_an_index_repeats_unless_the_edge_lies_beside_it() -> None:
    middle = repeat(replace(PLAN, index=True, scatter=0.05))
    assert middle.spread < 1e-12
    assert middle.turned == 0
    beside = repeat(replace(PLAN, index=True, scatter=0.05, index_at=0.003))
    assert beside.turned > 100
    assert beside.spread == pytest.approx(TURN)
    alone = follow(replace(PLAN, reference="index", toward="positive", begin=1.0))
    assert alone.found == pytest.approx(-0.5 * TURN + TURN)
    with pytest.raises(Refusal, match="faster than"):
        follow(replace(PLAN, slow=40.0))


def test_what_the_page_says_of_room_and_index() -> None:
    bench = enter(load_bench(DEMO / "carousel" / "carousel.bench.json"), "homing", {"reference": "home-switch", "fast": 30.0, "slow": 2.0, "index_at": 0.1, "room": 0.5, "scan": 2e-3})
    bench = enter(bench, "speed_loop", {"ramp": 400.0})
    found = homing_of(bench)
    codes = [f.code for f in found.findings]
    assert codes[:3] == ["runs-into-the-stop", "soft-beyond-hard", "index-near-edge"]
    assert found.number == 3
    assert ("6098h", "3", "method") in found.objects
    assert found.beyond == pytest.approx(30.0 * 2e-3 + 30.0**2 / 800.0)  # v·T + v²/2a
    calm = homing_of(enter(bench, "homing", {"index_at": 0.5, "room": 60.0}))
    assert [f.code for f in calm.findings] == ["homing-moves"]
    inside, beyond = (homing_of(enter(enter(bench, "homing", {"ends": "edge", "room": 5.0}), "motion", {"high": high})) for high in (4.9, 5.5))
    assert "soft-beyond-hard" not in [f.code for f in inside.findings]
    assert "soft-beyond-hard" in [f.code for f in beyond.findings]
    assert "open-contact" in [f.code for f in homing_of(enter(bench, "homing", {"contact": "open"})).findings]
    assert homing_of(enter(bench, "homing", {"reference": "here"})).number == 37


@pytest.mark.parametrize(("wishes", "late"), [
    ({"ends": "edge"}, 2.0 * 4e-3), ({"ends": "edge", "hysteresis": 0.3}, 2.0 * 4e-3), ({"ends": "edge", "side": "entering", "active": "negative", "begin": 6.0}, 2.0 * 4e-3), ({"ends": "index", "hysteresis": 0.3}, 2e-3),
])  # fmt: skip
def test_the_simulated_drive_finds_the_place_of_the_plan(wishes: dict[str, object], late: float) -> None:
    bench = enter(load_bench(DEMO / "winch" / "winch.bench.json"), "homing", {"reference": "home-switch", "fast": 40.0, "slow": 2.0, "scan": 4e-3, **wishes})
    found, ran = home_outlook(bench)
    assert ran is not None
    assert ran.state == DONE
    assert ran.found == pytest.approx(found.path.found, abs=late)
    assert ran.beyond <= found.beyond + 0.15  # the shaft lags its ramp a little


def test_a_hard_stop_is_told_by_its_current() -> None:
    """The same place whatever the load and wherever it begins; pushing with less than friction takes, it is found too early."""
    winch = load_bench(DEMO / "winch" / "winch.bench.json")
    for load, begin in ((0.0, 9.0), (0.1, 4.0)):
        bench = enter(enter(winch, "homing", {"reference": "negative-stop", "slow": 3.0, "begin": begin}), "run", {"load": load})
        found, ran = home_outlook(bench)
        assert ran is not None
        assert ran.state == DONE
        assert abs(ran.found) < 0.02
        assert found.number == -1
        assert found.plan.push == 0.5 * bench.settings.run.i_limit
    weak = enter(enter(winch, "homing", {"reference": "negative-stop", "push": 0.5, "begin": 4.0}), "run", {"load": 0.3})
    assert "push-is-friction" in [f.code for f in home_outlook(weak)[0].findings]
    strong = enter(winch, "homing", {"reference": "positive-stop", "push": 2.0 * winch.settings.run.i_limit, "begin": -1.0})
    codes = [f.code for f in home_outlook(strong)[0].findings]
    assert "push-above-limit" in codes
    assert "homing-trips" in codes  # the drive stalls there
    with pytest.raises(Refusal, match="behind its stop"):
        homing_of(enter(winch, "homing", {"reference": "negative-stop", "begin": -1.0}))
    stepped = enter(load_bench(DEMO / "carousel" / "carousel.bench.json"), "sensor", {"kind": "none"})
    with pytest.raises(Refusal, match="does not tell that it pushes"):
        homing_of(enter(stepped, "homing", {"reference": "negative-stop", "begin": 1.0}))
    with pytest.raises(Refusal, match="an index is an encoder's"):
        homing_of(enter(stepped, "homing", {"reference": "index"}))
