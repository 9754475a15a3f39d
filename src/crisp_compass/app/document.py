"""The document: owns the bench, its file, undo and autosave. Pages read it and ask it to change."""

from __future__ import annotations

import json
import os
import sys
import time
from datetime import datetime
from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from crisp_compass.bench.models import Bench, HallRecord, LedgerEntry, Quantity, Topic
from crisp_compass.bench.rules import settle
from crisp_compass.bench.store import dump_bench, load_bench, save_bench, write_atomically
from crisp_compass.errors import Refusal

AUTOSAVE_MS = 2500


def now() -> str:
    """Return the local time as ISO text to the second."""
    return datetime.now().isoformat(timespec="seconds")


def autosave_folder() -> Path:
    """Return the folder of unsaved work, made if missing."""
    folder = Path(platformdirs.user_state_dir("crisp-compass")) / "autosave"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def demo_folder() -> Path:
    """Return the folder of the demo benches: in a checkout, else where they were installed."""
    beside = Path(__file__).resolve().parents[3] / "demo"
    return beside if (beside / "winch").is_dir() else Path(sys.prefix) / "share" / "crisp-compass" / "demo"


class _Change(QUndoCommand):
    """Swap one frozen bench for another; changes with the same key in quick succession are one step."""

    def __init__(self, document: Document, text: str, before: Bench, after: Bench, key: str) -> None:
        super().__init__(text)
        self._document, self._before, self._after, self._key = document, before, after, key
        self._made = time.monotonic()

    def undo(self) -> None:
        self._document._show(self._before)

    def redo(self) -> None:
        self._document._show(self._after)

    def id(self) -> int:
        return 1 if self._key else -1

    def mergeWith(self, other: QUndoCommand) -> bool:
        if not isinstance(other, _Change) or other._key != self._key or other._made - self._made > 1.5:
            return False
        self._after, self._made = other._after, other._made
        return True


class Document(QObject):
    """One open bench. ``changed`` follows every edit, undo, redo and load; ``renamed`` the file's name."""

    changed = Signal()
    renamed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.bench = Bench()
        self.path: Path | None = None
        self.undo_stack = QUndoStack(self)
        self.undo_stack.cleanChanged.connect(lambda _: self.renamed.emit())
        self._autosave = QTimer(self)
        self._autosave.setSingleShot(True)
        self._autosave.setInterval(AUTOSAVE_MS)
        self._autosave.timeout.connect(self.write_autosave)
        self._autosave_file = autosave_folder() / f"{os.getpid()}-{id(self):x}.json"
        self._recovered = False

    # ---- state

    @property
    def base(self) -> Path:
        """Folder that capture paths are relative to."""
        return self.path.parent if self.path else Path.cwd()

    @property
    def unsaved(self) -> bool:
        """Whether there is work that the file does not hold."""
        return self._recovered or not self.undo_stack.isClean()

    @property
    def title(self) -> str:
        """Name for the window's title."""
        return self.path.name if self.path else self.bench.name

    def _show(self, bench: Bench) -> None:
        self.bench = bench
        self._autosave.start()
        self.changed.emit()

    # ---- edits

    def edit(self, text: str, bench: Bench, key: str = "") -> None:
        """Make a change that can be undone; nothing happens if the bench stays equal."""
        if bench != self.bench:
            self.undo_stack.push(_Change(self, text, self.bench, bench, key))

    def set_lever(self, topic: str, field: str, value: Any) -> None:
        """Set one field of a page; raises Refusal if the model does not allow the value."""
        levers = self.bench.levers
        page = getattr(levers, topic)
        try:
            fresh = type(page).model_validate({**page.model_dump(), field: value})
        except ValueError:
            raise Refusal(
                f"{value:g} is outside what is possible here"
                if isinstance(value, float)
                else f"“{value}” is not possible here"
            ) from None
        bench = self.bench.model_copy(update={"levers": levers.model_copy(update={topic: fresh})})
        self.edit(f"{field.replace('_', ' ')}", bench, f"{topic}.{field}")

    def log(self, entry: LedgerEntry, text: str) -> None:
        """Add a ledger line."""
        self.edit(text, self.bench.model_copy(update={"ledger": (*self.bench.ledger, entry)}))

    def settle(
        self, topic: Topic, values: dict[str, Quantity], *, reason: str, method: str = "", rests_on: tuple[str, ...] = (),
        halls: HallRecord | None = None, headline: str = "",
    ) -> None:  # fmt: skip
        """Settle a topic; raises Refusal without a reason or with an input missing."""
        bench = settle(
            self.bench,
            topic,
            values,
            reason=reason,
            when=now(),
            method=method,
            rests_on=rests_on,
            halls=halls,
            headline=headline,
        )
        self.edit(f"settle {topic.replace('_', ' ')}", bench)

    # ---- files

    def new(self) -> None:
        """Start an empty bench."""
        self._replace(Bench(), None)

    def load(self, path: Path) -> None:
        """Open a bench file; on Refusal the open bench stays as it was."""
        bench = load_bench(path)
        self._replace(bench, path.resolve())

    def save(self, path: Path | None = None) -> None:
        """Save to the file, or to a new one; capture paths follow the file."""
        target = path or self.path
        assert target is not None
        target = target.resolve()
        bench = self.bench if self.path == target else self._moved(target.parent)
        save_bench(bench, target)
        self.path, self._recovered = target, False
        if bench != self.bench:
            self.bench = bench
            self.changed.emit()
        self.undo_stack.setClean()
        self.drop_autosave()
        self.renamed.emit()

    def _moved(self, folder: Path) -> Bench:
        """Return the bench with capture paths relative to another folder."""
        evidence = {
            leg: tuple(
                e.model_copy(update={"file": os.path.relpath((self.base / e.file).resolve(), folder)}) for e in items
            )
            for leg, items in self.bench.evidence.items()
        }
        return self.bench.model_copy(update={"evidence": evidence})

    def _replace(self, bench: Bench, path: Path | None, *, recovered: bool = False) -> None:
        self.drop_autosave()
        self.bench, self.path, self._recovered = bench, path, recovered
        self.undo_stack.clear()
        self.changed.emit()
        self.renamed.emit()

    # ---- autosave

    def write_autosave(self) -> None:
        """Keep unsaved work where the next start finds it."""
        if not self.unsaved:
            return
        data = {
            "path": str(self.path) if self.path else "",
            "when": now(),
            "bench": json.loads(dump_bench(self.bench)),
        }
        try:
            write_atomically(self._autosave_file, json.dumps(data, ensure_ascii=False))
        except Refusal:
            return  # a full disk must not disturb the work; saving itself will say so

    def drop_autosave(self) -> None:
        """Remove the autosave of this document."""
        self._autosave.stop()
        self._autosave_file.unlink(missing_ok=True)

    def recover(self, file: Path) -> None:
        """Take over the unsaved work of a session that ended without closing; raises Refusal if it is damaged."""
        try:
            data = json.loads(file.read_text(encoding="utf-8"))
            bench = Bench.model_validate(data["bench"])
            path = Path(data["path"]) if data["path"] else None
        except (ValueError, KeyError, TypeError, OSError):
            raise Refusal("the unsaved work cannot be read", where=file.name) from None
        self._replace(bench, path, recovered=True)
        file.unlink(missing_ok=True)
        self.write_autosave()


def leftovers() -> list[Path]:
    """Return autosaves of sessions that no longer run, newest first."""
    found = []
    for file in autosave_folder().glob("*.json"):
        pid = file.name.split("-")[0]
        if pid.isdigit() and not Path(f"/proc/{pid}").exists():
            found.append(file)
    return sorted(found, key=lambda f: f.stat().st_mtime, reverse=True)
