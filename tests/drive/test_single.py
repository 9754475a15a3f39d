"""One capture at a time through the simulated drive: what is offered for which motor, what it finds, and that nothing is overwritten."""

from __future__ import annotations

import itertools
import math
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.capture import read_capture
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.drive.description import Entry
from crisp_compass.drive.hand import Hand, LocalLine
from crisp_compass.drive.link import DeniedError
from crisp_compass.drive.rehearsal import guessed
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.single import offers, rehearse_one, take_one
from crisp_compass.errors import Refusal
from crisp_compass.identify.mechanics import fit_mechanics

DEMO = Path(__file__).parents[2] / "demo"
NOW = "2026-12-01T00:00:00"


def _bench(name: str) -> Bench:
    return guessed(load_bench(DEMO / name / f"{name}.bench.json"))[0]


def _hand(bench: Bench, seed: int = 1) -> Hand:
    drive = ServedDrive(bench, seed=seed)
    line = LocalLine(drive)
    return Hand(line, drive.description, line.pass_time, clock=line.clock)


def _all(bench: Bench) -> list[str]:
    told = ServedDrive(bench).description
    return [o.key for w in BY_KEY.values() for s in w.sections for o in offers(bench, told, w.key, s.name)]


@pytest.mark.thorough(but=["hatch-wanted3"])
@pytest.mark.parametrize(("name", "wanted"), [
    ("winch", ["levels", "steps", "steps_across", "coast", "run_up", "chirp", "alignment", "pole_search", "current_step", "speed_steps"]),
    ("thruster", ["levels", "steps", "steps_across", "coast", "run_up", "halls", "pole_search", "current_step", "speed_steps"]),
    ("carousel", ["levels", "steps", "coast", "run_up", "chirp", "alignment", "current_step", "speed_steps"]), ("hatch", ["levels", "steps", "current_step"]),
    ("pump", ["levels", "steps", "steps_across", "coast", "pole_search", "current_step", "start"]),
    ("hoist", ["levels", "locked", "no_load", "decay", "current_step", "run_up", "speed_steps"]),
])  # fmt: skip
def test_what_is_offered_fits_motor_and_sensor_and_goes_through(name: str, wanted: list[str], tmp_path: Path) -> None:
    bench = _bench(name)
    assert sorted(_all(bench)) == sorted(wanted)
    truth = {"resistance": "resistance.resistance", "flux_linkage": "flux.flux_linkage", "inertia": "mechanics.inertia"}
    for key in wanted:
        found = take_one(bench, _hand(bench), tmp_path, key, now=lambda: NOW, prefix=name).evidence
        assert (tmp_path / found.file).is_file()
        for estimate, settled in truth.items():
            if estimate in found.estimates and key in ("levels", "coast", "run_up", "chirp"):
                q = found.estimates[estimate]
                assert q.interval95 is not None
                true = need(bench, settled)
                assert q.interval95[0] - 0.02 * true < true < q.interval95[1] + 0.02 * true, (key, estimate)


@pytest.mark.thorough
def test_pulses_find_axis_and_pole_where_the_iron_tells_it(tmp_path: Path) -> None:
    bench = _bench("winch")
    rng = np.random.default_rng(3)
    for seed in range(4):
        drive = ServedDrive(bench, seed=seed)
        machine = drive._sim.drive.machine._replace(bend=0.05 / 4.0)
        drive._own = drive._own._replace(machine=machine)
        drive._sim.retune(drive._own)
        at = float(rng.uniform(0, 2 * math.pi))
        from crisp_compass.plant import state

        drive._sim.state[state.THETA] = at / machine.pole_pairs
        line = LocalLine(drive)
        found = take_one(bench, Hand(line, drive.description, line.pass_time, clock=line.clock), tmp_path, "pole_search", now=lambda: NOW, prefix=f"p{seed}").evidence
        axis = found.estimates["pole_axis"].value
        assert abs(math.remainder(axis - at, math.pi)) < math.radians(3.0)
        if "pole_angle" in found.estimates:  # where it is certain, it is right
            assert abs(math.remainder(found.estimates["pole_angle"].value - at, 2 * math.pi)) < math.radians(3.0)
        assert abs(drive.speed) < 1.0


@pytest.mark.thorough
def test_a_capture_never_lands_on_another_and_a_rehearsal_leaves_nothing(tmp_path: Path) -> None:
    bench = _bench("winch")
    first, second = (take_one(bench, _hand(bench), tmp_path, "levels", now=lambda: NOW, prefix="w").evidence.file for _ in range(2))
    assert (first, second) == ("w-levels.csv", "w-levels-2.csv")
    told = rehearse_one(bench, "chirp")
    assert 0 < told.current < bench.settings.run.i_trip
    assert 50 < told.speed < 210
    assert sorted(p.name for p in tmp_path.iterdir()) == ["w-levels-2.csv", "w-levels.csv"]


@pytest.mark.thorough
def test_a_swing_over_a_run_up_reaches_the_windings(tmp_path: Path) -> None:
    bench = _bench("winch")
    take_one(bench, _hand(bench), tmp_path, "chirp", now=lambda: NOW, prefix="w")
    taken = read_capture(tmp_path / "w-chirp.csv")
    current, t = taken["i_q"], taken.time
    driven = current[: int(np.flatnonzero(current > 0.1)[-1])]
    beat = []
    for piece in np.array_split(driven, 4):
        size = np.abs(np.fft.rfft((piece - piece.mean()) * np.hanning(len(piece))))
        beat.append(float(np.fft.rfftfreq(len(piece), t[1] - t[0])[int(np.argmax(size))]))
    assert all(b > 1.8 * a for a, b in itertools.pairwise(beat)), beat  # faster and faster, by equal ratios


def test_a_swing_without_a_coast_is_refused_in_a_sentence(tmp_path: Path) -> None:
    t = np.arange(0, 3, 1e-3)
    current = 0.3 * np.sin(2 * np.pi * (1.0 * t + 4.0 * t**2))
    speed = 120 * np.exp(-t) + np.cumsum(current) * 1e-3 * 300
    path = tmp_path / "swing.csv"
    path.write_text("t [s],i_q [A],speed [rad/s]\n" + "".join(f"{a:.4f},{b:.5f},{c:.4f}\n" for a, b, c in zip(t, current, speed, strict=True)))
    with pytest.raises(Refusal, match="coast|acceleration"):
        fit_mechanics(read_capture(path), kt=0.1)


def test_a_ramp_that_cannot_be_put_back_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = _bench("winch")
    hand = _hand(bench)
    line = hand.line
    ramp = next(e for e in hand.description.parameters if e.bench == "speed_loop.ramp")
    before, write, told = line.read([ramp])["ramp"], line.write, list[str]()
    take_one(bench, hand, tmp_path, "speed_steps", now=lambda: NOW, prefix="w", warn=told.append)
    assert told == []
    assert line.read([ramp])["ramp"] == before  # it ran without a ramp, and has it again
    written: list[float] = []

    def once(entry: Entry, raw: float) -> None:
        if entry.name == "ramp":
            written.append(raw)
            if len(written) > 1:
                raise DeniedError(6)
        write(entry, raw)

    monkeypatch.setattr(line, "write", once)
    take_one(bench, hand, tmp_path, "speed_steps", now=lambda: NOW, prefix="w", warn=told.append)
    assert len(told) == 1
    assert "could not be put back" in told[0]
