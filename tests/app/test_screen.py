"""One smoke test in a real X screen: the tour runs there and its pictures are not empty."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import QCoreApplication, QThreadPool
from PySide6.QtGui import QImage

from crisp_compass.app.theme import THEME
from crisp_compass.app.window import Window
from hands import copy_bench

ROOT = Path(__file__).resolve().parents[2]


@pytest.mark.thorough(only=["False-35"])
@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="Xvfb is not installed")
@pytest.mark.parametrize(("brief", "count"), [(True, 3), (False, 35)])
def test_the_tour_in_a_real_x_screen(brief: bool, count: int, tmp_path: Path) -> None:
    environment = {**os.environ, "QT_QPA_PLATFORM": "xcb", "XDG_STATE_HOME": str(tmp_path)}
    command = [
        str(ROOT / "tools" / "with-xvfb.sh"),
        sys.executable,
        "-m",
        "crisp_compass",
        "tour",
        "--out",
        str(tmp_path / "tour"),
        *(["--brief"] if brief else []),
    ]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=240, check=False)
    assert done.returncode == 0, done.stderr[-2000:]
    assert "Traceback" not in done.stderr
    pictures = sorted((tmp_path / "tour").glob("*.png"))
    assert len(pictures) == count
    for path in pictures:
        image = QImage(str(path))
        assert (image.width(), image.height()) == (1280, 800)
        colours = {image.pixel(x, y) for x in range(0, 1280, 16) for y in range(0, 800, 16)}
        assert len(colours) > 12


def test_tour_and_benchmark_refuse_in_one_line(tmp_path: Path) -> None:
    for arguments, beginning in (
        (["tour"], "--out"),
        (["benchmark", "--fast"], "--fast"),
    ):
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
        done = subprocess.run(
            [sys.executable, "-m", "crisp_compass", *arguments],
            env=environment,
            cwd=tmp_path,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
        assert done.returncode == 2
        assert done.stderr.startswith(beginning)
        assert done.stderr.count("\n") == 1


@pytest.mark.thorough
def test_night_comes_to_every_page_though_only_the_shown_one_is_dressed_at_once(
    window: Window, winch: Path, tmp_path: Path
) -> None:
    """A page that was hidden while the colours changed looks as one that was built in them."""
    window.open(copy_bench(winch, tmp_path))
    window.resize(1280, 800)
    for key in ("resistance", "plate"):
        window.travel(key)
    THEME.use("night")
    window.travel("resistance")
    QThreadPool.globalInstance().waitForDone(20000)
    QCoreApplication.processEvents()
    changed = window.page.grab().toImage()
    fresh = Window(window.settings)
    fresh.document.load(tmp_path / winch.name)
    fresh.resize(1280, 800)
    fresh.show()
    fresh.travel("resistance")
    QThreadPool.globalInstance().waitForDone(20000)
    QCoreApplication.processEvents()
    built = fresh.page.grab().toImage()
    different = sum(changed.pixel(x, y) != built.pixel(x, y) for x in range(0, 900, 7) for y in range(0, 600, 5))
    fresh.close()
    assert different < 60  # a blinking cursor, a focus frame
