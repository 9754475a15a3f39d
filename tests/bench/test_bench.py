"""The bench file: round trip, atomic save, refusals, settling and staleness, typed readings, the written schema."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from everything import run_all
from random_benches import random_bench

from crisp_compass.bench import Bench, Quantity, load_bench, save_bench, settle, stale_inputs
from crisp_compass.bench.models import FORMAT
from crisp_compass.bench.readings import parse_reading
from crisp_compass.bench.store import dump_bench
from crisp_compass.course.course import State, state_of
from crisp_compass.course.open_points import check_bench, next_bearing, stale_effect
from crisp_compass.course.waypoints import BY_KEY, current_loop
from crisp_compass.course.waypoints.current_loop import current_values, design_current
from crisp_compass.drive.description import Description
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically

ROOT = Path(__file__).resolve().parents[2]


def _ohm(value: float) -> dict[str, Quantity]:
    return {"resistance": Quantity(value=value, unit="Ω")}


def test_round_trip_is_stable_and_readable(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    save_bench(bench, tmp_path / "b.bench.json")
    assert load_bench(tmp_path / "b.bench.json") == bench
    assert (tmp_path / "b.bench.json").read_text(encoding="utf-8") == winch.read_text(encoding="utf-8")
    assert json.loads(dump_bench(Bench()))["format"] == FORMAT


def test_schema_on_disk_is_that_of_the_models() -> None:
    for name, model in (("bench", Bench), ("drive", Description)):
        written = json.loads((ROOT / "docs" / f"{name}.schema.json").read_text(encoding="utf-8"))
        assert written == model.model_json_schema()


DAMAGED = {
    "newer": ('{"format": 99, "name": "x", "unknown": 1}', f"has format 99, this program knows up to {FORMAT}"),
    "not JSON": ('{"format": 1, "name": "x"', "line 1: the bench file is damaged"),
    "other JSON": ('{"name": "x"}', "this is no bench file"),
    "a list": ("[1, 2]", "this is no bench file"),
    "bad version": ('{"format": "one"}', "format “one” is unknown"),
    "bad field": ('{"format": 1, "settings": {"plate": {"pole_pairs": 0}}}', "damaged at settings.plate.pole_pairs"),
    "infinite": ('{"format": 1, "settled": {"resistance": {"values": {"resistance": {"value": Infinity, "unit": "Ω"}}, "reason": "x", "when": ""}}}', "damaged at settled.resistance"),
    "extra": ('{"format": 1, "colour": "red"}', "damaged at colour"),
}  # fmt: skip


@pytest.mark.parametrize("name", DAMAGED)
def test_damaged_and_newer_files_are_refused_and_untouched(name: str, tmp_path: Path) -> None:
    content, wording = DAMAGED[name]
    path = tmp_path / "x.bench.json"
    path.write_text(content, encoding="utf-8")
    with pytest.raises(Refusal) as caught:
        load_bench(path)
    assert wording in caught.value.sentence
    assert caught.value.sentence.startswith(str(path))
    assert path.read_text(encoding="utf-8") == content


def test_missing_and_unreadable() -> None:
    with pytest.raises(Refusal, match="no such file"):
        load_bench("/nowhere/x.bench.json")
    with pytest.raises(Refusal, match="a folder, not a file"):
        load_bench("/tmp")


def test_a_failed_save_keeps_the_last_good_version(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "x.bench.json"
    save_bench(Bench(name="first"), path)

    def fail(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", fail)
    with pytest.raises(Refusal, match="No space left"):
        save_bench(Bench(name="second"), path)
    assert load_bench(path).name == "first"
    assert [p.name for p in tmp_path.iterdir()] == ["x.bench.json"]
    with pytest.raises(Refusal, match="cannot be written"):
        write_atomically(tmp_path / "no" / "folder.txt", "x")


def test_settling_needs_a_reason_and_its_inputs() -> None:
    with pytest.raises(Refusal, match="no reason"):
        settle(Bench(), "resistance", _ohm(1), reason="  ", when="t")
    with pytest.raises(Refusal, match="bus voltage|v bus"):
        settle(Bench(), "pwm", {}, reason="x", when="t", rests_on=("plate.v_bus",))
    bench = settle(Bench(), "resistance", _ohm(0.4), reason="meter", when="t")
    assert bench.ledger[-1].kind == "settled"


def test_stale_is_visible_and_says_what_would_change(winch: Path) -> None:
    bench = load_bench(winch)
    assert [s.key for s in stale_inputs(bench, "current_loop")] == ["resistance.resistance"]
    assert state_of(bench, BY_KEY["current_loop"]) is State.STALE
    assert state_of(bench, BY_KEY["run"]) is State.STALE
    assert next_bearing(bench).waypoint == "current_loop"
    assert "stale-current-loop" in [f.code for f in check_bench(bench)]
    # R moved from 408.0 to 412.7 mΩ and Ki is 2πf·R: 1.1 %
    assert "Ki q and ki d would move by 1.1 %" in stale_effect(bench, "current_loop")
    fresh = design_current(bench)
    again = settle(
        bench,
        "current_loop",
        current_values(bench, fresh),
        reason="new R",
        when="t",
        rests_on=current_loop.inputs(bench),
    )
    assert state_of(again, BY_KEY["current_loop"]) is State.SETTLED
    assert not stale_inputs(again, "speed_loop")  # the bandwidth it rests on is the same
    withdrawn = again.model_copy(update={"settled": {k: v for k, v in again.settled.items() if k != "resistance"}})
    assert stale_inputs(withdrawn, "current_loop")[0].now is None


def test_an_empty_bench_names_the_first_step_and_what_blocks() -> None:
    bench = Bench()
    assert next_bearing(bench).waypoint == "plate"
    assert state_of(bench, BY_KEY["current_loop"]) is State.BLOCKED
    with pytest.raises(Refusal, match="the resistance is not settled"):
        design_current(bench)


@pytest.mark.parametrize(
    ("text", "kind", "value"),
    [
        ("ruv 0.84", "ruv", 0.84),
        ("lead 50m", "lead", 0.05),
        ("temp 24", "temp", 24.0),
        ("RVW: 0,9 ohm", "rvw", 0.9),
        ("note blue lead is W", "note", None),
    ],
)
def test_typed_readings(text: str, kind: str, value: float | None) -> None:
    entry = parse_reading(text, "now")
    assert entry.kind == kind
    assert (entry.value.value if entry.value else None) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "wording"),
    [
        ("foo 3", "no reading known"),
        ("ruv", "value of ruv is missing"),
        ("ruv 3 mH", "a resistance"),
        ("note", "note is empty"),
        ("ruv -1", "cannot be negative"),
    ],
)
def test_readings_that_are_not_understood(text: str, wording: str) -> None:
    with pytest.raises(Refusal, match=wording):
        parse_reading(text, "now")


def _at(data: Any, path: str, value: Any) -> Any:
    """Set a value deep inside."""
    place, keys = data, path.split(".")
    for key in keys[:-1]:
        place = place[int(key)] if isinstance(place, list) else place[key]
    place[keys[-1]] = value
    return data


#: What made earlier versions end in a traceback: where in the winch's file, what stands there, which words name it.
FOUND = [
    ("settled.current_loop.values.kp_q.unit", "Mbit", "the unit “Mbit” is unknown"),
    ("settled.resistance.values.resistance.unit", "V", "settled.resistance.resistance: the unit Ω is needed"),
    ("settled.inductance.values", {"ld": {"value": 1e-3, "unit": "H"}}, "the value lq is missing"),
    ("settled.current_loop.values", {}, "the value"),
    ("settled.flux.values.flux_linkage.value", 1e30, "damaged at settled.flux"),
    ("checks.frame.values", {"nothing": 1.0}, "there is no reading “nothing”"),
    ("checks.unknown", {"when": ""}, "there is no such check"),
    ("evidence.resistance.0.estimates", {}, "the estimate"),
    ("evidence.flux.0.kind", "x", "is no kind of its captures"),
    ("leads.0.colour", "XX", "damaged at leads.0.colour"),
    ("settings.plate.inertia", 1e-30, "damaged at settings.plate.inertia"),
    ("settings.plate.pole_pairs", 10**400, "damaged at settings.plate.pole_pairs"),
    ("settled.plate.when", "2026 */ #error", "damaged at settled.plate.when"),
    ("settled.plate.settings.top_speed", 0, "settled.plate.settings.top_speed: this value is not possible"),
    ("name", "x" * 100_000, "damaged at name"),
]


@pytest.mark.parametrize(("where", "value", "words"), FOUND, ids=[f[0] for f in FOUND])
def test_what_was_well_formed_and_cannot_be_names_its_field(
    winch: Path, tmp_path: Path, where: str, value: Any, words: str
) -> None:
    data = _at(json.loads(winch.read_text(encoding="utf-8")), where, value)
    path = tmp_path / "x.bench.json"
    path.write_text(json.dumps(data), encoding="utf-8")
    with pytest.raises(Refusal) as caught:
        load_bench(path)
    assert words in caught.value.sentence
    assert len(caught.value.sentence) < 500


def test_marks_doubles_and_endless_numbers(winch: Path, tmp_path: Path) -> None:
    text, path = winch.read_text(encoding="utf-8"), tmp_path / "x.bench.json"
    path.write_text("\ufeff" + text, encoding="utf-8")  # a byte-order mark is no damage
    assert load_bench(path) == load_bench(winch)
    for bad, words in (
        (text.replace('"name": "Winch"', '"name": "Winch", "name": "Other"', 1), "“name” stands there twice"),
        (text.replace('"pole_pairs": 7', '"pole_pairs": ' + "7" * 5000, 1), "thousands of digits"),
    ):
        path.write_text(bad, encoding="utf-8")
        with pytest.raises(Refusal, match=words):
            load_bench(path)


@pytest.mark.parametrize("seed", range(6))
def test_benches_from_the_whole_allowed_range_are_answered(seed: int) -> None:
    """Log-uniform over all ranges: every design, export and record gives finite figures or one sentence. ``make fuzz`` asks more."""
    faults = list(run_all(random_bench(np.random.default_rng([3, seed]))))
    assert not faults


def test_the_fuzzer_asks_what_there_is_to_ask(winch: Path, tmp_path: Path) -> None:
    """On whole files and a damaged one, so that it does not grow old beside the program."""
    import fuzz

    for ask in (True, False):
        fuzz.one_bench(winch, ask=ask, slow=False)
    fuzz.one_capture(winch.parent / "winch-staircase.csv", fit=True)
    damaged = tmp_path / "damaged.csv"
    damaged.write_text((winch.parent / "winch-staircase.csv").read_text()[:700] + "\n1e400;x\n")
    fuzz.one_capture(damaged, fit=True)


@pytest.mark.parametrize(
    ("demo", "key", "topic", "moves"),
    [
        ("pump", "pwm.dead_time_voltage", "start_up", "Floor and acceleration would move by"),
        ("hatch", "mechanics.inertia", "speed_loop", "filter by"),
        ("hoist", "resistance.resistance", "circuit", "Rotor time constant would move by"),
        ("winch", "plate.v_bus", "pwm", "Nothing settled here would move"),
    ],
)
def test_every_waypoint_says_what_settling_again_would_move(demo: str, key: str, topic: str, moves: str) -> None:
    bench = load_bench(Path(__file__).parents[2] / "demo" / demo / f"{demo}.bench.json")
    source, _, name = key.partition(".")
    values = bench.settled[source].values
    more = values[name].model_copy(update={"value": 1.1 * values[name].value})
    settled = bench.settled[source].model_copy(update={"values": {**values, name: more}})
    said = stale_effect(bench.model_copy(update={"settled": {**bench.settled, source: settled}}), topic)
    assert moves in said, said
