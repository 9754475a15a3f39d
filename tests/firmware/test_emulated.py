"""The firmware on emulated processors: a Cortex-M4F replays the vectors, whole numbers are the host's bit by bit, and instructions are counted."""

from __future__ import annotations

import re
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

from crisp_compass.bench import Bench
from crisp_compass.firmware.cost import COSTS, FIXED
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.save import make_firmware, write_files
from firmware.sources import NO_VECTORS
from firmware.test_folder import CASES

_MISSING = [t for t in ("arm-none-eabi-gcc", "qemu-system-arm") if shutil.which(t) is None]
pytestmark = pytest.mark.skipif(bool(_MISSING), reason=f"not installed: {', '.join(_MISSING)} (Debian's gcc-arm-none-eabi, libnewlib-arm-none-eabi, qemu-system-arm)")  # fmt: skip
HERE = Path(__file__).parent / "emulated"
#: Compiler's options, the emulated board, ns of a timer's tick, bytes of memory.
BOARDS = {
    "M4F": (("-mcpu=cortex-m4", "-mfloat-abi=hard", "-mfpu=fpv4-sp-d16"), "mps2-an386", 40, 0x100000),
    "M0": (("-mcpu=cortex-m0",), "microbit", 62, 0x4000),
}


def written(bench: Bench, folder: Path, *, vectors: bool = False) -> list[str]:
    """Write the folder, with vectors where they are replayed: playing the drive takes longer than all the rest."""
    write_files(folder, make_firmware(bench, "t").files if vectors else files_of(plan_of(bench), NO_VECTORS, "t"))
    return sorted(p.relative_to(folder).as_posix() for p in folder.glob("src/*.c"))


def emulated(board: str, folder: Path, sources: Sequence[str], *, arguments: Sequence[str] = ("main",)) -> str:
    """Compile and run on an emulated board; return what it printed. Fails where the program does not end with 0."""
    options, machine, tick, memory = BOARDS[board]
    given = ", ".join(f'"{a}"' for a in arguments)
    built = subprocess.run(
        ["arm-none-eabi-gcc", *options, "-mthumb", "-O2", "-std=c99", "-ffp-contract=off", "-Iinclude", f"-I{HERE}", f"-DNS_A_TICK={tick}u",
         f"-DARGUMENTS={given}", "--specs=rdimon.specs", "-nostartfiles", "-T", str(HERE / "memory.ld"), f"-Wl,--defsym=RAM={memory}",
         str(HERE / "start.c"), *sources, "-lm", "-o", "run.elf"],
        cwd=folder, check=False, capture_output=True, text=True,
    )  # fmt: skip
    assert built.returncode == 0, built.stderr
    done = subprocess.run(
        ["qemu-system-arm", "-M", machine, "-nographic", "-monitor", "none", "-serial", "none", "-semihosting-config", "enable=on,target=native",
         "-icount", "shift=0", "-kernel", "run.elf"],
        cwd=folder, check=False, capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


STEPS = """#include "cc_drive.h"
#include "count.h"
#include <stdio.h>
int main(void) {
    static cc_drive d; static cc_pulses p; cc_input in = { { 0, 0, 0 }, 0, 0, 0, 0, 0 }; int k; unsigned long most = 0, c;
    in.v_bus = CC_V_MIN_V * 1.4f + 5.0f;
    cc_init(&d); cc_set_speed(&d, 100.0f); cc_run(&d, CC_RUN_SPEED);
    for (k = 0; k < 800; k++) {
        in.count += 3; in.i_a[0] = 0.02f * (float)(k % 7); in.i_a[1] = -0.01f * (float)(k % 5);
        count_from_here(); cc_step(&d, &in, &p); c = counted();
        if (k >= 400 && c > most) most = c;
    }
    printf("%lu %d %lu\\n", most, (int)d.fault, (unsigned long)sizeof d);
    return 0;
}
"""


@pytest.mark.parametrize("case", ["encoder", "armature", "rotor field", "estimator", "six-step", "volts per hertz"])
def test_instructions_are_what_the_program_says(case: str, tmp_path: Path) -> None:
    bench = CASES[case]()
    sources = written(bench, tmp_path)
    (tmp_path / "main.c").write_text(STEPS)
    most, fault, memory = (int(x) for x in emulated("M4F", tmp_path, ["main.c", *sources]).split())
    said = COSTS[plan_of(bench).kind]
    assert fault == 0
    assert 0.6 * said.instructions <= most <= said.instructions
    assert memory <= said.memory
    if case == "encoder":
        assert most <= 900


@pytest.mark.parametrize("case", ["encoder", "armature"])
def test_an_emulated_processor_replays_the_vectors(case: str, tmp_path: Path) -> None:
    sources = written(CASES[case](), tmp_path, vectors=True)
    files = [p.relative_to(tmp_path).as_posix() for p in sorted(tmp_path.glob("vectors/*.csv"))]
    told = emulated("M4F", tmp_path, ["vectors/run_vectors.c", *sources], arguments=["run", *files])
    assert len(re.findall(r"rows, 0 wrong", told)) == len(files) == 5
    worst = re.search(r"voltage within ([0-9.]+) of the bus", told)
    assert worst
    assert float(worst[1]) <= 5e-5


CURRENT = """#include "cc_current_fixed.h"
#include <stdio.h>
#ifdef NS_A_TICK
#include "count.h"
#else
static void count_from_here(void) { }
static unsigned long counted(void) { return 0; }
#endif
int main(void) {
    cc_fixed_state s = { 0, 0, 0, 0 }; int k; unsigned long most = 0, c; uint32_t x = 1u, sum = 0u;
    for (k = 0; k < 2000; k++) { /* whatever a converter can say, and beyond */
        cc_fixed_dq r, i, f, u;
        x = x * 1664525u + 1013904223u; r.d = (int32_t)(x >> 17) - 16384; x = x * 1664525u + 1013904223u; r.q = (int32_t)(x >> 16) - 32768;
        x = x * 1664525u + 1013904223u; i.d = (int32_t)(x >> 16) - 32768; i.q = r.q - ((k & 64) ? (int32_t)(x >> 24) : (int32_t)(x >> 15));
        f.d = -(int32_t)(x >> 20); f.q = (int32_t)(x >> 15) - 65536;
        count_from_here(); u = cc_fixed_step(&s, r, i, f, (int32_t)(x >> 17)); c = counted();
        if (c > most) most = c;
        sum = sum * 31u + (uint32_t)u.d * 7u + (uint32_t)u.q + (uint32_t)s.int_q;
    }
    printf("%lu %lu\\n", (unsigned long)sum, most);
    return 0;
}
"""
ESTIMATOR = """#include "cc_estimator_fixed.h"
#include <stdio.h>
#ifdef NS_A_TICK
#include "count.h"
#else
static void count_from_here(void) { }
static unsigned long counted(void) { return 0; }
#endif
int main(void) {
    cc_estimator_fixed_state s; int k; unsigned long most = 0, c; uint32_t x = 1u, sum = 0u;
    cc_estimator_fixed_init(&s, 0, 0);
    for (k = 0; k < 4000; k++) { /* noise up to twice the base, then a voltage that turns */
        int32_t v[4]; int n;
        for (n = 0; n < 4; n++) { x = x * 1664525u + 1013904223u; v[n] = (k & 1024) ? (int32_t)(x >> 12) - 524288 : (int32_t)(x >> 6) - 33554432; }
        count_from_here(); cc_estimator_fixed_step(&s, v[0], v[1], v[2], v[3]); c = counted();
        if (c > most) most = c;
        sum = sum * 31u + s.out_angle + (uint32_t)s.speed * 7u + (uint32_t)s.emf + (uint32_t)s.valid;
    }
    printf("%lu %lu\\n", (unsigned long)sum, most);
    return 0;
}
"""


@pytest.mark.parametrize(
    ("case", "main", "part", "said"),
    [
        ("encoder", CURRENT, "cc_current_fixed", "current controller, Cortex-M0"),
        ("estimator", ESTIMATOR, "cc_estimator_fixed", "estimator by back-EMF, Cortex-M4"),
        ("flux, low speed", ESTIMATOR, "cc_estimator_fixed", "estimator by flux, Cortex-M4"),
    ],
)
def test_whole_numbers_are_the_same_everywhere_and_never_run_over(
    case: str, main: str, part: str, said: str, tmp_path: Path
) -> None:
    written(CASES[case](), tmp_path)
    (tmp_path / "main.c").write_text(main)
    sources = ["main.c", f"src/{part}.c", "src/cc_fixed_math.c"]
    checked = ["-fsanitize=undefined", "-fno-sanitize-recover=all", "-O1", "-std=c99", "-Iinclude"]
    subprocess.run(["gcc", *checked, *sources, "-o", "host"], cwd=tmp_path, check=True)
    here = subprocess.run(["./host"], cwd=tmp_path, check=False, capture_output=True, text=True)
    assert here.returncode == 0, here.stderr  # nothing undefined on any of it
    counted = {}
    for board in BOARDS:
        there, most = emulated(board, tmp_path, sources).split()
        assert there == here.stdout.split()[0]
        counted[board] = int(most)
    assert counted["M0" if said.endswith("M0") else "M4F"] <= FIXED[said]
