"""The interface for scripts: every name is documented by an example that runs; renamed names warn; plug-ins add, and do no harm."""

from __future__ import annotations

import doctest
import json
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

import crisp_compass as cc
from crisp_compass import plugins

ROOT = Path(__file__).resolve().parents[1]


def test_every_example_of_the_library_runs(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(ROOT)
    found = doctest.testfile(str(ROOT / "docs" / "library.md"), module_relative=False)
    assert found.attempted > 30
    assert found.failed == 0


def test_every_name_has_its_place_a_docstring_and_an_example() -> None:
    text = (ROOT / "docs" / "library.md").read_text()
    assert 20 <= len(cc.__all__) <= 30
    for name in cc.__all__:
        assert getattr(cc, name).__doc__, name
        assert re.search(rf"cc\.{name}\b", text), name
    assert set(cc.__all__) <= set(dir(cc))
    with pytest.raises(AttributeError, match="no attribute 'sextant'"):
        cc.sextant  # type: ignore[attr-defined]  # noqa: B018
    stub = (ROOT / "src" / "crisp_compass" / "__init__.pyi").read_text()
    assert all(re.search(rf"as {name}\b", stub) for name in cc.__all__)


def test_a_renamed_name_warns_and_still_works(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(cc._RENAMED, "tune", "tune_current")  # type: ignore[attr-defined]
    with pytest.warns(DeprecationWarning, match="crisp_compass.tune is now crisp_compass.tune_current"):
        assert cc.tune is cc.tune_current  # type: ignore[attr-defined]


def test_importing_it_loads_nothing_heavy() -> None:
    told = subprocess.run([sys.executable, "-c", "import crisp_compass, sys; print([m for m in ('numpy', 'scipy', 'numba', 'PySide6') if m in sys.modules])"], capture_output=True, text=True, check=True)
    assert told.stdout.strip() == "[]"


def test_what_scripts_get_wrong_is_said_in_a_sentence() -> None:
    bench = cc.load_bench(ROOT / "demo" / "winch" / "winch.bench.json")
    with pytest.raises(cc.Refusal, match="no “weather” to identify"):
        cc.estimate("weather", ROOT / "demo" / "winch" / "winch-coast.csv")
    with pytest.raises(cc.Refusal, match="does not know what was given"):
        cc.estimate("flux", ROOT / "demo" / "winch" / "winch-coast.csv", colour="red")
    with pytest.raises(cc.Refusal, match="proposes nothing by itself"):
        cc.propose(bench, "weather")
    with pytest.raises(cc.Refusal, match="does not take bandwidth_hz"):
        cc.enter(bench, "current_loop", bandwidth_hz=-5.0)
    with pytest.raises(cc.Refusal, match="no reason"):
        cc.settle(bench, "flux", {"flux_linkage": (0.01, "Wb")}, reason=" ")


@pytest.fixture
def sample(monkeypatch: pytest.MonkeyPatch) -> Iterator[plugins.Registry]:
    """The sample plug-in, as if its package were installed, beside one that fails."""
    monkeypatch.syspath_prepend(str(ROOT / "examples" / "plugin"))
    import sample_plugin  # type: ignore[import-not-found]

    def broken() -> Any:
        raise RuntimeError("not today")

    points = [SimpleNamespace(name="broken", load=broken), SimpleNamespace(name="sample", load=lambda: sample_plugin.register)]
    monkeypatch.setattr(plugins, "entry_points", lambda group: points if group == plugins.GROUP else [])
    plugins.registry.cache_clear()
    yield plugins.registry()
    plugins.registry.cache_clear()


def test_a_plugin_reads_estimates_and_links(sample: plugins.Registry, tmp_path: Path) -> None:
    path = tmp_path / "bench.log"
    t, i = np.arange(200) * 1e-3, np.repeat([1.0, 2.0, 3.0, 4.0], 50)
    rng = np.random.default_rng(1)
    np.savetxt(path, np.column_stack([t, 2 * 0.4 * i + 0.3 + 1e-3 * rng.standard_normal(200), i]))
    capture = cc.read_capture(path)
    assert sorted(capture.columns) == ["i_a", "v_ab"]
    with pytest.raises(cc.Refusal, match="named by their reader"):
        cc.read_capture(path, ["i_a=CH1"])
    found = cc.compare("resistance", capture)
    assert list(found) == ["crisp-compass", "plain ratio"]
    own, theirs = found["crisp-compass"], found["plain ratio"]
    assert not isinstance(theirs, cc.Refusal)
    assert theirs["resistance"].value > 0.45  # it takes the loss for resistance
    if not isinstance(own, cc.Refusal):
        assert own["resistance"].low < 0.4 < own["resistance"].high
    path.write_text("not a log")
    with pytest.raises(cc.Refusal, match=r"no log of three columns.*bench.log|bench.log.*no log of three columns"):
        cc.read_capture(path)
    values = tmp_path / "values.json"
    values.write_text('{"speed": 12.5}')
    from crisp_compass.drive.link import open_link

    with open_link(f"values:{values}", SimpleNamespace(streams=False)) as link:  # type: ignore[arg-type]
        told: Any = link
        assert told.read(["speed"]) == {"speed": 12.5}


def test_a_plugin_adds_a_format_and_takes_no_name_that_is_there(sample: plugins.Registry) -> None:
    assert [f.key for f in sample.forms] == ["list"]
    bench = cc.load_bench(ROOT / "demo" / "winch" / "winch.bench.json")
    assert sample.forms[0].write(bench).startswith("plate.pole_pairs\t7.0\t")
    with pytest.raises(ValueError, match="no free ending"):
        sample.add_capture_reader(".csv", lambda path: path)
    with pytest.raises(ValueError, match="is there already"):
        sample.add_estimator("resistance", "plain ratio", lambda capture: {})
    with pytest.raises(ValueError, match="no free scheme"):
        sample.add_drive_link("values", lambda rest, description: rest)


def test_an_installed_plugin_is_found_by_its_entry_point(tmp_path: Path) -> None:
    """As pip would leave it: a module and its metadata on the path; the command line offers its format."""
    info = tmp_path / "sample_plugin-0.1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: sample-plugin\nVersion: 0.1.0\n")
    (info / "entry_points.txt").write_text("[crisp_compass.plugins]\nsample = sample_plugin:register\n")
    (tmp_path / "sample_plugin.py").write_text((ROOT / "examples" / "plugin" / "sample_plugin.py").read_text())
    environment = {**os.environ, "PYTHONPATH": str(tmp_path), "PYTHONWARNINGS": "ignore"}
    bench = ROOT / "demo" / "winch" / "winch.bench.json"
    command = [sys.executable, "-m", "crisp_compass", "export", str(bench), "--format", "list", "-o", str(tmp_path / "out.txt")]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode in (0, 1), done.stderr
    assert "flux.flux_linkage" in (tmp_path / "out.txt").read_text()


@pytest.mark.parametrize("tutorial", [p.stem for p in sorted((ROOT / "docs" / "tutorials").glob("*.md")) if p.stem != "README"])
def test_every_tutorial_goes_from_an_empty_bench_to_the_header(tutorial: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(ROOT)
    text = (ROOT / "docs" / "tutorials" / f"{tutorial}.md").read_text()
    assert 'cc.Bench(name="' in text
    assert "export_settings" in text
    found = doctest.testfile(str(ROOT / "docs" / "tutorials" / f"{tutorial}.md"), module_relative=False)
    assert found.attempted > 8
    assert found.failed == 0


@pytest.mark.thorough(each=2)
@pytest.mark.parametrize("notebook", ["fifty-motors", "own-estimator", "robust-tuning"])
def test_every_notebook_runs(notebook: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(ROOT)
    cells = json.loads((ROOT / "examples" / f"{notebook}.ipynb").read_text())["cells"]
    space: dict[str, Any] = {}
    for cell in cells:
        if cell["cell_type"] == "code":
            exec(compile("".join(cell["source"]), notebook, "exec"), space)


def test_the_site_is_built_and_its_links_hold(tmp_path: Path) -> None:
    built = subprocess.run([sys.executable, str(ROOT / "tools" / "site.py"), str(tmp_path / "s")], capture_output=True, text=True, check=False)
    assert built.returncode == 0, built.stderr + built.stdout
    site = tmp_path / "s" / "site"
    text = (site / "guide" / "motion.html").read_text()
    assert "Jogs the simulated axis" in text
    assert "identify resistance" in (site / "reference.html").read_text()
    assert not re.search(r'(?:src|href)="https?://(?!www\.mkdocs\.org|semver)', (site / "index.html").read_text())  # nothing is fetched
