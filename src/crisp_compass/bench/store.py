"""Loading and saving bench files: atomic, readable, never overwriting what could not be read."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from crisp_compass.bench.migrations import brought_up
from crisp_compass.bench.models import FORMAT, Bench
from crisp_compass.bench.plate import PLATES
from crisp_compass.errors import Refusal
from crisp_compass.files import foreign, read_text, shortened, sweep, write_atomically


def load_bench(path: Path | str) -> Bench:
    """Read a bench file; raises Refusal for missing, damaged or newer files (which stay untouched)."""
    where = str(path)
    sweep(Path(path))
    text = read_text(Path(path))
    if not text.lstrip("\ufeff \t\r\n").startswith(("{", "[")):  # something else altogether, not one of ours that was damaged
        kind = foreign(text[:300].encode()) if text.strip() else "an empty file"
        raise Refusal(f"this is {kind or 'no bench file'}", "choose a .bench.json file", where=where)
    return read_bench(parse_json(text, where, "bench file"), where)


def parse_json(text: str, where: str, what: str) -> Any:
    """Return what a JSON text of ours holds; raises Refusal where it is damaged or says a thing twice."""
    untouched = "restore an earlier copy; the file was not changed"

    def once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        found = dict(pairs)
        if len(found) < len(pairs):
            keys = [k for k, _ in pairs]
            double = next(k for k in keys if keys.count(k) > 1)
            raise Refusal(f"the {what} is damaged (“{shortened(double)}” stands there twice)", untouched, where=where)
        return found

    try:
        return json.loads(text, object_pairs_hook=once)
    except json.JSONDecodeError as error:
        raise Refusal(f"line {error.lineno}: the {what} is damaged ({error.msg})", untouched, where=where) from None
    except RecursionError:
        raise Refusal(f"the {what} is damaged (nested too deeply)", untouched, where=where) from None
    except ValueError:  # Python refuses to read integers of thousands of digits
        raise Refusal(f"the {what} is damaged (a number of thousands of digits)", untouched, where=where) from None


def read_bench(data: Any, where: str) -> Bench:
    """Return the bench that parsed JSON holds, older formats brought up; raises Refusal naming what is wrong."""
    if not isinstance(data, dict) or "format" not in data:
        raise Refusal("this is no bench file (it has no “format”)", where=where)
    version = data["format"]
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise Refusal(
            f"the format “{shortened(version)}” is unknown", "open it with the program that wrote it", where=where
        )
    if version > FORMAT:
        raise Refusal(
            f"the bench has format {shortened(version)}, this program knows up to {FORMAT}",
            "open it with a newer version; the file was not changed",
            where=where,
        )
    data = brought_up(data, version)
    try:
        return Bench.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        # the tag of a union is no part of the file
        parts = [
            p
            for k, p in enumerate(first["loc"])
            if k != 2 or first["loc"][:2] != ("settings", "plate") or p not in PLATES
        ]
        place = ".".join(shortened(part, 40) for part in parts)
        message = shortened(first["msg"].removeprefix("Value error, "), 160)
        if first["type"] == "union_tag_invalid":
            message = f"“{shortened(first['ctx']['tag'], 40)}” is no kind of motor"
        raise Refusal(
            f"the bench file is damaged{' at ' + place if place else ''}: {message[:1].lower()}{message[1:]}",
            "correct it there or restore an earlier copy; the file was not changed",
            where=where,
            code="damaged",
            field=place,
        ) from None


def dump_bench(bench: Bench) -> str:
    """Return the file's text: stable key order, indented, ending in a newline."""
    return json.dumps(bench.model_dump(mode="json", exclude_none=True), indent=2, ensure_ascii=False) + "\n"


def save_bench(bench: Bench, path: Path | str) -> None:
    """Write by temporary file and atomic rename; the last good version survives any failure."""
    write_atomically(Path(path), dump_bench(bench))
