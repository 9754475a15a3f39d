"""A drive's own auto-tune, judged by what it leaves and not by what it reports."""

from __future__ import annotations

from dataclasses import replace

import pytest

from crisp_compass.bench import load_bench
from crisp_compass.drive.hand import Hand, LocalLine
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.tuning import TuneRun, judge, run_auto_tune
from crisp_compass.errors import Refusal
from drives import DEMO

WINCH = load_bench(DEMO / "winch" / "winch.bench.json")


def hand_on(drive: ServedDrive) -> Hand:
    line = LocalLine(drive)
    return Hand(line, drive.description, line.pass_time, clock=line.clock)


def codes(runs: list[TuneRun]) -> set[str]:
    return {f.code for f in judge(WINCH, runs)[1]}


def test_it_ran_and_what_it_left_is_believed_or_not() -> None:
    drive = ServedDrive(WINCH)
    hand = hand_on(drive)
    runs = [run_auto_tune(hand, kind) for kind in (1, 1, 2)]
    assert runs[0].took > 2.0
    rows = {r.constant: r for r in judge(WINCH, runs)[0]}
    assert {r.verdict for r in rows.values()} == {"ran"}
    truth = drive._sim.drive.machine
    assert rows["resistance"].believed == pytest.approx(1.03 * truth.r, rel=0.02)  # its cable and switches count as winding
    assert rows["flux_linkage"].believed == pytest.approx(truth.psi, rel=0.03)
    assert not drive.armed
    first = runs[0]
    r = first.after["resistance"]

    def changed(**values: float) -> TuneRun:
        return replace(first, after={**first.after, **values})

    assert "auto-tune-zero" in codes([changed(resistance=0.0)])
    assert {"outside-band", "time-constant"} <= codes([changed(resistance=40 * r)])
    assert "auto-tune-disagrees" in codes([changed(resistance=0.8 * r)])
    assert "winding-warms" in codes([first, changed(resistance=1.03 * r), changed(resistance=1.06 * r)])
    assert "repeats-differ" in codes([first, changed(lq=1.1 * first.after["lq"])])
    assert "run-it-twice" in codes([first])


def test_one_that_only_says_so_did_not_run() -> None:
    hand = hand_on(ServedDrive(WINCH, tune_skips=True))
    rows, findings = judge(WINCH, [run_auto_tune(hand, 1), run_auto_tune(hand, 2)])
    assert {r.verdict for r in rows} == {"did not run"}
    assert [f.code for f in findings] == ["auto-tune-did-not-run"]
    assert findings[0].level == "stop"
    assert "resistance, Ld, Lq and flux linkage" in findings[0].text


def test_what_breaks_off_says_so() -> None:
    drive = ServedDrive(WINCH)
    hand = hand_on(drive)
    with pytest.raises(Refusal, match="no such auto-tune"):
        run_auto_tune(hand, 3)
    hand.command("hold", 1.0)
    with pytest.raises(Refusal, match="tripped: stall"):  # it needs the shaft free
        run_auto_tune(hand, 2)
    drive.tick(1.0)
    assert not drive.armed
    assert drive.read(next(e for e in drive.description.telemetry if e.name == "tune_state")) == 3
