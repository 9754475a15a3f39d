"""The parts that the program stands on, with their versions and licences, as their own packages say them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from importlib import metadata

from crisp_compass import __version__

#: Licences of what no package says: fonts that ship, and Qt beneath its Python package.
_OTHERS = (("IBM Plex Sans and Mono", "", "SIL Open Font License 1.1"), ("Qt", "", "GNU LGPL 3.0 (through PySide6)"))


@dataclass(frozen=True)
class Part:
    """A part: ``name``, ``version`` (empty: with the program) and ``licence``."""

    name: str
    version: str
    licence: str


def _said(name: str) -> str:
    told = metadata.metadata(name)
    said = next((told[key] for key in ("License-Expression", "License") if key in told), "") or ""
    if not said or len(said) > 60 or "\n" in said:  # some write the whole text there
        classes = [c.rpartition(" :: ")[2] for c in told.get_all("Classifier") or () if c.startswith("License ::")]
        said = classes[0] if classes else said.partition("\n")[0][:60]
    return said.strip() or "see its package"


def parts() -> list[Part]:
    """Return the program, what ships with it, and every package that it needs and that is there."""
    found = [Part("Crisp Compass", __version__, "MIT"), *(Part(*other) for other in _OTHERS)]
    try:
        wanted = metadata.requires("crisp-compass") or []
    except metadata.PackageNotFoundError:  # run from its sources, without being installed
        wanted = []
    for line in sorted((w for w in wanted if "extra ==" not in w), key=str.lower):
        name = re.split(r"[=<>!~; \[]", line, maxsplit=1)[0]
        try:
            found.append(Part(name, metadata.version(name), _said(name)))
        except metadata.PackageNotFoundError:
            continue
    return found


def as_text() -> str:
    """Return the parts as lines."""
    return "\n".join(f"{p.name}{' ' if p.version else ''}{p.version}: {p.licence}" for p in parts())
