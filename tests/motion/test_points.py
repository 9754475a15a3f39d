"""Tables of points as text: what spreadsheets paste, what is refused by row and column, and in which order rows run."""

from __future__ import annotations

import math
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench.entered import enter, standing
from crisp_compass.bench.store import load_bench
from crisp_compass.course.drive import build_drive
from crisp_compass.course.heat import bodies_of, friction_loss
from crisp_compass.course.open_loop import stepping_current
from crisp_compass.course.points import reader, rows_of, with_rows
from crisp_compass.course.speed_design import torque_constant
from crisp_compass.errors import Refusal
from crisp_compass.motion.points import MOST, Row, order_of, places, reached, read_table, write_table
from crisp_compass.studies.cycle import cycle_of, run_table
from crisp_compass.thermal.model import Stretch, settled_cycle

DEMO = Path(__file__).parents[2] / "demo"
BENCH = load_bench(DEMO / "carousel" / "carousel.bench.json")
READ = reader(BENCH)
TURN = 2 * math.pi


def test_a_table_comes_back_as_it_was_and_as_others_write_it() -> None:
    rows = [Row(1.5 * TURN, "to", 20.0, 300.0, 0.25, None, 0.5, (3, 2)), Row(-0.25 * TURN, "by"), Row(0.0, dwell=2.0, follows=1)]
    again = read_table(write_table(rows), READ)
    assert [(r.way, r.dwell, r.follows, r.torque, r.branch) for r in again] == [(r.way, r.dwell, r.follows, r.torque, r.branch) for r in rows]
    np.testing.assert_allclose([r.target for r in again], [r.target for r in rows], rtol=1e-11)
    assert again[0].speed == pytest.approx(20.0)
    others = read_table("target [mm]\tspeed [rpm]\tdwell\n3\t120\t200 ms\n-1,5\t\t\n", READ)  # the carousel's screw makes 6 mm a turn
    assert [r.target / TURN for r in others] == pytest.approx([0.5, -0.25])
    assert others[0].speed == pytest.approx(120 * math.pi / 30)
    assert others[0].dwell == 0.2
    plain = read_table("90°\n1 turn,by\n# a remark\n12 mm\n", READ)
    assert [r.target / TURN for r in plain] == pytest.approx([0.25, 1.0, 2.0])
    assert plain[1].way == "by"


@pytest.mark.parametrize(("text", "said"), [
    ("", "is empty"), ("target,speed\n", "no row"), ("target,colour\n1,red", "colour"), ("1,to,fast", "row 1, speed"), ("1\n2,sideways", "row 2, kind"), ("1,to,0", "row 1, speed: 0"),
    (",to", "row 1 has no target"), ("1,to,,,-1", "row 1, dwell"), ("1,to,,,,x", "row 1, next"), ("1,to,,-5", "row 1, acceleration"), ("\n".join(["1"] * (MOST + 1)), "501 rows"), ("\n".join(["1"] * 50_000), "50000 rows"),
    ("1,to,,,,,,9:1", "row 1, branch"), ("1,to,,,,,0", "row 1, torque limit"), ("target [parsec]\n1", "row 1, target"),
])  # fmt: skip
def test_what_is_refused_names_row_and_column(text: str, said: str) -> None:
    with pytest.raises(Refusal) as caught:
        read_table(text, READ)
    assert said in caught.value.sentence


def test_the_order_of_rows_and_where_they_lead() -> None:
    rows = [Row(1.0), Row(2.0, "by", follows=4), Row(9.0), Row(5.0, follows=2)]
    order = order_of(rows)
    assert order.rows == (0, 1, 3)
    assert order.ring
    assert places(rows, order) == [(0.0, 1.0), (1.0, 3.0), (3.0, 5.0)]
    assert not order_of([Row(1.0), Row(2.0)]).ring
    assert not order_of([Row(1.0, follows=0), Row(2.0)]).ring
    with pytest.raises(Refusal, match="goes on to row 7, and there are 1"):
        order_of([Row(1.0, follows=7)])


def test_a_row_that_the_motor_cannot_make_is_named_until_it_is_mended() -> None:
    found = cycle_of(BENCH)
    failing = [s.index + 1 for s in found.steps if s.reason]
    assert failing == [17]
    rows = rows_of(BENCH)
    mended = cycle_of(with_rows(BENCH, [*rows[:16], Row(rows[16].target, dwell=0.25), *rows[17:]]))
    assert not [s for s in mended.steps if s.reason]
    # cycle time by hand: 22 moves of 0.65 turns and 24 dwells; rms torque from the moves' own rectangles
    move = mended.steps[1].move
    assert mended.seconds == pytest.approx(22 * move.duration + 24 * 0.25, rel=1e-9)
    load = BENCH.settled["mechanics"].values
    j, c, b = load["inertia"].value, load["coulomb_friction"].value, load["viscous_friction"].value
    a, v = move.accel, move.trapezoid.peak_speed
    t1, t2 = move.trapezoid.phases[0], move.trapezoid.phases[1]
    square = t1 * ((j * a + c) ** 2 + (c - j * a) ** 2 + 2 * c * b * v + 2 * (b * v) ** 2 / 3) + t2 * (c + b * v) ** 2
    assert mended.rms == pytest.approx(math.sqrt(22 * square / mended.seconds), rel=0.02)
    outside = cycle_of(with_rows(BENCH, [Row(9 * TURN)]))
    assert "above the limit of 8" in outside.steps[0].reason
    with pytest.raises(Refusal, match="table is empty"):
        cycle_of(with_rows(BENCH, []))
    nothing = cycle_of(with_rows(BENCH, [Row(0.0, follows=1)]))
    assert "ring-of-nothing" in [f.code for f in nothing.findings]
    unreached = cycle_of(with_rows(BENCH, [Row(1.0, follows=3), Row(2.0), Row(0.0)]))
    assert "rows-unreached" in [f.code for f in unreached.findings]
    with pytest.raises(Refusal, match="row 1 takes"):
        cycle_of(with_rows(BENCH, [Row(7 * TURN, speed=0.005)]))


@pytest.mark.parametrize("stepped", [False, True])
def test_a_cycle_warms_the_winding_as_its_own_course_does_when_it_is_run_again_and_again(stepped: bool) -> None:
    """The mean square of the current against every piece of the cycle through the two bodies, settled; too hot is said."""
    heat = {"to_housing": 1.2, "to_air": 6.0, "winding_time": 90.0, "housing_time": 1500.0, "ambient": 25.0, "limit": 130.0}
    bench = enter(with_rows(BENCH, [Row(4 * TURN, "to", 30.0, 400.0, 0.4, None), Row(0.0, "to", 30.0, 400.0, 0.8, None)]), "heat", heat)
    if stepped:
        bench = enter(bench, "sensor", {"kind": "none"})
    bench = enter(bench, "run", {"load": 0.5})
    found = cycle_of(bench)
    known = bodies_of(bench)
    assert known is not None
    drive = build_drive(standing(bench))
    if stepped:
        current = np.where(found.speed == 0.0, drive.control.idle_share, 1.0) * stepping_current(standing(bench))
    else:
        current = np.abs(found.torque) / torque_constant(standing(bench))
    lengths = np.diff(found.time)
    square, lost = 0.5 * (current[1:] ** 2 + current[:-1] ** 2), [friction_loss(bench, float(0.5 * (a + b))) for a, b in pairwise(found.speed)]
    pieces = [Stretch(float(s), float(np.sqrt(q)), float(w), 1.0) for q, s, w in zip(square, lengths, lost, strict=True) if s > 0]
    settled = settled_cycle(known.bodies, pieces, 25.0)
    assert settled is not None
    assert found.winding == pytest.approx(settled[0], abs=2.0)
    assert found.winding > 30.0
    hot = cycle_of(enter(bench, "heat", {"limit": 0.8 * found.winding}))
    assert "cycle-too-hot" in [f.code for f in hot.findings]
    assert math.isnan(cycle_of(enter(BENCH, "heat", {"to_housing": None, "to_air": None, "insulation": "unknown"})).winding)


def test_rows_that_only_an_input_reaches_and_rows_with_a_limit_of_torque() -> None:
    rows = [Row(1.0, dwell=0.1, branch=(2, 4)), Row(3.0, follows=0), Row(9.0), Row(2.0, follows=1)]
    assert reached(rows) == {0, 1, 3}
    bench = with_rows(BENCH, rows)
    said = {f.code: f.text for f in cycle_of(bench).findings}
    assert "Row 3 is never reached" in said["rows-unreached"]
    assert "Row 1 branch" in said["branches"]
    with pytest.raises(Refusal, match="branches to row 7"):
        order_of([Row(1.0, branch=(1, 7))])
    # a limit below what the acceleration takes: said before, and the shaft falls behind its profile by more
    free = with_rows(BENCH, [Row(20.0, speed=60.0, accel=2000.0, dwell=0.3, follows=0)])
    needed = cycle_of(free).steps[0].needed
    short = with_rows(BENCH, [Row(20.0, speed=60.0, accel=2000.0, dwell=0.3, follows=0, torque=0.6 * needed)])
    assert not cycle_of(free).steps[0].reason
    assert "there are" in cycle_of(short).steps[0].reason
    behind = [float(np.max(np.abs(r.wanted - r.angle))) for r in (run_table(b, cycle_of(b)) for b in (free, short))]
    assert behind[1] > 2 * behind[0]
    stepped = enter(short, "sensor", {"kind": "none"})
    assert "no-torque-limit" in [f.code for f in cycle_of(stepped).findings]
