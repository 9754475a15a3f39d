"""Descriptions of drives that somebody keeps: files in a folder of the user's own."""

from __future__ import annotations

import re
from pathlib import Path

import platformdirs

from crisp_compass.drive.description import Description, save_description
from crisp_compass.errors import Refusal


def folder() -> Path:
    """Return where they lie."""
    return Path(platformdirs.user_data_dir("crisp-compass")) / "drives"


def kept() -> list[Path]:
    """Return the files, by name."""
    return sorted(folder().glob("*.json"), key=lambda p: p.name.lower())


def keep(description: Description, name: str = "") -> Path:
    """Write a description into the library under its own or another name; one of the same name is replaced. Raises Refusal where it cannot be written."""
    stem = re.sub(r"[^\w .+-]", "", name or description.name).strip(" .")[:80]
    if not stem:
        raise Refusal("the drive has no name to be kept under", "name it")
    path = folder() / f"{stem}.json"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        save_description(path, description)
    except OSError as error:
        raise Refusal(f"{path} cannot be written ({error.strerror})", "look at who may write there") from None
    return path


def forget(path: Path) -> None:
    """Take a file out of the library."""
    if path.parent == folder():
        path.unlink(missing_ok=True)
