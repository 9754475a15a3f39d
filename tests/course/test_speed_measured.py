"""Measured responses of the speed loop: what differs is found by captures of simulated drives whose motor, gains or filter are others than the bench's."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.bench.models import Bench
from crisp_compass.capture import read_capture
from crisp_compass.capture.model import Capture
from crisp_compass.course.captures import evaluate, guess_kind
from crisp_compass.course.speed_measured import (
    MeasuredSpeed,
    findings_of_response,
    read_speed_response,
    speed_gains_that_ran,
)
from crisp_compass.drive.hand import Hand, LocalLine
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.single import take_one
from crisp_compass.errors import Refusal
from drives import DEMO, WHEN, random_cage, random_drive

Change = Callable[[ServedDrive], None]


def taken(bench: Bench, folder: Path, change: Change = lambda _: None, seed: int = 1) -> tuple[Capture, MeasuredSpeed]:
    """Return the capture of steps taken on a simulated drive that was changed behind everybody's back, and what is read of it."""
    drive = ServedDrive(bench, seed=seed)
    change(drive)
    line = LocalLine(drive)
    found = take_one(bench, Hand(line, drive.description, line.pass_time, clock=line.clock), folder, "speed_steps", now=lambda: WHEN, prefix="s")
    assert isinstance(found.result, MeasuredSpeed)
    assert found.evidence.kind in ("speed_response", "armature_response")
    return read_capture(folder / found.evidence.file), found.result


def gains(**factors: float) -> Change:
    """Let gains act otherwise than the drive says that it holds them."""

    def change(drive: ServedDrive) -> None:
        before = drive._apply

        def apply(*, restart: bool) -> None:
            before(restart=restart)
            control = drive._sim.drive.control
            drive._sim.retune(drive._sim.drive._replace(control=control._replace(**{k: getattr(control, k) * f for k, f in factors.items()})))

        drive._apply = apply  # type: ignore[method-assign]

    return change


def heavier(drive: ServedDrive) -> None:
    drive._own = drive._own._replace(load=drive._own.load._replace(inertia=1.5 * drive._own.load.inertia))
    drive._sim.retune(drive._own)


BENCHES: dict[str, Callable[[], Bench]] = {"servo": lambda: load_bench(DEMO / "winch" / "winch.bench.json"), "stepper": lambda: random_drive(13, "carousel"), "cage": lambda: random_cage(1)}


@pytest.mark.thorough
@pytest.mark.parametrize("kind", list(BENCHES))
def test_the_likeliest_cause_is_the_one_that_was_built_in(kind: str, tmp_path: Path) -> None:
    bench = BENCHES[kind]()
    _, plain = taken(bench, tmp_path)
    assert (plain.cause, findings_of_response(plain)) == ("", ())
    assert plain.kp is not None
    assert abs(plain.kp / plain.gains[0] - 1) < 0.15
    for change, words, share in ((gains(kp_speed=0.5), "Kp acts as", 0.5), (gains(ki_speed=0.33), "Ki acts as", 0.33), (heavier, "The inertia is", 1.5)):
        _, found = taken(bench, tmp_path, change)
        assert found.cause.startswith(words), (words, found.cause)
        assert found.advice
        acting = found.kp if words.startswith("Kp") else found.ki if words.startswith("Ki") else None
        if acting is not None:
            assert abs(acting / found.gains[0 if words.startswith("Kp") else 1] / share - 1) < 0.15
        else:
            true = bench.settled["mechanics"].values["inertia"].value * share
            assert abs(found.estimates["inertia"].value / true - 1) < 0.03


def test_a_slower_filter_and_a_limit_are_told_apart_from_gains(tmp_path: Path) -> None:
    bench = random_cage(1)
    _, late = taken(bench, tmp_path, gains(speed_filter=0.25))
    assert late.cause.startswith("The measured speed comes")
    assert "±" in late.cause  # with its doubt
    winch = load_bench(DEMO / "winch" / "winch.bench.json")
    capture, _ = taken(winch, tmp_path)
    limited = winch.model_copy(update={"settings": winch.settings.model_copy(update={"run": winch.settings.run.model_copy(update={"i_limit": 0.3 * float(np.max(np.abs(capture["i_q"])))})})})
    found = read_speed_response(limited, capture)
    assert found.cause.startswith("The current stands at its limit")
    assert "ramp" in found.advice
    assert found.kp is None  # what is limited tells no gain


def test_gains_that_ran_come_from_the_file_first_and_a_capture_finds_its_leg(tmp_path: Path) -> None:
    bench = load_bench(DEMO / "winch" / "winch.bench.json")
    capture, found = taken(bench, tmp_path)
    settled = bench.settled["speed_loop"].values
    assert found.gains == pytest.approx((settled["kp"].value, settled["ki"].value), rel=1e-6)
    assert speed_gains_that_ran(bench, {"kp": "0.5", "ki": "3"}) == (0.5, 3.0)
    with pytest.raises(Refusal, match="note kp"):
        speed_gains_that_ran(bench, {"kp": "half"})
    with pytest.raises(Refusal, match="above zero"):
        speed_gains_that_ran(bench, {"kp": "-1", "ki": "3"})
    file = next(tmp_path.glob("s-speed-steps*.csv"))
    assert guess_kind(bench, capture, "").topic == "speed_loop"
    again = evaluate(bench, "speed_loop", file, base=tmp_path, when=WHEN)
    assert {"inertia", "overshoot", "expected_overshoot", "rise", "kp", "limited"} <= set(again.evidence.estimates)
    assert abs(again.evidence.estimates["overshoot"].value - again.evidence.estimates["expected_overshoot"].value) < 0.05
    quiet = tmp_path / "quiet.csv"
    quiet.write_text("t [s],speed_ref [rpm],speed [rpm],i_q [A]\n" + "".join(f"{k * 1e-3:.3f},600,{600 + (k % 3)},0.1\n" for k in range(400)))
    with pytest.raises(Refusal, match="stays at 0.1"):
        evaluate(bench, "speed_loop", quiet, base=tmp_path, when=WHEN)
