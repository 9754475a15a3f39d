"""The document: owns the bench, its file, undo and autosave. Pages read it and ask it to change."""

from __future__ import annotations

import math
import os
import sys
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from crisp_compass.app import autosave
from crisp_compass.app.autosave import now
from crisp_compass.app.drive_session import DriveSession
from crisp_compass.bench.entered import enter, value_of
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry
from crisp_compass.bench.rules import settle
from crisp_compass.bench.store import load_bench, save_bench
from crisp_compass.course.running import Trip
from crisp_compass.course.waypoint import Proposal
from crisp_compass.drive.writing import Written
from crisp_compass.errors import Refusal
from crisp_compass.files import fingerprint


def demo_folder() -> Path:
    """Return the folder of the demo benches: in a checkout, else where they were installed, by pip or as a system's package."""
    above, told = Path(__file__).resolve().parents, Path("share") / "crisp-compass" / "demo"
    places = (above[3] / "demo", Path(sys.prefix) / told, above[min(4, len(above) - 1)] / told)
    return next((p for p in places if (p / "winch").is_dir()), places[1])


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
    """One open bench.

    ``changed`` follows every edit, undo, redo and load; ``edited`` a person's edit alone; ``replaced`` another bench in this
    place; ``renamed`` the file's name. ``unkept`` says why unsaved work cannot be kept on disk.
    """

    changed = Signal()
    edited = Signal()
    replaced = Signal()
    renamed = Signal()
    unkept = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.bench = Bench()
        self.path: Path | None = None
        self._ran_with: object = None
        #: Captures that the person chose: they may lie anywhere.
        self.picked: set[str] = set()
        self.undo_stack = QUndoStack(self)
        self.undo_stack.cleanChanged.connect(lambda _: self.renamed.emit())
        self._autosave = QTimer(self)
        self._autosave.setSingleShot(True)
        self._autosave.setInterval(autosave.AUTOSAVE_MS)
        self._autosave.timeout.connect(self.write_autosave)
        self._autosave_file = autosave.autosave_file(self)
        self._recovered = False
        self._unkept = False
        self._base: Path | None = None
        self._home: Path | None = None
        self._fresh: Callable[[Bench], Bench] = lambda bench: bench
        self._on_disk = ""
        #: The conversation with a drive on a wire; another bench ends it.
        self.drive = DriveSession(self)
        self.replaced.connect(self.drive.close)
        #: Faults that runs of this window ended in, the newest last.
        self.trips: list[Trip] = []
        self.replaced.connect(self.trips.clear)
        self.drive.written.connect(self._on_written)

    # ---- state

    @property
    def base(self) -> Path:
        """Folder that capture paths are relative to."""
        return self.path.parent if self.path else self._base or self._home or Path.cwd()

    def prefer(self, *, seconds: float, folder: Path | None, fresh: Callable[[Bench], Bench]) -> None:
        """Keep unsaved work after so many seconds, look for files in a folder first, and begin empty benches as ``fresh`` makes them."""
        self._autosave.setInterval(round(1000 * seconds))
        self._home, self._fresh = folder if folder is not None and folder.is_dir() else None, fresh
        if self.untouched and self.bench == Bench():
            self.bench = fresh(Bench())

    @property
    def unsaved(self) -> bool:
        """Whether there is work that the file does not hold."""
        return self._recovered or not self.undo_stack.isClean()

    @property
    def untouched(self) -> bool:
        """Whether this is the empty bench that a window opens with."""
        return self.path is None and not self.unsaved

    @property
    def title(self) -> str:
        """Name for the window's title."""
        return self.path.name if self.path else self.bench.name

    def _show(self, bench: Bench) -> None:
        self.bench = bench
        if not self._autosave.isActive():  # steady work must not put it off for ever
            self._autosave.start()
        self.changed.emit()

    # ---- edits

    def edit(self, text: str, bench: Bench, key: str = "", *, by_hand: bool = True) -> None:
        """Make a person's change, one undo step; nothing happens if the bench stays equal.

        What arrives later than it was asked for, such as a capture, is not ``by_hand``: the person is at something else.
        """
        if bench != self.bench:
            self.undo_stack.push(_Change(self, text, self.bench, bench, key))
            if by_hand:
                self.edited.emit()

    def amend(self, bench: Bench) -> None:
        """Take what the program worked out by itself: shown and saved with the rest, but no undo step of anybody's."""
        if bench != self.bench:
            self.bench = bench
            self.changed.emit()

    def set_field(self, topic: str, field: str, value: Any) -> None:
        """Set one field of a page; raises Refusal if the model does not allow the value."""
        self.set_fields(field.rpartition(".")[2].replace("_", " "), {topic: {field: value}}, key=f"{topic}.{field}")

    def set_fields(self, text: str, changes: Mapping[str, Mapping[str, Any]], key: str = "") -> None:
        """Set fields by topic as one undo step; raises Refusal if the models do not allow a value."""
        bench = self.bench
        for topic, fields in changes.items():
            try:
                bench = enter(bench, topic, fields)
            except ValueError:
                value = next(iter(fields.values()))
                raise Refusal(
                    f"{value:g} is outside what is possible here"
                    if isinstance(value, float) and math.isfinite(value)
                    else f"“{value}” is not possible here",
                    code="range",
                    field=f"{topic}.{next(iter(fields))}",
                ) from None
        self.edit(text, bench, key)

    def log(self, entry: LedgerEntry, text: str) -> None:
        """Add a ledger line."""
        self.edit(text, self.bench.model_copy(update={"ledger": (*self.bench.ledger, entry)}))

    @property
    def ran(self) -> bool:
        """Whether the drive was run in simulation with what is settled now."""
        return self._ran_with is not None and self._ran_with == self.bench.settled

    def note_run(self) -> None:
        """Remember that the drive was run as it is settled."""
        self._ran_with = self.bench.settled
        self.changed.emit()

    def settle(self, topic: str, proposal: Proposal, *, reason: str, confirmed: tuple[str, ...] = ()) -> None:
        """Settle a topic; raises Refusal without a reason or with an input missing.

        ``confirmed`` are its fields that nobody had entered and that the person has now said are right.
        """
        bench = self.bench
        if confirmed:
            bench = enter(bench, topic, {f: value_of(bench, topic, f) for f in confirmed})
        bench = settle(
            bench, topic, proposal.values, reason=reason, when=now(), method=proposal.method, rests_on=proposal.rests_on,
            halls=proposal.halls, headline=proposal.headline, origin=proposal.origin,
        )  # fmt: skip
        self.edit(f"settle {topic.replace('_', ' ')}", bench)

    def _on_written(self, written: tuple[Written, ...]) -> None:
        """Note in the ledger what was written to the drive, whichever page asked."""
        lines = [f"{w.entry.name} refused" if w.refused else f"{w.entry.name} {w.value:.6g} {w.entry.unit}".rstrip() for w in written]
        shown = ", ".join(lines[:4]) + (f" and {len(lines) - 4} more" if len(lines) > 4 else "")
        self.log(LedgerEntry(when=now(), kind="note", text=f"written to the drive and read back: {shown}"[:400]), "write to the drive")

    # ---- files

    def new(self) -> None:
        """Start an empty bench."""
        self._replace(self._fresh(Bench()), None)

    def load(self, path: Path) -> None:
        """Open a bench file; on Refusal the open bench stays as it was."""
        known = fingerprint(path)
        self.take(load_bench(path), path, known)

    def take(self, bench: Bench, path: Path, known: str) -> None:
        """Show a bench that was read; ``known`` is the fingerprint of the file then."""
        self._replace(bench, path.resolve())
        self._on_disk = known

    @property
    def changed_on_disk(self) -> bool:
        """Whether somebody else has written the bench's file since this document read or wrote it."""
        return self.path is not None and fingerprint(self.path) not in ("", self._on_disk)

    def keep_mine(self) -> None:
        """Hold on to what is open here: what somebody else wrote is known and may be replaced."""
        self._on_disk = fingerprint(self.path) if self.path else ""

    def save(self, path: Path | None = None) -> None:
        """Save to the file, or to a new one; capture paths follow the file. Asking about what stands there is the window's."""
        target = path or self.path
        assert target is not None
        target = target.resolve()
        bench = self.bench if self.path == target else self._moved(target.parent)
        save_bench(bench, target)
        self.path, self._recovered, self._on_disk = target, False, fingerprint(target)
        if bench != self.bench:
            self.bench = bench
            self.changed.emit()
        self.undo_stack.setClean()
        self.drop_autosave()
        self.renamed.emit()

    def _moved(self, folder: Path) -> Bench:
        """Return the bench with capture paths relative to another folder."""
        base = self.base
        evidence = {
            waypoint: tuple(
                e.model_copy(update={"file": os.path.relpath((base / e.file).resolve(), folder)}) for e in items
            )
            for waypoint, items in self.bench.evidence.items()
        }
        return self.bench.model_copy(update={"evidence": evidence})

    def _replace(self, bench: Bench, path: Path | None, *, base: Path | None = None, recovered: bool = False) -> None:
        self.drop_autosave()
        self.bench, self.path, self._base, self._recovered = bench, path, base, recovered
        self._on_disk = fingerprint(path) if path else ""
        self.undo_stack.clear()
        self.replaced.emit()
        self.changed.emit()
        self.renamed.emit()

    # ---- autosave

    def write_autosave(self) -> None:
        """Keep unsaved work where the next start finds it."""
        if not self.unsaved:
            return
        try:
            autosave.write_work(self._autosave_file, self.bench, self.path, self.base, on_disk=self._on_disk)
        except Refusal as refusal:
            if not self._unkept:  # once, until it works again: the work itself goes on
                self._unkept = True
                self.unkept.emit(f"Unsaved work is not being kept: {refusal.problem}. Save it where there is room.")
            return
        self._unkept = False

    def drop_autosave(self) -> None:
        """Remove the autosave of this document."""
        self._autosave.stop()
        self._autosave_file.unlink(missing_ok=True)

    def recover(self, file: Path) -> None:
        """Take over the unsaved work of a session that ended without closing; raises Refusal if it is damaged."""
        bench, path, base, known = autosave.read_work(file)
        self._replace(bench, path, base=base, recovered=True)
        # what stands there now may be newer than the work: then saving asks first
        self._on_disk = known or self._on_disk
        self.write_autosave()
        file.unlink(missing_ok=True)
