"""Unsaved work kept on disk while a bench is open, and found again after a session that ended without closing."""

from __future__ import annotations

import json
import os
import platform
import re
import time
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import platformdirs

from crisp_compass.bench.models import Bench
from crisp_compass.bench.store import parse_json, read_bench
from crisp_compass.errors import Refusal
from crisp_compass.files import read_text, sweep_folder, write_atomically

#: Unsaved work is never older than this and the time of one writing.
AUTOSAVE_MS = 400
#: Work that another machine keeps in a shared home is somebody's open window, until it has lain for so long, s.
_FOREIGN_DEAD = 2 * 86400


@dataclass(frozen=True)
class Leftover:
    """Unsaved work of a session that no longer runs: its file, the bench's name and path (empty: never saved), when."""

    file: Path
    name: str
    path: str
    when: str


def now() -> str:
    """Return the local time as ISO text to the second."""
    return datetime.now().isoformat(timespec="seconds")


def autosave_folder() -> Path:
    """Return the folder of unsaved work, made if missing."""
    folder = Path(platformdirs.user_state_dir("crisp-compass")) / "autosave"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def _born(pid: int | str) -> str:
    """Return when a process started, in ticks; empty if there is none. A number alone may be another program's by now."""
    try:
        return Path(f"/proc/{pid}/stat").read_text(encoding="utf-8").rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def autosave_file(owner: object) -> Path:
    """Return where a document of this process keeps its unsaved work."""
    return autosave_folder() / f"{os.getpid()}-{_born(os.getpid())}-{id(owner):x}@{_machine()}.json"


def _machine() -> str:
    """Return this machine's name as a file name takes it: process numbers of another one say nothing here."""
    return re.sub(r"[^A-Za-z0-9.-]", "_", platform.node())[:60] or "here"


def _lives(file: Path) -> bool:
    """Tell whether the window that keeps this work is open, on this machine or as it seems on another."""
    stem, _, machine = file.name.removesuffix(".json").partition("@")
    pid, _, rest = stem.partition("-")
    if machine and machine != _machine():
        return time.time() - file.stat().st_mtime < _FOREIGN_DEAD
    return not pid.isdigit() or _born(pid) == rest.partition("-")[0] != ""


def write_work(file: Path, bench: Bench, path: Path | None, base: Path, on_disk: str = "") -> None:
    """Write unsaved work, with the fingerprint of its file as it was read or written last; raises Refusal where the disk does not take it."""
    data = {
        "path": str(path) if path else "",
        "base": str(base),
        "on_disk": on_disk,
        "when": now(),
        "bench": bench.model_dump(mode="json", exclude_none=True),
    }
    write_atomically(file, json.dumps(data, ensure_ascii=False))


def read_work(file: Path) -> tuple[Bench, Path | None, Path, str]:
    """Return unsaved work: bench, its file if it had one, the folder its captures stand beside, the fingerprint of the file it rests on.

    Raises Refusal where the file is damaged.
    """
    data = parse_json(read_text(file), file.name, "unsaved work")
    try:
        path = Path(data["path"]) if data["path"] else None
        base = Path(data["base"]) if data.get("base") else path.parent if path else Path.cwd()
        return read_bench(data["bench"], file.name), path, base, str(data.get("on_disk", ""))
    except (KeyError, TypeError, AttributeError):
        raise Refusal("the unsaved work cannot be read", where=file.name) from None


def leftovers() -> list[Leftover]:
    """Return unsaved work of sessions that no longer run, newest first; damaged files are put aside."""
    found = []
    sweep_folder(autosave_folder())
    for file in autosave_folder().glob("*.json"):
        try:
            if _lives(file):
                continue
            data = parse_json(read_text(file), file.name, "unsaved work")
            found.append(
                Leftover(file, str(data["bench"].get("name", "")), str(data["path"]), str(data.get("when", "")))
            )
        except OSError:
            continue
        except (Refusal, KeyError, TypeError, AttributeError):
            file.rename(file.with_suffix(".damaged"))
    return sorted(found, key=lambda left: left.when, reverse=True)
