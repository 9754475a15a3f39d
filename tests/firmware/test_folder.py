"""The folder of firmware as somebody gets it who has only the command: it compiles everywhere, runs a motor, and is the simulated drive."""

from __future__ import annotations

import re
import shutil
import subprocess
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.bench.rules import settle
from crisp_compass.bench.store import save_bench
from crisp_compass.cli.main import run
from crisp_compass.course.captures import evaluate
from crisp_compass.course.homing import plan_of as plan_of_homing
from crisp_compass.course.points import with_rows
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal
from crisp_compass.firmware.configuration import configuration
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.save import make_firmware, write_files
from crisp_compass.firmware.vectors import all_vectors
from crisp_compass.motion.homing import follow, method_of
from crisp_compass.motion.points import Row
from crisp_compass.motion.seeking import DONE
from crisp_compass.studies.cycle import cycle_of, run_table
from crisp_compass.studies.home_run import home_run
from firmware.sources import FLAGS, NO_VECTORS

DEMO = Path(__file__).parents[2] / "demo"
needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")


def demo(name: str) -> Bench:
    return load_bench(DEMO / name / f"{name}.bench.json")


def again(bench: Bench, *topics: str) -> Bench:
    for key in topics:
        propose = BY_KEY[key].propose
        assert propose is not None
        found = propose(bench)
        bench = settle(bench, key, found.values, reason="test", when="2026-05-12", rests_on=found.rests_on)  # type: ignore[arg-type]
    return bench


def with_halls() -> Bench:
    """The thruster, read from its captures and settled."""
    folder, bench = DEMO / "thruster", demo("thruster")
    found = {}
    for name, topic in (
        ("staircase", "resistance"),
        ("step", "inductance"),
        ("coast", "flux"),
        ("hand-turn", "commutation"),
    ):
        found[topic] = evaluate(
            bench, topic, folder / f"thruster-{name}.csv", base=folder, when="2026-05-12"
        ).evidence
    step = found["inductance"].estimates["inductance"]
    values = {
        "resistance": {"resistance": found["resistance"].estimates["resistance"]},
        "inductance": {"ld": step, "lq": step},
        "flux": {"flux_linkage": found["flux"].estimates["flux_linkage"]},
        "commutation": {},
    }
    bench = again(bench, "pwm")
    for topic, settled in values.items():
        bench = settle(bench, topic, settled, reason="test", when="2026-05-12", halls=found[topic].halls)  # type: ignore[arg-type]
    return again(bench, "current_loop", "speed_loop")


def by_injection() -> Bench:
    """The pump as it would be with magnets inside its rotor, started by injection."""
    bench = demo("pump")
    told = bench.settled["inductance"]
    lq = told.values["lq"].model_copy(update={"value": 1.8 * told.values["ld"].value})
    changed = told.model_copy(update={"values": {**told.values, "lq": lq}})
    bench = bench.model_copy(update={"settled": {**bench.settled, "inductance": changed}})
    return again(enter(bench, "start_up", {"standstill": "injection"}), "start_up")


BRAKING = {"capacitance": 2e-4, "sinks": "no", "brake_ohm": 40.0, "brake_on": 60.0, "fold_start": 58.0, "fold_end": 70.0}


def around_the_loop() -> Bench:
    """The winch with everything that stands ahead of its speed loop and behind it."""
    wishes = {"set_point": "filtered", "set_weight": 0.4, "rounding": 0.02, "feed_forward": "both", "low_pass_hz": 500.0, "notch_hz": 160.0, "notch_width": 0.8}
    return again(enter(demo("winch"), "speed_loop", wishes), "speed_loop")


def to_a_place(bench: Bench, **wishes: object) -> Bench:
    """A bench whose position loop is settled."""
    return again(enter(bench, "motion", wishes), "motion")


def watched(**wishes: object) -> Bench:
    """The carousel with an encoder that watches its field."""
    return to_a_place(enter(demo("carousel"), "stepping", {"encoder": "watches", **wishes}), rounding=0.01, speed=20.0, accel=150.0, window=1e-3)


POWER = {"power_from": 60.0, "power_into": 15.0, "low_start": 44.0, "low_end": 34.0}


#: Every kind of firmware, and what changes its text.
CASES: dict[str, Callable[[], Bench]] = {
    "encoder": lambda: demo("winch"),
    "stepper": lambda: demo("carousel"),
    "armature": lambda: demo("hatch"),
    "rotor field": lambda: demo("hoist"),
    "estimator": lambda: demo("pump"),
    "six-step": lambda: again(enter(demo("winch"), "current_loop", {"commutation": "block", "advance": 0.2}), "current_loop", "speed_loop"),
    "volts per hertz": lambda: enter(demo("hoist"), "circuit", {"firmware": "volts-per-hertz"}),
    "flux, low speed": lambda: again(enter(demo("pump"), "start_up", {"method": "flux", "low_current": 1.5, "catch": 0.05}), "start_up"),
    "clamped": lambda: again(enter(demo("winch"), "pwm", {"scheme": "clamped-60", "min_pulse": 1e-6}), "pwm"),
    "third harmonic, one shunt, set-point filtered": lambda: again(enter(enter(demo("winch"), "pwm", {"scheme": "third-harmonic", "shunts": "one"}), "speed_loop", {"set_point": "filtered"}), "pwm", "speed_loop"),
    "speed loop with all around it": around_the_loop,
    "halls, notch": lambda: again(enter(with_halls(), "speed_loop", {"notch_hz": 180.0, "feed_forward": "inertia"}), "speed_loop"),
    "estimator, rounded": lambda: again(enter(demo("pump"), "speed_loop", {"rounding": 0.05, "low_pass_hz": 400.0, "feed_forward": "friction", "set_point": "filtered", "set_weight": 0.3}), "speed_loop", "start_up"),
    "two sets of gains": lambda: again(enter(demo("winch"), "speed_loop", {"slow_below": 60.0, "slow_share": 0.3}), "speed_loop"),
    "rotor field, no sensor": lambda: enter(demo("hoist"), "sensor", {"kind": "none"}),
    "rotor field, no sensor, field let go": lambda: enter(enter(enter(demo("hoist"), "sensor", {"kind": "none"}), "circuit", {"field_off": 0.2, "hand_over": 30.0}), "run", {"i_continuous": 4.0, "overload_time": 0.4}),
    "rotor field, field let go": lambda: enter(demo("hoist"), "circuit", {"field_off": 0.2}),
    "rotor field, rounded": lambda: again(enter(demo("hoist"), "speed_loop", {"rounding": 0.1, "notch_hz": 60.0, "feed_forward": "both"}), "speed_loop"),
    "brake resistor, fold-back": lambda: enter(enter(demo("winch"), "bus", BRAKING), "run", {"v_max": 75.0}),
    "brake resistor, no link": lambda: enter(demo("winch"), "bus", {"brake_ohm": 40.0, "brake_on": 60.0}),
    "estimator, fold-back": lambda: enter(demo("pump"), "bus", {"capacitance": 1e-4, "fold_start": 26.0, "fold_end": 30.0}),
    "rotor field, brake resistor": lambda: enter(demo("hoist"), "bus", {"capacitance": 2e-5, "brake_ohm": 400.0, "brake_on": 375.0, "fold_start": 360.0, "fold_end": 372.0}),
    "place": lambda: to_a_place(demo("winch"), follow_limit=0.6, rounding=0.01, window=0.01),
    "place, all around it": lambda: to_a_place(around_the_loop(), ahead=0.8, kv=40.0),
    "place, weakening": lambda: to_a_place(enter(demo("winch"), "run", {"weakening": 4.0, "stall_time": None})),
    "place, rotor field": lambda: to_a_place(enter(demo("hoist"), "circuit", {"field_off": 0.2}), accel=200.0, speed=60.0),
    "place, stepper": lambda: to_a_place(demo("carousel"), rounding=0.02),
    "place, armature": lambda: to_a_place(again(enter(demo("hatch"), "sensor", {"kind": "incremental", "counts_per_rev": 2000}), "current_loop", "speed_loop"), follow_limit=1.0, rounding=0.01),
    "place, stepping": lambda: to_a_place(enter(demo("carousel"), "sensor", {"kind": "none"}), rounding=0.01, speed=20.0, accel=150.0),
    "place, stepping, watched": lambda: watched(on_lost="hold", counts="against"),
    "place, stepping, watched, no window": lambda: to_a_place(enter(enter(demo("carousel"), "stepping", {"encoder": "watches", "corrections": 1, "slower": 0.3, "settle": 0.05}), "sensor", {"counts_per_rev": 1000}), speed=20.0),
    "power": lambda: enter(enter(demo("winch"), "bus", POWER), "run", {"drag_cancel": 0.3}),
    "six-step, power from": lambda: enter(CASES["six-step"](), "bus", {"power_from": 40.0}),
    "estimator, low bus": lambda: enter(enter(demo("pump"), "bus", {"low_start": 23.0, "low_end": 14.0, "power_into": 2.0}), "run", {"v_min": 12.0}),
    "limits set": lambda: enter(demo("winch"), "run", {"v_max": 58.0, "speed_trip": 150.0}),
    "weakening": lambda: enter(demo("winch"), "run", {"weakening": 4.0, "speed": 250.0, "on_fault": "brake", "i_continuous": 3.0, "overload_time": 0.7, "temp_trip": 90.0}),
    "six-step, brakes": lambda: enter(CASES["six-step"](), "run", {"on_fault": "brake", "i_continuous": 4.0, "overload_time": 0.3, "drag_cancel": 0.2}),
    "armature, brakes": lambda: enter(demo("hatch"), "run", {"on_fault": "brake", "temp_trip": 80.0, "drag_cancel": 0.02, "drag_way": "forwards"}),
    "estimator, tries again": lambda: enter(again(enter(enter(demo("pump"), "start_up", {"retries": 2, "wait": 0.1}), "speed_loop", {"set_point": "filtered"}), "start_up", "speed_loop"), "run", {"on_fault": "brake", "weakening": 0.5}),
    "stepping": lambda: enter(demo("carousel"), "sensor", {"kind": "none"}),
    "halls": with_halls,
    "injection": by_injection,
    "tachometer": lambda: again(enter(demo("hatch"), "sensor", {"kind": "tachometer"}), "speed_loop"),
}  # fmt: skip


def _run(*command: str | Path, folder: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run([str(c) for c in command], cwd=folder, check=False, capture_output=True, text=True)


@pytest.mark.thorough(but=["encoder", "estimator", "six-step", "rotor field", "armature", "stepping"])
@needs_gcc
@pytest.mark.parametrize("case", CASES)
def test_it_compiles_runs_a_motor_and_replays_the_drive(case: str, tmp_path: Path) -> None:
    made = make_firmware(CASES[case](), "2026-05-12 12:00")
    plain = case not in ("two sets of gains", "speed loop with all around it", "brake resistor, fold-back", "brake resistor, no link", "place", "place, all around it", "power")  # which the whole-number drive has not
    assert not made.left_out if plain else "whole-number drive has no" in made.left_out[0]
    write_files(tmp_path, made.files)
    sources = sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob("src/*.c"))
    own = [*sources, "hardware/cc_hardware.c", "examples/main_timer.c"]
    assert all((tmp_path / source).read_text(encoding="ascii") for source in own)
    # every warning an error; what runs ends at undefined behaviour and overflow
    checked = ["-fsanitize=undefined,float-cast-overflow", "-fno-sanitize-recover=all", "-O1", "-std=c99"]
    ends = ["pc/main.c", "pc/cc_plant.c", "vectors/run_vectors.c"]
    built = _run("gcc", *FLAGS, *checked, "-Iinclude", "-c", *own, "pc/cc_plant.c", folder=tmp_path)
    assert built.returncode == 0, built.stderr
    assert _run("gcc", *checked, "-Iinclude", "-c", ends[0], ends[2], folder=tmp_path).returncode == 0
    parts = [f"{Path(source).stem}.o" for source in sources]
    for name, objects in (("vectors", ["run_vectors.o"]), ("pc", ["main.o", "cc_plant.o"])):
        linked = _run("gcc", *checked, *objects, *parts, "-lm", "-o", f"{name}.out", folder=tmp_path)
        assert linked.returncode == 0, linked.stderr
    for compiler in ("g++", "clang++") if case in ("encoder", "rotor field", "flux, low speed") else ():
        if shutil.which(compiler):
            plus = _run(
                compiler, "-std=c++17", *FLAGS, "-x", "c++", "-Iinclude", "-fsyntax-only", *own, folder=tmp_path
            )
            assert plus.returncode == 0, plus.stderr
    replayed = _run("./vectors.out", *sorted(tmp_path.glob("vectors/*.csv")), folder=tmp_path)
    assert replayed.returncode == 0, replayed.stdout
    if case == "halls":
        faults = np.genfromtxt(tmp_path / "vectors" / "faults.csv", delimiter=",", skip_header=1)
        assert set(faults[:, 16]) == {0, 1, 2, 9, 10}
    ran = _run("./pc.out", folder=tmp_path)
    assert ran.returncode == 0, ran.stdout
    assert ran.stdout.count("as expected") == 5


@pytest.mark.skipif(shutil.which("cppcheck") is None, reason="cppcheck is not installed")
@pytest.mark.parametrize(
    ("case", "parts"), [("encoder", "*"), ("flux, low speed", "cc_[es]*"), ("rotor field", "cc_[dr]*")]
)
def test_no_rule_is_left_that_the_list_does_not_name(case: str, parts: str, tmp_path: Path) -> None:
    write_files(tmp_path, files_of(plan_of(CASES[case]()), NO_VECTORS, "t"))
    sources = sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob(f"src/{parts}.c"))
    told = _run(
        "cppcheck",
        "--addon=misra",
        "--enable=style,warning",
        "--std=c99",
        "--quiet",
        "-Iinclude",
        *sources,
        folder=tmp_path,
    ).stderr
    found = set(re.findall(r"misra-c2012-([0-9.]+)", told))
    listed = set(re.findall(r"\b\d+\.\d+\b", (tmp_path / "DEVIATIONS.md").read_text()))
    assert len(found) > 4
    assert found <= listed
    assert "(error)" not in told


@pytest.mark.thorough
@needs_gcc
def test_a_wrong_constant_fails_the_vectors(tmp_path: Path) -> None:
    """The vectors would notice a port that took one value for another."""
    write_files(tmp_path, make_firmware(CASES["weakening"](), "t").files)
    config = tmp_path / "include" / "cc_config.h"
    right = config.read_text()
    sources = sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob("src/*.c"))
    missed = []
    for name in ("KP_Q_V_PER_A", "KI_TS_D_V_PER_A", "TRACK_Q", "LQ_H", "PSI_WB", "KP_SPEED_A_PER_RAD_S", "KI_TS_SPEED_A_PER_RAD_S", "RAMP_STEP_RAD_S",
                 "SPEED_FILTER_SHARE", "I_LIMIT_A", "V_MIN_V", "VOLTS_PER_BUS", "DELAY_S", "ZERO_OFFSET_RAD", "I_WEAK_A", "WEAK_SHARE_OF_V", "WEAK_STEP", "I2T_A2S", "I_CONTINUOUS_A", "TEMP_TRIP_DEGC"):  # fmt: skip
        found = re.search(rf"CC_{name} \(([-0-9.e]+)f\)", right)
        assert found, name
        factor = 2.5 if name == "V_MIN_V" else 1.25
        config.write_text(right.replace(found[0], f"CC_{name} ({float(found[1]) * factor:.8e}f)"))
        built = _run(
            "gcc",
            "-O1",
            "-std=c99",
            "-Iinclude",
            "vectors/run_vectors.c",
            *sources,
            "-lm",
            "-o",
            "v",
            folder=tmp_path,
        )
        assert built.returncode == 0, built.stderr
        if _run("./v", *sorted(tmp_path.glob("vectors/*.csv")), folder=tmp_path).returncode == 0:
            missed.append(name)
    assert not missed


@pytest.mark.thorough
@needs_gcc
def test_a_wrong_level_of_the_brake_fails_the_vectors(tmp_path: Path) -> None:
    write_files(tmp_path, make_firmware(CASES["brake resistor, fold-back"](), "t").files)
    config = tmp_path / "include" / "cc_config.h"
    right, sources = config.read_text(), sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob("src/*.c"))
    for name in ("BRAKE_ON_V", "BRAKE_OFF_V", "FOLD_END_V", "FOLD_PER_V"):
        found = re.search(rf"CC_{name} \(([-0-9.e]+)f\)", right)
        assert found, name
        config.write_text(right.replace(found[0], f"CC_{name} ({float(found[1]) * 0.97:.8e}f)"))
        assert _run("gcc", "-O1", "-std=c99", "-Iinclude", "vectors/run_vectors.c", *sources, "-lm", "-o", "v", folder=tmp_path).returncode == 0
        assert _run("./v", *sorted(tmp_path.glob("vectors/*.csv")), folder=tmp_path).returncode != 0, name


@pytest.mark.thorough
@needs_gcc
def test_a_wrong_constant_around_the_speed_loop_fails_the_vectors(tmp_path: Path) -> None:
    write_files(tmp_path, make_firmware(around_the_loop(), "t").files)
    config = tmp_path / "include" / "cc_config.h"
    right, sources = config.read_text(), sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob("src/*.c"))
    missed = []
    for name in ("SET_POINT_KEEPS", "SET_POINT_LAGS", "JERK_STEP_RAD_S2", "AHEAD_INERTIA_A_PER_RAD_S", "AHEAD_VISCOUS_A_PER_RAD_S", "AHEAD_COULOMB_A", "TORQUE_SHARE", "NOTCH_B0", "NOTCH_B2", "NOTCH_A1", "NOTCH_A2"):
        found = re.search(rf"CC_{name} \(([-0-9.e]+)f\)", right)
        assert found, name
        factor = 4.0 if name == "AHEAD_VISCOUS_A_PER_RAD_S" else 0.8
        config.write_text(right.replace(found[0], f"CC_{name} ({float(found[1]) * factor:.8e}f)"))
        assert _run("gcc", "-O1", "-std=c99", "-Iinclude", "vectors/run_vectors.c", *sources, "-lm", "-o", "v", folder=tmp_path).returncode == 0
        if _run("./v", *sorted(tmp_path.glob("vectors/*.csv")), folder=tmp_path).returncode == 0:
            missed.append(name)
    assert not missed


@pytest.mark.thorough
@needs_gcc
def test_a_wrong_constant_of_a_move_or_of_power_fails_the_vectors(tmp_path: Path) -> None:
    missed = []
    for case, names in (("place, stepping, watched", ("LOST_ENTRIES", "SETTLE_STEPS", "CORRECTIONS", "SLOWER", "WINDOW_COUNTS", "ENTRIES_PER_REV", "DIRECTION")),
                        ("place", ("KV_STEP", "AHEAD_SHARE", "MOVE_SPEED_COUNTS", "MOVE_GAIN_COUNTS", "RAD_S_OF_COUNTS", "COUNTS_OF_RAD_S", "FOLLOW_COUNTS", "WINDOW_COUNTS")),
                        ("power", ("LOW_END_V", "LOW_PER_V", "POWER_KT_NM_PER_A", "POWER_FROM_W", "POWER_FROM_ROOT", "POWER_INTO_W", "POWER_INTO_ROOT"))):  # fmt: skip
        folder = tmp_path / case
        write_files(folder, make_firmware(CASES[case](), "t").files)
        config = folder / "include" / "cc_config.h"
        right, sources = config.read_text(), sorted(p.relative_to(folder).as_posix() for p in folder.glob("src/*.c"))
        for name in names:
            found = re.search(rf"CC_{name} \(([-0-9.e]+)([fu]?)\)", right)
            assert found, name
            factor = 3.0 if name.endswith("ROOT") else 8.0 if (case, name) == ("place, stepping, watched", "WINDOW_COUNTS") else -1.0 if name == "DIRECTION" else 0.6 if found[2] != "f" else 0.8
            wrong = float(found[1]) * factor
            config.write_text(right.replace(found[0], f"CC_{name} ({f'{wrong:.8e}' if found[2] == 'f' else round(wrong)}{found[2]})"))
            assert _run("gcc", "-O1", "-std=c99", "-Iinclude", "vectors/run_vectors.c", *sources, "-lm", "-o", "v", folder=folder).returncode == 0
            if _run("./v", *sorted(folder.glob("vectors/*.csv")), folder=folder).returncode == 0:
                missed.append(name)
    assert not missed


@pytest.mark.thorough
def test_the_vectors_enter_every_limit() -> None:
    """Current limit, voltage limit, under-voltage and its acknowledging are part of what a port must repeat."""
    plan = plan_of(CASES["weakening"]())
    found = {v.name: np.genfromtxt(v.text.splitlines(), delimiter=",", skip_header=1) for v in all_vectors(plan)}
    limits, faults = found["limits"], found["faults"]
    c = plan.drive.control
    assert (np.abs(limits[:, 15]) > 0.97 * c.i_limit).sum() > 100
    assert (np.hypot(limits[:, 12], limits[:, 13]) > 0.999 * c.volts_per_bus * limits[:, 7]).sum() > 50
    assert {0, 1, 2, 10, 12} == set(faults[:, 16])
    assert (faults[faults[:, 16] == 2, 18] == 7).any()  # a fault shorts the windings
    assert (faults[faults[:, 16] == 10, 18] == 0).all()  # not where the readings are none
    assert set(found["stall"][:, 16]) == {0, 3}
    assert set(found["overload"][:, 16]) == {0, 11}
    weakening = found["weakening"]
    assert set(weakening[:, 16]) == {0}
    base = c.volts_per_bus * plan.drive.inverter.v_supply / (plan.drive.machine.pole_pairs * plan.drive.machine.psi)
    assert weakening[:, 14].max() > 1.1 * base  # where no drive without it gets
    assert faults[-1, 16] == 0
    assert faults[-1, 0] == 1


@pytest.mark.thorough
@pytest.mark.skipif(
    shutil.which("cmake") is None or shutil.which("gcc") is None, reason="cmake or gcc is not installed"
)
def test_the_command_writes_what_cmake_builds_and_keeps_what_is_filled_in(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    def cli(name: str, folder: Path) -> tuple[int, str]:
        code = run(["export", str(DEMO / name / f"{name}.bench.json"), "--format", "firmware", "-o", str(folder)])
        told = capsys.readouterr()
        return code, told.out + told.err

    out = tmp_path / "fw"
    first = cli("hatch", out)
    assert first[0] == 0, first[1]
    assert _run("cmake", "-S", out, "-B", tmp_path / "build", folder=tmp_path).returncode == 0
    assert _run("cmake", "--build", tmp_path / "build", folder=tmp_path).returncode == 0
    assert "100% tests passed" in _run("ctest", "--test-dir", tmp_path / "build", folder=tmp_path).stdout
    own = out / "hardware" / "cc_hardware.c"
    own.write_text("/* ours */")
    repeated = cli("hatch", out)
    assert repeated[0] == 0
    assert "hardware/cc_hardware.c left as it is" in repeated[1]
    assert own.read_text() == "/* ours */"
    (out / "src" / "cc_speed.c").write_text("changed")
    refused = cli("hatch", out)
    assert refused[0] == 2
    assert "changed since" in refused[1]
    assert (out / "src" / "cc_speed.c").read_text() == "changed"
    lacking = cli("thruster", tmp_path / "other")
    assert lacking[0] == 2
    assert "settle it on the" in lacking[1]
    assert not (tmp_path / "other").exists()


@needs_gcc
def test_dead_time_compensation_gives_back_what_a_leg_loses(tmp_path: Path) -> None:
    """Off as written; on, each leg's duty moves by its share of the bus against the sign of its current, by parts below the knee."""
    write_files(tmp_path, make_firmware(demo("winch"), "t").files)
    config = tmp_path / "include" / "cc_config.h"
    (tmp_path / "main.c").write_text("""#include "cc_drive.h"
#include <stdio.h>
int main(void) {
    const float i[3] = { 2.0f, -2.0f, 0.5f * CC_DEAD_TIME_KNEE_A };
    cc_pulses p; cc_modulate(&p, 3.0f, -1.0f, 48.0f, i);
    printf("%d %d %d %d\\n", (int)p.compare[0], (int)p.compare[1], (int)p.compare[2], (int)CC_PERIOD_COUNTS); return 0;
}
""")
    found = []
    for on in (0, 1):
        text = config.read_text()
        config.write_text(re.sub(r"COMPENSATION [01]", f"COMPENSATION {on}", text))
        assert (
            _run(
                "gcc",
                *FLAGS,
                "-std=c99",
                "-Iinclude",
                "main.c",
                "src/cc_modulation.c",
                "-lm",
                "-o",
                "m",
                folder=tmp_path,
            ).returncode
            == 0
        )
        found.append([int(x) for x in _run("./m", folder=tmp_path).stdout.split()])
    plan = plan_of(demo("winch"))
    share = plan.pwm.dead_time_voltage / plan.bench.settings.plate.v_bus
    moved = (np.array(found[1][:3]) - np.array(found[0][:3])) / found[0][3]
    assert moved - moved.mean() == pytest.approx(np.array([1, -1, 0.5]) * share - 0.5 * share / 3, abs=4e-4)


def test_values_say_where_they_are_from_and_what_is_stale() -> None:
    made = make_firmware(demo("winch"), "2026-05-12 12:00")
    texts = {f.name: f.text for f in made.files}
    for name, text in texts.items():
        if name.endswith((".c", ".h")) and not name.startswith("hardware/"):
            assert text.isascii(), name
            head = text[:900]
            assert 'Bench "Winch"' in head
            assert "SHA-256" in head
            assert "CAUTION: Current loop uses an outdated resistance" in head
    config = texts["include/cc_config.h"]
    assert re.search(r"CC_R_OHM \(.*95 %: .* settled 2026-05-12: staircase", config)
    assert "STALE" in re.search(r"CC_KP_Q_V_PER_A.*", config)[0]  # type: ignore[index]
    assert "STALE" not in re.search(r"CC_LQ_H.*", config)[0]  # type: ignore[index]


def test_a_name_that_is_no_plain_text_reaches_no_comment_raw(tmp_path: Path) -> None:
    bench = demo("winch").model_copy(update={"name": "ポンプ */ int x; // \\ ??/ é"})
    save_bench(bench, tmp_path / "a.bench.json")
    for source in make_firmware(load_bench(tmp_path / "a.bench.json"), "t").files:
        if source.name.endswith((".c", ".h")):
            assert source.text.isascii()
            assert source.text.count("int x;") == source.text.count("(U+30DD)(U+30F3)(U+30D7) * / int x;")


def test_rows_of_a_start_say_what_the_simulated_drive_does() -> None:
    groups = {g.title: {e.name: e for e in g.entries} for g in configuration(plan_of(demo("pump")))}
    rows = groups["Start"]["START_ROW_LIST"].literal
    turns = [float(r.split(",")[3].rstrip("f ")) for r in re.findall(r"\{ ([^{}]+) \}", rows)]
    assert turns == pytest.approx([0, np.pi / 2, 0, 0])  # the second alignment stands a quarter turn on
    assert {"AHEAD_MOST_RAD", "WAIT_PERIODS", "BLEND_PERIODS", "LOST_PERIODS"} <= set(groups["Start"])


def test_what_a_bench_lacks_is_named() -> None:
    with pytest.raises(Refusal, match="not settled"):
        plan_of(demo("thruster"))
    unaligned = demo("winch").model_copy(
        update={"settled": {k: v for k, v in demo("winch").settled.items() if k != "commutation"}}
    )
    with pytest.raises(Refusal, match="zero offset is not settled"):  # a zero that nobody found is none
        plan_of(unaligned)
    hoist = {e.name: e.text for g in configuration(plan_of(demo("hoist"))) for e in g.entries}
    assert "PRESUMED" in hoist["DIRECTION"]
    assert "PRESUMED" not in hoist["I_TRIP_A"]
    fresh = demo("hoist").settings.model_copy(update={"run": type(demo("hoist").settings.run)()})
    unsaid = demo("hoist").model_copy(
        update={"settings": fresh, "entered": {k: v for k, v in demo("hoist").entered.items() if k != "run"}}
    )
    texts = {e.name: e.text for g in configuration(plan_of(unsaid)) for e in g.entries}
    assert all("PRESUMED" in texts[name] for name in ("I_LIMIT_A", "I_TRIP_A", "V_MIN_V"))
    edited = enter(demo("winch"), "pwm", {"carrier_hz": 16e3})
    assert (
        plan_of(edited).pwm.period_counts == plan_of(demo("winch")).pwm.period_counts
    )  # an edit waits until it is settled


TABLE_MAIN = """#include "cc_plant.h"
#include "cc_points.h"
#include <stdio.h>
int main(void)
{
    static cc_drive d;
    static cc_plant plant;
    static cc_pulses pulses;
    static cc_points_state table;
    cc_input in;
    long k, last = -2;
    cc_init(&d);
    cc_plant_init(&plant, 0.0);
    cc_points_start(&table, &d, 0);
    for (k = 0; k < (long)(SECONDS / (double)CC_TS_S) && table.row >= 0; k++) {
        if (table.row != last) printf("%.6f %ld\\n", plant.t, (long)table.row);
        last = table.row;
        cc_plant_read(&plant, &in);
        cc_step(&d, &in, &pulses);
        cc_points_step(&table, &d, table.row == 0 ? 2u : 1u);
        cc_plant_step(&plant, &pulses);
    }
    printf("%.6f %.6f\\n", plant.t, plant.theta);
    return d.fault != CC_NO_FAULT;
}
"""


@needs_gcc
@pytest.mark.parametrize("sensor", ["incremental", "none"])
def test_the_table_of_points_runs_as_its_cycle_says(sensor: str, tmp_path: Path) -> None:
    """Closed around the motor on a PC: each row begins when the cycle has it, and the shaft ends where the table does."""
    bench = enter(demo("carousel"), "sensor", {"kind": sensor})
    rows = [Row(6.0, dwell=0.2, branch=(1, 5)), Row(-2.0, "by", speed=12.0, accel=150.0), Row(20.0, speed=25.0, accel=400.0, dwell=0.1, follows=4, branch=(1, 5)), Row(99.0), Row(1.0, dwell=0.05, follows=0, torque=0.4)]
    bench = to_a_place(with_rows(bench, rows), rounding=0.012)
    taken = to_a_place(with_rows(bench, [*rows[:2], replace(rows[2], follows=5), *rows[3:]]), rounding=0.012)  # input 1 is on when its third row ends
    cycle = cycle_of(taken)
    write_files(tmp_path, files_of(plan_of(bench), NO_VECTORS, "t"))
    (tmp_path / "main.c").write_text(TABLE_MAIN.replace("SECONDS", f"{cycle.seconds + 3.0:.3f}"))
    sources = sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob("src/*.c"))
    built = _run("gcc", "-O1", "-std=c99", "-Iinclude", "-Ipc", "main.c", "pc/cc_plant.c", *sources, "-lm", "-o", "table", folder=tmp_path)
    assert built.returncode == 0, built.stderr
    told = _run("./table", folder=tmp_path)
    assert told.returncode == 0, told.stdout
    lines = [line.split() for line in told.stdout.splitlines()]
    assert [int(row) for _, row in lines[:-1]] == [s.index for s in cycle.steps] == [0, 1, 2, 4]
    for (begin, _), step in zip(lines, cycle.steps, strict=False):
        assert float(begin) == pytest.approx(step.begin, abs=0.02)
    assert float(lines[-1][0]) == pytest.approx(cycle.seconds, abs=0.02)
    assert float(lines[-1][1]) == pytest.approx(1.0, abs=0.03)
    simulated = run_table(taken, cycle)
    assert not simulated.fault
    assert simulated.lost == 0
    assert max(map(abs, simulated.off)) < 0.05


HOME_MAIN = """#include "cc_plant.h"
#include "cc_homing.h"
#include <stdio.h>
int main(void)
{
    static cc_drive d;
    static cc_plant plant;
    static cc_pulses pulses;
    static cc_homing_state h;
    cc_input in;
    long k, scan = (long)(SCAN / (double)CC_TS_S);
    double was;
    int index = 0;
    int32_t latched = 0;
    cc_init(&d);
    cc_plant_init(&plant, 0.0);
    was = plant.theta;
    cc_homing_start(&h, &d, (SIGN * (plant.theta - (EDGE)) > 0.0) != CLOSED);
    for (k = 0; k < 2000000 && h.state < CC_HOME_DONE; k++) {
        cc_plant_read(&plant, &in);
        cc_step(&d, &in, &pulses);
        if (floor((plant.theta - (INDEX)) / 6.283185307179586) != floor((was - (INDEX)) / 6.283185307179586)) {
            index = 1;
            latched = cc_place(&d);
        }
        was = plant.theta;
        if (k % scan == 0) {
            (void)cc_homing_step(&h, &d, (SIGN * (plant.theta - (EDGE)) > 0.0) != CLOSED, index, latched);
            index = 0;
        }
        cc_plant_step(&plant, &pulses);
        if ((STOPS) * (plant.theta - (EDGE)) > 0.0) {
            plant.theta = EDGE;
            plant.omega = 0.0;
        }
    }
    printf("%d %.6f %ld\\n", (int)h.state, plant.theta, (long)cc_place(&d));
    return d.fault != CC_NO_FAULT;
}
"""


HOMINGS: dict[str, tuple[dict[str, object], float]] = {
    "switch left": ({"reference": "home-switch", "ends": "edge"}, 3.0), "switch entered": ({"reference": "home-switch", "ends": "edge", "side": "entering", "active": "negative"}, -2.0),
    "switch and index": ({"reference": "home-switch", "side": "entering"}, -3.0), "limit": ({"reference": "negative-limit", "contact": "open"}, -5.0), "index": ({"reference": "index", "toward": "positive"}, 0.0),
    "stop": ({"reference": "positive-stop", "push": 2.0}, 4.0), "other stop": ({"reference": "negative-stop", "hold": 0.2}, -1.0), "field": ({"reference": "home-switch", "bench": "stepping"}, 2.0),
    "travel beyond the counter": ({"reference": "home-switch", "ends": "edge", "travel": 6.2e6}, 3.0), "watched field": ({"reference": "home-switch", "bench": "watched", "side": "entering"}, 2.0),
}  # fmt: skip


@pytest.mark.thorough(but=["switch and index", "stop", "field"])
@needs_gcc
@pytest.mark.parametrize("case", HOMINGS)
def test_the_place_is_found_in_c_where_the_plan_has_it(case: str, tmp_path: Path) -> None:
    """Closed around the motor on a PC, with a switch at an edge and an index half a turn beyond: zero lies where the plan says, to a look and a few counts."""
    wishes, edge = dict(HOMINGS[case][0]), HOMINGS[case][1]
    of = {"stepping": CASES["place, stepping"], "watched": lambda: watched(counts="against")}.get(str(wishes.pop("bench", "")), lambda: demo("winch"))()
    bench = to_a_place(enter(of, "homing", {"fast": 30.0, "slow": 3.0, "scan": 1e-3, "index_at": 0.5, "begin": 0.0 - edge, **wishes}))
    plan = plan_of_homing(bench)
    stops = int(plan.switch_sign) if plan.stops else 0
    write_files(tmp_path, files_of(plan_of(bench), NO_VECTORS, "t"))
    sign = 0 if plan.reference == "index" or plan.stops else int(plan.switch_sign)
    index = edge + plan.approach * 0.5 * 2 * np.pi
    (tmp_path / "main.c").write_text(HOME_MAIN.replace("SCAN", "1e-3").replace("SIGN", f"({sign})").replace("STOPS", f"{stops}").replace("CLOSED", f"{int(bench.settings.homing.contact == 'closed')}").replace("EDGE", f"{edge:.9f}").replace("INDEX", f"{index:.9f}", 2).replace("<stdio.h>", "<stdio.h>\n#include <math.h>"))
    sources = sorted(p.relative_to(tmp_path).as_posix() for p in tmp_path.glob("src/*.c"))
    built = _run("gcc", *FLAGS, "-O1", "-std=c99", "-Iinclude", "-c", *sources, folder=tmp_path)
    assert built.returncode == 0, built.stderr
    parts = [f"{Path(source).stem}.o" for source in sources]
    built = _run("gcc", "-O1", "-std=c99", "-Iinclude", "-Ipc", "main.c", "pc/cc_plant.c", *parts, "-lm", "-o", "home", folder=tmp_path)
    assert built.returncode == 0, built.stderr
    state, theta, place = _run("./home", folder=tmp_path).stdout.split()
    assert int(state) == 6
    count = plan_of(bench).count
    zero = float(theta) - int(place) * count
    planned = follow(plan).found + edge
    assert zero == pytest.approx(planned, abs=3.0 * 1e-3 + 4 * count)
    ran = home_run(bench, plan)  # and the simulated drive finds it there
    assert ran.state == DONE
    assert ran.found == pytest.approx(follow(plan).found, abs=3.0 * 2e-3 + 4 * count)
    assert f"CC_HOME_METHOD ({method_of(plan)})" in (tmp_path / "include" / "cc_homing.h").read_text()
    config, rows = tmp_path / "include" / "cc_config.h", tmp_path / "vectors" / "homing.csv"
    right = config.read_text()
    looks = np.genfromtxt(rows, delimiter=",", skip_header=1)
    assert set(looks[looks[:, 0] == 0, 10]) >= {6, 7}  # found, and not found
    for name in ("", *(n for n in ("FAST_RAD_S", "SLOW_RAD_S", "TRAVEL_COUNTS", "SIGN", "PUSH_A", "STILL_RAD_S", "HOLD_LOOKS") if f"CC_HOME_{n} (" in right)):
        said = re.search(rf"CC_HOME_{name} \(([-+0-9.e]+)([fu]?)\)", right) if name else None
        wrong = float(said[1]) * (-1 if name == "SIGN" else 0.8 if name == "HOLD_LOOKS" else 2.0 if name == "STILL_RAD_S" else 1.2) if said else 0.0
        config.write_text(right.replace(said[0], f"CC_HOME_{name} ({f'{wrong:.8e}f' if said[2] == 'f' else f'{round(wrong)}{said[2]}'})") if said else right)
        built = _run("gcc", *FLAGS, "-std=c99", "-Iinclude", "vectors/run_vectors.c", "src/cc_homing.c", *(p for p in parts if p != "cc_homing.o"), "-lm", "-o", "vectors.out", folder=tmp_path)
        assert built.returncode == 0, built.stderr
        replayed = _run("./vectors.out", "vectors/homing.csv", folder=tmp_path)
        assert (replayed.returncode != 0) == bool(name), f"{name} {replayed.stdout}"
