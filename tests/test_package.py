"""What is shipped: the package installs into a clean root, starts there and goes without a trace; its texts come from the program and are valid."""

from __future__ import annotations

import gzip
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

import pytest

from crisp_compass import __version__
from crisp_compass.licences import parts

ROOT = Path(__file__).resolve().parents[1]


def run(*command: str | Path, **more: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([str(c) for c in command], capture_output=True, text=True, check=False, env={**os.environ, **more}, timeout=400)


def test_man_page_and_completions_come_from_the_parser(tmp_path: Path) -> None:
    done = run(sys.executable, ROOT / "tools" / "manual.py", tmp_path)
    assert done.returncode == 0, done.stderr
    page = (tmp_path / "crisp-compass.1").read_text()
    for words in ("identify resistance FILE", "drive serve BENCH", "study start\\-map BENCH", "export BENCH", "\\-\\-json"):
        assert words in page, words
    for name in ("crisp-compass.bash", "_crisp-compass", "crisp-compass.fish"):
        assert "crisp-compass" in (tmp_path / name).read_text()
    asked = {"COMP_WORDS": "crisp-compass mot", "COMP_CWORD": "1", "_CRISP_COMPASS_COMPLETE": "complete_bash"}
    told = run(sys.executable, "-m", "crisp_compass", **asked)
    assert told.stdout.split() == ["motion"]
    if shutil.which("man"):
        assert "warning" not in run("man", "--warnings", "-l", tmp_path / "crisp-compass.1", MANWIDTH="100").stderr


def test_desktop_entry_metadata_and_licences_are_sound() -> None:
    desktop = (ROOT / "packaging" / "crisp-compass.desktop").read_text()
    mime = ElementTree.parse(ROOT / "packaging" / "crisp-compass-bench.xml").getroot()
    kind = mime[0].attrib["type"]
    assert f"MimeType={kind};" in desktop
    told = ElementTree.parse(ROOT / "packaging" / "crisp-compass.metainfo.xml").getroot()
    assert told.findtext("id") == "crisp-compass"
    assert next(r.attrib["version"] for r in told.iter("release")) == __version__
    assert kind in [m.text for m in told.iter("mediatype")]
    if shutil.which("appstreamcli"):
        checked = run("appstreamcli", "validate", "--no-net", ROOT / "packaging" / "crisp-compass.metainfo.xml")
        assert "E:" not in checked.stdout, checked.stdout
    if shutil.which("desktop-file-validate"):
        assert run("desktop-file-validate", ROOT / "packaging" / "crisp-compass.desktop").stdout == ""
    found = {p.name: p for p in parts()}
    assert found["Crisp Compass"].version == __version__
    assert {"IBM Plex Sans and Mono", "Qt", "numpy", "PySide6-Essentials"} <= set(found)
    assert all(p.licence for p in parts())
    data = re.findall(r"share/crisp-compass/demo/(\w+)", (ROOT / "pyproject.toml").read_text())
    assert set(data) == {p.parent.name for p in (ROOT / "demo").glob("*/*.bench.json")}


@pytest.mark.thorough
@pytest.mark.skipif(shutil.which("dpkg-deb") is None or shutil.which("python3.11") is None, reason="needs dpkg and Python 3.11")
def test_the_package_installs_starts_and_goes(tmp_path: Path) -> None:
    built = run(ROOT / "tools" / "package.sh", DIST=str(tmp_path / "dist"))
    assert built.returncode == 0, built.stderr[-2000:]
    made = sorted(p.name for p in (tmp_path / "dist").iterdir())
    assert [p.rpartition(".")[2] for p in made] == ["deb", "whl", "gz"]
    deb, root, home = tmp_path / "dist" / made[0], tmp_path / "root", tmp_path / "home"
    (root / "var" / "lib" / "dpkg" / "info").mkdir(parents=True)
    (root / "var" / "lib" / "dpkg" / "status").touch()
    home.mkdir()
    dpkg = ("dpkg", f"--root={root}", "--force-not-root", "--force-depends", "--force-script-chrootless")
    done = run(*dpkg, "--install", deb)
    assert done.returncode == 0, done.stderr
    program = root / "usr" / "bin" / "crisp-compass"
    clean = {"HOME": str(home), "PYTHONPATH": "", "QT_QPA_PLATFORM": "offscreen", "XDG_CACHE_HOME": str(Path.home() / ".cache"), "PYTHON": "python3.11"}
    assert run(program, "--version", **clean).stdout.split() == ["crisp-compass", __version__]
    bench = root / "usr" / "share" / "crisp-compass" / "demo" / "winch" / "winch.bench.json"
    assert run(program, "check", bench, **clean).returncode in (0, 1)
    toured = run(program, "tour", "--brief", "--out", tmp_path / "tour", **clean)
    assert toured.returncode == 0, toured.stderr[-1500:]
    assert len(list((tmp_path / "tour").glob("*.png"))) == 3
    assert b"identify resistance" in gzip.decompress((root / "usr/share/man/man1/crisp-compass.1.gz").read_bytes())
    assert "numpy" in (root / "usr/share/doc/crisp-compass/copyright").read_text()
    gone = run(*dpkg, "--purge", "crisp-compass")
    assert gone.returncode == 0, gone.stderr
    assert not [p for p in (root / "usr").rglob("*") if p.is_file()] if (root / "usr").exists() else True
