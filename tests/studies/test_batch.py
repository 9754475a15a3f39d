"""Studies spread over processors: the same answers however they are spread, and a worker killed in mid-run loses nothing."""

from __future__ import annotations

import csv
import json
import os
import signal
import time
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.capture.writer import write_capture
from crisp_compass.cli.main import run
from crisp_compass.errors import Refusal
from crisp_compass.studies.batch import Cancelled, close_pool, spread
from makers import staircase


def draw(task: int, seed: int) -> tuple[int, float]:
    """Return something that only task and seed decide."""
    return task, float(np.random.default_rng(seed).standard_normal())


def draw_or_die(task: tuple[int, str], seed: int) -> tuple[int, float]:
    """Kill this worker the first time that task 30 comes up."""
    place, folder = task
    mark = Path(folder) / "killed"
    if place == 30 and not mark.exists():
        mark.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    time.sleep(0.002)
    return draw(place, seed)


@pytest.mark.thorough
def test_the_same_seed_gives_the_same_answers_on_one_worker_and_on_three(tmp_path: Path) -> None:
    tasks = list(range(90))
    alone = spread(draw, tasks, seed=7, workers=1)
    seen: list[int] = []
    try:
        assert spread(draw, tasks, seed=7, workers=3, arrived=lambda place, _: seen.append(place)) == alone
        assert sorted(seen) == tasks
        assert spread(draw, tasks, seed=8, workers=3) != alone
        assert len({value for _, value in alone}) == 90
        with pytest.raises(Cancelled):
            spread(draw, tasks, workers=3, cancelled=lambda: True)
        fatal = [(k, str(tmp_path)) for k in tasks]
        assert spread(draw_or_die, fatal, seed=7, workers=2) == alone
        assert (tmp_path / "killed").exists()
    finally:
        close_pool()
    with pytest.raises(Refusal, match="0 workers"):
        spread(draw, tasks, workers=0)


@pytest.mark.thorough
def test_a_cluster_gives_the_same_and_survives_a_killed_worker(tmp_path: Path) -> None:
    distributed = pytest.importorskip("distributed")
    tasks = list(range(60))
    alone = spread(draw, tasks, seed=3, workers=1)
    here = {"PYTHONPATH": os.pathsep.join([str(Path(__file__).parents[1]), str(Path(__file__).parent)])}
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50, env=here
    ) as cluster:
        fatal = [(k, str(tmp_path)) for k in tasks]
        assert spread(draw_or_die, fatal, seed=3, scheduler=cluster.scheduler_address) == alone
        assert (tmp_path / "killed").exists()
    with pytest.raises(Refusal, match="no scheduler"):
        spread(draw, tasks, scheduler="tcp://127.0.0.1:9")


def test_a_folder_of_captures_becomes_a_table_with_refusals_as_rows(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = tmp_path / "lot"
    folder.mkdir()
    for k in range(8):
        r = 0.5 * (1 + 0.01 * ((k * 3) % 5 - 2)) * (1.4 if k == 6 else 1.0)
        made = staircase(r, [0.5, 1.0, 1.5, 2.0, 2.5], seed=k)
        write_capture(folder / f"unit-{k}.csv", made.time, made.columns, {})
    (folder / "broken.csv").write_text("t [s],v_ab [V]\n0,1\n", encoding="utf-8")
    table = tmp_path / "table.csv"
    assert run(["identify", "resistance", "--batch", str(folder), "-o", str(table), "--workers", "1", "--json"]) == 0
    said = json.loads(capsys.readouterr().out)
    assert (said["files"], said["refused"]) == (9, 1)
    lot = said["agreement"]["resistance"]
    assert lot["apart"] == ["unit-6.csv"]
    assert lot["count"] == 8
    assert lot["median"] == pytest.approx(0.5, rel=0.02)
    assert 0.003 < lot["between_files"] < 0.015
    assert {"files-refused", "file-apart"} <= {f["code"] for f in said["findings"]}
    with table.open(encoding="utf-8", newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert [r["file"] for r in rows] == ["broken.csv", *(f"unit-{k}.csv" for k in range(8))]
    assert "broken.csv" in rows[0]["refusal"]
    assert float(rows[7]["resistance [Ω]"]) == pytest.approx(0.7, rel=0.03)
    for words, part in (
        (["identify", "resistance", "--batch", str(tmp_path / "none")], "no folder"),
        (["identify", "resistance"], "FILE: it is missing"),
        (["identify", "resistance", str(folder / "unit-0.csv"), "--batch", str(folder)], "no effect"),
        (["identify", "resistance", str(folder / "unit-0.csv"), "-o", str(table)], "--output"),
    ):
        assert run(words) == 2
        assert part in capsys.readouterr().err
