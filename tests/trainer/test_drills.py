"""The judge is judged: an expert passes each drill, a guesser does not, danger and hints cost; own drills are files."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from crisp_compass.errors import Refusal
from crisp_compass.trainer.drill import Case, Drill, case_of
from crisp_compass.trainer.drills import BY_KEY, DRILLS
from crisp_compass.trainer.evidence import evidence_of, next_step
from crisp_compass.trainer.judge import HINT, Act, expert, judge
from crisp_compass.trainer.own import load_drill
from crisp_compass.trainer.progress import Result, as_csv, best, keep_result, load_results

OWN: dict[str, Any] = {
    "format": 1, "key": "fan", "title": "The fan hums", "story": "A fan on the bench hums and does not turn.", "first": ["unplug"],
    "causes": [{"key": "cap", "text": "its capacitor is gone", "lesson": "Measure it unplugged."}, {"key": "stuck", "text": "its shaft is stuck", "lesson": "Turn it by hand first."}],
    "measures": [
        {"key": "unplug", "title": "Unplug it", "tool": "hand", "reads": {"cap": "done", "stuck": "done"}},
        {"key": "farad", "title": "Capacitor with a meter", "tool": "meter", "unit": "farad", "reads": {"cap": [1e-7, 2e-8], "stuck": [2e-6, 1e-7]}},
        {"key": "push", "title": "Switch on and push it", "tool": "hand", "power": True, "reads": {"cap": "runs on", "stuck": "does not move"}},
    ],
}  # fmt: skip


def by_expert(case: Case) -> bool:
    readings, cause, numbers = expert(case)
    return judge(case, [Act(r) for r in readings], cause, numbers).passed


def by_guess(case: Case, seed: int) -> bool:
    rng = np.random.default_rng(seed)
    drill = case.drill
    acts = [Act(case.read(drill.measures[int(rng.integers(len(drill.measures)))].key))]
    numbers = {a.key: case.truth(a) * float(rng.uniform(0.5, 2.0)) for a in drill.asks}
    return judge(case, acts, drill.causes[int(rng.integers(len(drill.causes)))].key, numbers).passed


@pytest.mark.thorough(each=3)
@pytest.mark.parametrize("drill", DRILLS, ids=lambda d: d.key)
def test_an_expert_passes_and_a_guesser_does_not(drill: Drill) -> None:
    assert all(by_expert(case_of(drill, seed)) for seed in (100, 101))
    assert sum(by_guess(case_of(drill, seed), seed) for seed in range(100, 104)) <= 1


@pytest.mark.thorough
@pytest.mark.parametrize("drill", DRILLS, ids=lambda d: d.key)
def test_an_expert_passes_on_fifty_seeds(drill: Drill) -> None:
    assert sum(by_expert(case_of(drill, seed)) for seed in range(50)) >= 49
    assert sum(by_guess(case_of(drill, seed), seed) for seed in range(50)) <= 5


def test_sixteen_drills_across_families_and_each_cause_can_be_shown() -> None:
    assert len(DRILLS) >= 16
    assert {d.family for d in DRILLS} >= {"pm", "brushed", "stepper", "induction"}
    assert len(BY_KEY) == len(DRILLS)
    for drill in DRILLS:
        seen = {case_of(drill, seed).cause.key for seed in range(60)}
        assert seen == {c.key for c in drill.causes}
        assert set(drill.first) <= {m.key for m in drill.measures}
        assert bool(drill.first) == any(m.power for m in drill.measures)
        for cause in drill.causes:
            assert cause.text
            assert cause.lesson.endswith(".")


def test_a_case_is_its_seed_and_readings_scatter() -> None:
    drill = BY_KEY["loose-terminal"]
    one, two = case_of(drill, 5), case_of(drill, 5)
    assert one.story == two.story
    first = [one.read("pair-uv").value for _ in range(3)]
    assert first == [two.read("pair-uv").value for _ in range(3)]
    assert len(set(first)) == 3
    assert case_of(drill, 6).story != one.story


def test_power_before_its_checks_and_hints_cost() -> None:
    case = case_of(BY_KEY["leads-and-halls"], 4)
    readings, cause, numbers = expert(case)
    calm = judge(case, [Act(r) for r in readings], cause, numbers)
    hinted = judge(case, [*[Act(r) for r in readings], Act(None, hint=True)], cause, numbers)
    assert hinted.points == pytest.approx(calm.points - HINT)
    powered = [case.read(k) for k in ("turn", "emf", "run", "way")]
    risky = judge(case, [Act(r) for r in powered], cause, numbers)
    assert not risky.passed
    assert any("Power came before" in t for t in risky.told)
    assert [m.dangerous for m in risky.moments] == [False, False, True, True]
    wrong = next(c.key for c in case.drill.causes if c.key != case.cause.key)
    assert judge(case, [Act(r) for r in readings], wrong, numbers).points < 40
    lucky = judge(case, [], case.cause.key, numbers)  # named without a reading
    assert not lucky.passed
    assert any("more was needed" in t for t in lucky.told)


def test_the_evidence_is_told_in_order_and_the_expert_asks_for_safety_first() -> None:
    case = case_of(BY_KEY["encoder-zero"], 2)
    step = next_step(case, [], evidence_of(case))
    assert step is not None
    assert step[0].key in (*case.drill.first, "count")
    readings, _, _ = expert(case)
    verdict = judge(case, [Act(r) for r in readings], case.cause.key, {})
    beliefs = [m.belief for m in verdict.moments]
    assert beliefs[-1] > 0.9
    assert verdict.moments[-1].expert == ""


def test_own_drills_are_files(tmp_path: Path) -> None:
    path = tmp_path / "fan.json"
    path.write_text(json.dumps(OWN))
    drill = load_drill(path)
    assert all(by_expert(case_of(drill, seed)) for seed in range(12))
    assert {case_of(drill, s).cause.key for s in range(12)} == {"cap", "stuck"}

    def refused(change: dict[str, Any], said: str) -> None:
        path.write_text(json.dumps({**OWN, **change}))
        with pytest.raises(Refusal, match=said):
            load_drill(path)

    measures = OWN["measures"]
    own: dict[str, Any] = {"first": []}
    refused({"causes": OWN["causes"][:1]}, "causes: .*at least 2")
    refused({**own, "measures": [{**measures[0], "reads": {"cap": "done"}}]}, "“stuck” is missing")
    refused({**own, "measures": [{**measures[1], "reads": {"cap": [1, 0.1], "stuck": "none"}}]}, "numbers and words are mixed")
    refused({**own, "measures": [{**measures[1], "unit": "furlong"}]}, "unit “furlong” is not known")
    refused({**own, "measures": [measures[0], measures[0]]}, "“unplug” is there twice")
    refused({"first": ["pray"]}, "“pray” is no measurement")
    refused({**own, "measures": measures[:1]}, "no measurement tells the causes apart")
    refused({"colour": "red"}, "colour: extra inputs")
    path.write_text("{")
    with pytest.raises(Refusal, match="is no JSON"):
        load_drill(path)


def test_results_are_kept_and_exported(tmp_path: Path) -> None:
    path = tmp_path / "deep" / "drills.json"
    assert load_results(path) == []
    for points, passed in ((50.0, False), (90.0, True), (95.0, False)):
        keep_result(path, Result(drill="window", seed=1, when="2026-05-12", points=points, passed=passed, minutes=12.0, hints=0))
    found = load_results(path)
    top = best(found, "window")
    assert top is not None
    assert (top.points, top.passed) == (90.0, True)
    assert best(found, "mask") is None
    assert as_csv(found).splitlines()[2] == "window,1,2026-05-12,90,yes,12,0"
    path.write_text("[{]")
    assert load_results(path) == []
