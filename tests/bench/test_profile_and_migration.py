"""Motor profiles, and benches written by the version before."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from crisp_compass.bench import load_bench, save_bench
from crisp_compass.bench.models import FORMAT, Bench
from crisp_compass.bench.profile import differences, load_profile, make_profile, save_profile, take_over
from crisp_compass.bench.rules import settled_value, stale_inputs
from crisp_compass.errors import Refusal
from crisp_compass.preparation.checks import BY_CHECK, forget_check, judge

WHEN = "2026-05-12T15:00:00"


def test_a_profile_round_trip_and_only_what_is_chosen(winch: Path, tmp_path: Path) -> None:
    bench = load_bench(winch)
    save_profile(make_profile(bench), tmp_path / "w.motor.json")
    profile = load_profile(tmp_path / "w.motor.json")
    assert differences(bench, profile) == []
    found = differences(Bench(), profile)
    assert {"plate.pole_pairs", "flux.flux_linkage", "mechanics.inertia"} <= {d.key for d in found}
    assert not any("v_bus" in d.key for d in found)  # the supply is the bench's, not the motor's
    fresh = take_over(Bench(), profile, {"plate.pole_pairs", "inductance.ld"}, WHEN)
    assert fresh.settings.plate.pole_pairs == 7
    assert set(fresh.settled) == {"inductance"}
    assert {"ld", "lq"} <= set(fresh.settled["inductance"].values)  # a topic is taken as a whole
    assert fresh.settings.plate.kv is None
    assert fresh.ledger[-1].kind == "profile"
    older = (tmp_path / "w.motor.json").read_text().replace('"kt_convention"', '"kt_school"')
    (tmp_path / "old.motor.json").write_text(older)
    assert load_profile(tmp_path / "old.motor.json").plate["kt_convention"] == "rms"  # as format 4 said it


DATA = Path(__file__).parent / "data"


@pytest.mark.parametrize(
    "text",
    [
        "",
        "{",
        "[]",
        '{"format": 2}',
        '{"kind": "motor-profile", "plate": {"pole_pairs": 0}}',
        '{"kind": "motor-profile", "unknown": 1}',
    ],
)
def test_what_is_no_profile_is_refused(text: str, tmp_path: Path) -> None:
    path = tmp_path / "p.motor.json"
    path.write_text(text)
    with pytest.raises(Refusal) as caught:
        load_profile(path)
    assert str(path) in caught.value.sentence
    with pytest.raises(Refusal, match="no such file"):
        load_profile(tmp_path / "nowhere.json")


def test_a_bench_of_the_first_version_opens_unharmed(tmp_path: Path) -> None:
    """Format 1 kept inertia and friction with the plate; everything that rests on them must not turn stale."""
    data = json.loads((DATA / "format-4.bench.json").read_text(encoding="utf-8"))
    data["format"] = 1
    for key in ("leads", "checks", "spikes", "cable"):
        data.pop(key, None)
    data["settled"].pop("mechanics")
    data["evidence"].pop("mechanics")
    for topic in ("supply", "learned", "flux"):
        data["levers"].pop(topic, None)
    old = data["settled"]["speed_loop"]
    old["rests_on"] = {
        k.replace("mechanics.inertia", "plate.inertia").replace("mechanics.viscous_friction", "plate.viscous"): v
        for k, v in old["rests_on"].items()
        if "coulomb" not in k
    }
    if "plate.inertia" in old["rests_on"]:
        old["rests_on"]["plate.inertia"] = 1.9e-4
    path = tmp_path / "old.bench.json"
    path.write_text(json.dumps(data), encoding="utf-8")
    bench = load_bench(path)
    assert bench.format == FORMAT
    assert "mechanics.inertia" in bench.settled["speed_loop"].rests_on
    stands_in = settled_value(bench, "mechanics.inertia")
    assert stands_in is not None
    assert stands_in.value == pytest.approx(1.9e-4)
    assert not any(str(s).startswith("mechanics") for s in stale_inputs(bench, "speed_loop"))
    assert json.loads(path.read_text(encoding="utf-8"))["format"] == 1  # opening changes no file


@pytest.mark.parametrize("version", [1, 2, 3, 4])
def test_files_of_every_format_open_and_keep_what_they_say(version: int, tmp_path: Path) -> None:
    """Benches as earlier versions wrote them: nothing settled, read or noted is lost, and typed readings reach their checks."""
    path = DATA / f"format-{version}.bench.json"
    old, bench = json.loads(path.read_text(encoding="utf-8")), load_bench(path)
    assert (old["format"], bench.format) == (version, FORMAT)
    for topic, settled in old["settled"].items():
        for name, quantity in settled["values"].items():
            assert bench.settled[topic].values[name].value == quantity["value"]
        assert bench.settled[topic].reason == settled["reason"]
    assert [e.text for e in bench.ledger] == [e["text"] for e in old["ledger"]]
    typed = {e["kind"]: e["value"]["value"] for e in old["ledger"] if e["kind"] in ("ruv", "rvw", "rwu")}
    assert bench.checks["pairs"].values == {f"{k[1:]}": v for k, v in typed.items()}
    for key, record in old.get("checks", {}).items():
        if record.get("said"):  # free text decides nothing any more
            assert (bench.checks[key].said, bench.checks[key].choice) == (record["said"], record.get("choice", ""))
    save_bench(bench, tmp_path / "again.bench.json")
    assert load_bench(tmp_path / "again.bench.json") == bench


def test_readings_that_were_reset_do_not_come_back_from_the_ledger(winch: Path, tmp_path: Path) -> None:
    bench = forget_check(load_bench(winch), "pairs", WHEN)
    save_bench(bench, tmp_path / "reset.bench.json")
    again = load_bench(tmp_path / "reset.bench.json")
    assert judge(again, BY_CHECK["pairs"]).verdict == "open"
    assert judge(again, BY_CHECK["probe_zero"]).verdict == "passed"
