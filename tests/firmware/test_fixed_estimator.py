"""The estimator in whole numbers over wide settings: valid where the kernel is, at the same angle, and nothing undefined on the way."""

from __future__ import annotations

import math
import re
import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.bench import load_bench
from crisp_compass.errors import Refusal
from crisp_compass.firmware.fixed import estimator
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import Plan, plan_of
from crisp_compass.firmware.played import Vectors
from crisp_compass.sensorless.design import Plant, estimator_for
from crisp_compass.sensorless.estimator import BACK_EMF, FLUX, OUT_ANGLE, SEEN, VALID, Estimator, clear, estimate

pytestmark = pytest.mark.skipif(shutil.which("gcc") is None, reason="no C compiler")
PUMP = Path(__file__).parents[2] / "demo" / "pump" / "pump.bench.json"
MAIN = """#include "cc_estimator_fixed.h"
#include <stdio.h>
int main(void) {
    cc_estimator_fixed_state s; double va, vb, ia, ib;
    cc_estimator_fixed_init(&s, 0, 0);
    while (scanf("%lf %lf %lf %lf", &va, &vb, &ia, &ib) == 4) {
        cc_estimator_fixed_step(&s, (int32_t)va, (int32_t)vb, (int32_t)ia, (int32_t)ib);
        printf("%u %d\\n", s.out_angle, s.valid);
    }
    return 0;
}
"""


def _plan(o: Estimator, supply: float) -> Plan:
    plan = plan_of(load_bench(PUMP))
    drive = plan.drive._replace(estimator=o, inverter=plan.drive.inverter._replace(v_supply=supply))
    return replace(plan, drive=drive, context={**plan.context, "by_flux": o.kind == FLUX})


@pytest.mark.thorough(each=8)
@pytest.mark.thorough(only=["24000.0-110.0-0.00306-6.1e-05-6.1e-05-1500.0-24.0-0"])
@pytest.mark.parametrize("kind", [BACK_EMF, FLUX])
@pytest.mark.parametrize(
    ("rate", "loop_hz", "psi", "ld", "lq", "fast", "supply"),
    [
        (24e3, 110.0, 3.06e-3, 61e-6, 61e-6, 1500.0, 24.0),
        (8e3, 110.0, 3.06e-3, 61e-6, 61e-6, 1500.0, 24.0),  # above a hundredth of the rate
        (24e3, 1400.0, 3.06e-3, 61e-6, 61e-6, 2500.0, 24.0),
        (40e3, 60.0, 0.4, 9e-3, 14e-3, 700.0, 600.0),  # a large machine, salient
        (48e3, 150.0, 0.09, 0.3e-3, 0.3e-3, 300.0, 12.0),  # ψ/(Ts·base) of 270: little voltage, much flux
        (10e3, 20.0, 2.5, 0.02, 0.05, 250.0, 900.0),
    ],
)
def test_valid_where_the_kernel_is(kind: int, rate: float, loop_hz: float, psi: float, ld: float, lq: float, fast: float, supply: float, tmp_path: Path) -> None:  # fmt: skip
    ts = 1 / rate
    o = estimator_for(
        Plant(0.05 * psi * fast, ld, lq, psi, 4.0),
        ts,
        kind=kind,
        natural=2 * math.pi * loop_hz,
        floor=0.05 * psi * fast,
        hand_over=0.3 * fast,
        hold=20 * math.pi,
    )
    rng, count = np.random.default_rng(7), round(1.2 * rate)
    k = np.arange(count + 1)
    speed = fast * np.sin(2 * math.pi * k / count)  # there and back through standstill
    theta = np.cumsum(speed * ts)
    frame = np.exp(1j * theta)
    amps = 0.2 * psi / lq if psi / lq < 30 else 2.0
    i = (1j * amps * (0.6 + 0.4 * np.sin(k / 900))) * frame + 2e-3 * amps * (
        rng.standard_normal(count + 1) + 1j * rng.standard_normal(count + 1)
    )
    i_d = (i * frame.conj()).real
    flux = lq * i + (psi + (ld - lq) * i_d) * frame
    v = np.diff(flux) / ts + o.r * (i[1:] + i[:-1]) / 2
    plan = _plan(o, supply)
    for source in files_of(plan, [Vectors("start", "\n", 0.0, 0.1, ())], "t"):
        if source.name.startswith(("include/", "src/")):
            (tmp_path / Path(source.name).name).write_text(source.text)
    header = (tmp_path / "cc_estimator_fixed.h").read_text()
    v_base, i_base = (float(re.findall(rf"BASE_{x} \(([-+0-9.e]+)f", header)[0]) for x in "VA")
    rows = np.column_stack([v.real, v.imag, i[1:].real, i[1:].imag])
    counts = np.round(rows * 2**24 / np.array([v_base, v_base, i_base, i_base]))
    assert np.abs(counts).max() < 2**25
    (tmp_path / "main.c").write_text(MAIN)
    (tmp_path / "in.txt").write_text("\n".join(" ".join(f"{x:.0f}" for x in row) for row in counts) + "\n")
    checked = ["-fsanitize=undefined", "-fno-sanitize-recover=all", "-O1", "-std=c99"]
    subprocess.run(
        ["gcc", *checked, "main.c", "cc_estimator_fixed.c", "cc_fixed_math.c", "-o", "main"], cwd=tmp_path, check=True
    )
    done = subprocess.run("./main < in.txt", cwd=tmp_path, shell=True, check=False, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    theirs = np.array([[float(x) for x in line.split()] for line in done.stdout.splitlines()])
    s, ours = np.zeros(SEEN), np.empty((count, 2))
    clear(s, 0.0, 0.0)
    for n, row in enumerate(rows):
        estimate(s, o, ts, *row)
        ours[n] = s[OUT_ANGLE], s[VALID]
    assert ours[:, 1].mean() > 0.2
    assert (theirs[:, 1] != ours[:, 1]).mean() < 0.03
    both = (theirs[:, 1] > 0.5) & (ours[:, 1] > 0.5)
    off = np.remainder(theirs[:, 0] * 2 * math.pi / 2**32 - ours[:, 0] + math.pi, 2 * math.pi) - math.pi
    assert np.degrees(np.abs(off[both])).max() < 0.6


def test_a_loop_too_quick_for_its_period_is_refused() -> None:
    o = plan_of(load_bench(PUMP)).drive.estimator
    with pytest.raises(Refusal, match="too quick for its period"):
        estimator(_plan(o._replace(kp=3 / o.ts, ki=1.1 / o.ts**2), 24.0))
