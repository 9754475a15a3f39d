"""Loading and saving bench files: atomic, readable, never overwriting what could not be read."""

from __future__ import annotations

import hashlib
import json
import os
import tempfile
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from crisp_compass.bench.models import FORMAT, Bench
from crisp_compass.bench.readings import TYPED
from crisp_compass.errors import Refusal


def load_bench(path: Path | str) -> Bench:
    """Read a bench file; raises Refusal for missing, damaged or newer files (which stay untouched)."""
    file = Path(path)
    where = str(path)
    try:
        text = file.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise Refusal("there is no such file", "check the path", where=where) from None
    except UnicodeDecodeError:
        raise Refusal("this is no bench file (not UTF-8 text)", where=where) from None
    except OSError as error:
        raise Refusal(f"the file cannot be read ({error.strerror})", where=where) from None
    try:
        data = json.loads(text)
    except json.JSONDecodeError as error:
        raise Refusal(
            f"line {error.lineno}: the bench file is damaged ({error.msg})",
            "restore an earlier copy; the file was not changed",
            where=where,
        ) from None
    except RecursionError:
        raise Refusal(
            "the bench file is damaged (nested too deeply)",
            "restore an earlier copy; the file was not changed",
            where=where,
        ) from None
    return _validate(data, where)


def _validate(data: Any, where: str) -> Bench:
    if not isinstance(data, dict) or "format" not in data:
        raise Refusal("this is no bench file (it has no “format”)", where=where)
    version = data["format"]
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise Refusal(f"the format “{version}” is unknown", "open it with the program that wrote it", where=where)
    if version > FORMAT:
        raise Refusal(
            f"the bench has format {version}, this program knows up to {FORMAT}",
            "open it with a newer version; the file was not changed",
            where=where,
        )
    if version == 1:
        data = _from_format_1(data)
    data = _typed_into_checks(data)
    if version < FORMAT:
        data = {**data, "format": FORMAT}  # format 3 only adds levers
    try:
        return Bench.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise Refusal(
            f"the bench file is damaged at {place}: {first['msg'][:1].lower()}{first['msg'][1:]}",
            "mend it there or restore an earlier copy; the file was not changed",
            where=where,
        ) from None


def _from_format_1(data: dict[str, Any]) -> dict[str, Any]:
    """Format 2 lets loops rest on the mechanics, for which the plate's figures stand in until they are measured."""
    names = {"plate.inertia": "mechanics.inertia", "plate.viscous": "mechanics.viscous_friction"}
    settled = data.get("settled")
    if isinstance(settled, dict):
        fresh = {}
        for topic, entry in settled.items():
            rests = entry.get("rests_on") if isinstance(entry, dict) else None
            moved = {"rests_on": {names.get(k, k): v for k, v in rests.items()}} if isinstance(rests, dict) else {}
            fresh[topic] = {**entry, **moved} if moved else entry
        data = {**data, "settled": fresh}
    return data


def _typed_into_checks(data: dict[str, Any]) -> dict[str, Any]:
    """Older files keep typed meter readings in the ledger alone; a check that was recorded or reset later stands."""
    ledger, checks = data.get("ledger"), data.get("checks", {})
    if not isinstance(ledger, list) or not isinstance(checks, dict):
        return data
    checks = dict(checks)
    for line in ledger:
        kind = str(line.get("kind", "")) if isinstance(line, dict) else ""
        quantity, when = (line.get("value"), line.get("when")) if kind in TYPED else (None, None)
        if (
            not isinstance(quantity, dict)
            or not isinstance(when, str)
            or not isinstance(quantity.get("value"), int | float)
        ):
            continue
        key, name = TYPED[kind]
        record = checks.get(key, {"values": {}, "when": ""})
        if not isinstance(record, dict) or not isinstance(record.get("values", {}), dict):
            continue
        if str(record.get("when", "")) < when or record.get("when") == when:
            values = {**record.get("values", {}), name: quantity["value"]}
            checks[key] = {**record, "values": values, "when": max(str(record.get("when", "")), when)}
    return {**data, "checks": checks} if checks else data


def dump_bench(bench: Bench) -> str:
    """Return the file's text: stable key order, indented, ending in a newline."""
    return json.dumps(bench.model_dump(mode="json", exclude_none=True), indent=2, ensure_ascii=False) + "\n"


def save_bench(bench: Bench, path: Path | str) -> None:
    """Write by temporary file and atomic rename; the last good version survives any failure."""
    write_atomically(Path(path), dump_bench(bench))


def write_atomically(path: Path, content: str | bytes) -> None:
    """Write bytes, or text as UTF-8, so that the path holds either the old or the new content, never a part."""
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    except OSError as error:
        raise Refusal(
            f"the file cannot be written ({error.strerror})", "choose another folder", where=str(path)
        ) from None
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(content if isinstance(content, bytes) else content.encode())
            stream.flush()
            os.fsync(stream.fileno())
        os.chmod(temporary, 0o644 if not path.exists() else path.stat().st_mode & 0o777)
        os.replace(temporary, path)
    except OSError as error:
        Path(temporary).unlink(missing_ok=True)
        raise Refusal(
            f"the file cannot be written ({error.strerror})", "choose another folder", where=str(path)
        ) from None


def sha256_of(path: Path) -> str:
    """Return the hex digest of a file's bytes."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()
