"""Kills in the middle of saves and autosaves: the file is whole, at most the last edit is missing, and no litter stays."""

from __future__ import annotations

import os
import signal
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from crisp_compass.app.autosave import read_work, write_work
from crisp_compass.bench.store import load_bench, save_bench
from crisp_compass.files import sweep_folder

DEMO = Path(__file__).resolve().parent.parent / "demo" / "winch" / "winch.bench.json"


def kill_saves(count: int, seed: int = 1) -> list[str]:
    """Kill ``count`` processes that save without pause; return what was wrong afterwards."""
    rng, wrong = np.random.default_rng(seed), []
    bench = load_bench(DEMO)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path, work = folder / "w.bench.json", folder / "work.json"
        save_bench(bench, path)
        write_work(work, bench, path, folder)
        for number in range(count):
            autosave = number % 2 == 1
            read, write = os.pipe()
            child = os.fork()
            if child == 0:
                for edit in range(1_000_000):
                    edited = bench.model_copy(update={"notes": f"{edit}"})
                    os.write(write, b"x")  # the edit is made
                    write_work(work, edited, path, folder) if autosave else save_bench(edited, path)
            os.read(read, 1)
            time.sleep(float(rng.uniform(0.0, 0.05)))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            os.set_blocking(read, False)
            made = 1
            while True:
                try:
                    made += len(os.read(read, 1 << 16))
                except BlockingIOError:
                    break
            os.close(read)
            os.close(write)
            found = read_work(work)[0] if autosave else load_bench(path)
            last = int(found.notes) if found.notes.isdigit() else -1
            if made - 1 - last > 1:  # edits count from zero; the one under way may be missing
                wrong.append(f"kill {number}: edit {made - 1} was made, {last} is in the file")
            sweep_folder(folder)
            litter = list(folder.glob(".*.part"))
            if litter:
                wrong.append(f"kill {number}: {len(litter)} temporary files stay")
    return wrong


if __name__ == "__main__":
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    faults = kill_saves(kills)
    print(f"{kills} kills during saves and autosaves: {len(faults)} faults")
    print("\n".join(faults[:20]))
    sys.exit(1 if faults else 0)
