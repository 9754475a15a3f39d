"""The plan by which a drive is put into service: its steps fit motor and drive, and what is read decides."""

from __future__ import annotations

import pytest

from crisp_compass.bench import load_bench
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CommissioningRecord
from crisp_compass.drive.commissioning import Crept, Line, creep, look, plan, recorded, standing, values_to_write
from crisp_compass.drive.hand import Hand, LocalLine
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.writing import write_and_check
from crisp_compass.errors import Refusal
from crisp_compass.record.content import Table, content_of
from drives import DEMO, WHEN


def bench_of(name: str) -> Bench:
    return load_bench(DEMO / name / f"{name}.bench.json")


def line_of(drive: ServedDrive) -> tuple[Line, LocalLine]:
    wire = LocalLine(drive)
    told = drive.description
    return Line(told, wire.read(told.parameters), wire.read((*told.telemetry, *told.faults))), wire


def test_what_is_read_decides_whether_a_step_is_right() -> None:
    bench = bench_of("winch")
    drive = ServedDrive(bench)
    line, wire = line_of(drive)
    tasks = {t.key: t for t in plan(bench, line)}
    seen = {k: look(t, bench, line, None) for k, t in tasks.items()}
    assert {k for k, s in seen.items() if s.state == "ok"} == {"keep", "supply", "motor", "limits", "faults", "gains", "save"}
    assert "rounding costs at most" in seen["motor"].text
    by_name = {e.name: e for e in drive.description.parameters}
    for name, value in (("resistance", 0.8), ("current_limit", 20.0)):
        write_and_check(wire, drive.description, by_name[name], value)
    line, _ = line_of(drive)
    assert look(tasks["motor"], bench, line, None).state == "wrong"
    assert look(tasks["limits"], bench, line, None).text == "20.0 A, 3.3 times what the motor is rated for"
    assert look(tasks["keep"], bench, line, None).text.startswith("2 of 17 differ from factory: resistance")
    for action in ("motor", "limits", "gains"):
        for entry, value in values_to_write(bench, drive.description, action):
            assert not write_and_check(wire, drive.description, entry, value).differs
    line, _ = line_of(drive)
    assert all(look(tasks[k], bench, line, None).state == "ok" for k in ("motor", "limits", "gains"))


def test_a_slow_turn_is_read_each_way_and_a_tachometer_beside_it() -> None:
    bench = bench_of("winch")
    drive = ServedDrive(bench)
    wire = LocalLine(drive)
    crept = creep(Hand(wire, drive.description, wire.pass_time, clock=wire.clock), bench)
    assert crept.forwards == pytest.approx(crept.asked, rel=0.02)
    assert crept.backwards == pytest.approx(-crept.asked, rel=0.02)
    drive.tick(3.0)
    assert not drive.armed
    line, _ = line_of(drive)
    tasks = {t.key: t for t in plan(bench, line)}
    assert look(tasks["direction"], bench, line, crept).state == "open"  # which way is forwards only a person can tell
    assert look(tasks["direction"], bench, line, Crept(10.0, -10.0, 10.0)).state == "wrong"

    def read(value: float) -> Bench:
        return recorded(bench, "creep", CommissioningRecord(value=value, when=WHEN))

    assert look(tasks["creep"], bench, line, crept).state == "open"
    assert look(tasks["creep"], read(1.01 * crept.forwards), line, crept).state == "ok"
    geared = look(tasks["creep"], read(crept.forwards / 7.0), line, crept)
    assert geared.state == "wrong"
    assert "7 to 1" in geared.text


@pytest.mark.parametrize("name", ["winch", "thruster", "carousel", "hatch", "pump", "hoist"])
def test_the_plan_fits_the_motor_and_is_in_the_record(name: str) -> None:
    bench = bench_of(name)
    tasks = plan(bench, None)
    text = " ".join(t.do for t in tasks)
    assert ("Brushes" in text) == (name == "hatch")
    assert ("stator resistance" in text) == (name == "hoist")
    bench = recorded(bench, "keep", CommissioningRecord(done=True, read="all at factory", when=WHEN))
    bench = recorded(bench, "supply", CommissioningRecord(skipped="bench supply, measured before", when=WHEN))
    done, skipped, following = standing(bench, tasks)
    assert (done, skipped) == (1, 1)
    assert following is not None
    assert following.key == "leads_off"
    section = next(s for s in content_of(bench.model_copy(update={"evidence": {}}), DEMO / name, WHEN) if s.title == "Putting the drive into service")
    table = section.blocks[0]
    assert isinstance(table, Table)
    rows = {r[0]: r[1:3] for r in table.rows}
    assert rows["Region and supply"] == ("skipped", "bench supply, measured before")
    with pytest.raises(Refusal, match="nothing of this is settled"):
        values_to_write(Bench(), ServedDrive(bench_of("winch")).description, "gains")
