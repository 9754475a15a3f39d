"""Options: numbers as people type them, what has no effect, crossover by its name, and what a command need not load."""

from __future__ import annotations

import json
import math
import subprocess
import sys
from typing import Any

import pytest

from crisp_compass.cli.main import run

CURRENT = ["tune", "current", "--ld", "980u", "--lq", "1.2m", "--loop-hz", "20k"]
SPEED = ["tune", "speed", "--inertia", "1.9 kg·cm²", "--kt", "177m", "--loop-hz", "2k"]


def _call(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, dict[str, Any], str]:
    code = run([*arguments, "--json"])
    out = capsys.readouterr()
    return code, json.loads(out.out) if out.out else {}, out.err


def test_numbers_as_people_type_them(capsys: pytest.CaptureFixture[str]) -> None:
    plain = _call(
        capsys,
        "tune",
        "current",
        "--r",
        "0.41",
        "--ld",
        "0.00098",
        "--lq",
        "0.0012",
        "--loop-hz",
        "20000",
        "--bandwidth-hz",
        "1200",
    )[1]
    for r in ("0,41", "410m", "410 mΩ", "0R41"):
        assert _call(capsys, *CURRENT, "--r", r, "--bandwidth-hz", "1k2")[1]["axes"] == plain["axes"]
    code, _, err = _call(capsys, *CURRENT, "--r", "1,234", "--bandwidth-hz", "1200")
    assert (code, "could mean 1.234 or 1234" in err) == (2, True)
    # programs write numbers with a point: those are taken as they stand
    assert _call(capsys, *CURRENT, "--r", "1.234", "--bandwidth-hz", "1200")[0] == 0
    assert "is an inductance" in _call(capsys, *CURRENT, "--r", "5 mH", "--bandwidth-hz", "1200")[2]


IDLE = [
    ([*CURRENT, "--r", "0.4", "--method", "modulus-optimum", "--crossover-hz", "900"], "--crossover-hz"),
    ([*CURRENT, "--r", "0.4", "--crossover-hz", "900", "--damping", "0.7"], "--damping"),
    ([*CURRENT, "--r", "0.4", "--crossover-hz", "900", "--bandwidth-hz", "900"], "--crossover-hz"),
    ([*SPEED, "--current-crossover-hz", "1200", "--crossover-hz", "30", "--a", "3"], "--a"),
    ([*SPEED, "--current-crossover-hz", "1200", "--current-bandwidth-hz", "1200"], "--current-bandwidth-hz"),
]


@pytest.mark.parametrize(("arguments", "option"), IDLE)
def test_an_option_that_would_have_no_effect_is_refused(
    arguments: list[str], option: str, capsys: pytest.CaptureFixture[str]
) -> None:
    code, data, err = _call(capsys, *arguments)
    assert (code, data) == (2, {})
    assert err.startswith(option)


def test_crossover_is_met_and_what_one_prints_the_other_takes(capsys: pytest.CaptureFixture[str]) -> None:
    data = _call(capsys, *CURRENT, "--r", "0.41", "--crossover-hz", "1200")[1]
    for axis in data["axes"].values():
        assert axis["crossover_hz"] == pytest.approx(1200, rel=1e-9)
        assert axis["bandwidth_hz"] > 1.3 * axis["crossover_hz"]  # −3 dB is another figure
    # the plain formula stays under the older name
    q = _call(capsys, *CURRENT, "--r", "0.41", "--bandwidth-hz", "1200")[1]["axes"]["q"]
    assert (q["kp"], q["ki"]) == (
        pytest.approx(2 * math.pi * 1200 * 1.2e-3),
        pytest.approx(2 * math.pi * 1200 * 0.41),
    )
    names = [
        _call(capsys, *SPEED, name, "1200", "--filter-hz", "400")[1]
        for name in ("--current-crossover-hz", "--current-bandwidth-hz")
    ]
    assert names[0]["kp"] == names[1]["kp"]
    speed = _call(capsys, *SPEED, "--current-crossover-hz", "1200", "--crossover-hz", "30")[1]
    assert speed["crossover_hz"] == pytest.approx(30, rel=1e-6)
    late = _call(capsys, *SPEED, "--current-crossover-hz", "1200", "--sensor-delay", "10m")[1]
    assert late["t_sigma_s"] == pytest.approx(
        _call(capsys, *SPEED, "--current-crossover-hz", "1200")[1]["t_sigma_s"] + 0.01
    )


def test_a_print_never_lies_further_off_than_its_bar(capsys: pytest.CaptureFixture[str]) -> None:
    from crisp_compass.cli.output import estimate_line
    from crisp_compass.estimates import Estimate

    line = estimate_line("flux_linkage", Estimate.from_u(17.93456789e-3, "Wb", 4e-9))
    assert "17.9345679 mWb" in line
    assert "0.01234567 " in estimate_line("harmonic_5", Estimate.from_u(0.01234567, "", 3e-7))


@pytest.mark.parametrize(
    ("arguments", "absent"),
    [
        (["tune", "current", "--r", "0.4", "--ld", "1e-3", "--lq", "1e-3", "--loop-hz", "2e4", "--bandwidth-hz", "900"], ("scipy", "numba", "polars", "crisp_compass.bench")),
        (["tune", "speed", "--inertia", "1e-4", "--kt", "0.1", "--loop-hz", "2e3", "--current-bandwidth-hz", "900"], ("scipy", "numba", "polars", "crisp_compass.bench")),
    ],
)  # fmt: skip
def test_a_command_loads_only_what_it_needs(arguments: list[str], absent: tuple[str, ...]) -> None:
    script = f"import sys; from crisp_compass.cli.main import run; run({arguments!r}); print([m for m in {absent!r} if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"
