"""Templates to C: the environment, the head of every file, and what text may stand in it."""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from hashlib import sha256
from typing import Any

import jinja2

from crisp_compass import __version__
from crisp_compass.bench.models import Bench
from crisp_compass.course.open_points import open_points
from crisp_compass.safe_text import c_comment

#: What letters of ours become where only the seven bits of ASCII are safe.
_PLAIN = {
    "Ω": "ohm", "µ": "u", "μ": "u", "°": " deg", "·": "*", "−": "-", "–": "-", "—": "-", "…": "...", "×": "x", "²": "^2", "³": "^3", "√": "sqrt ",
    "ψ": "psi", "ω": "omega", "θ": "theta", "Δ": "d", "“": '"', "”": '"', "’": "'", "\u202f": " ", "\u00a0": " ", "≤": "<=", "≥": ">=", "→": "->", "±": "+/-",
    "ß": "ss",
}  # fmt: skip


@dataclass(frozen=True)
class SourceFile:
    """One file: its name, with folders, and its text. ``own`` says that people fill it in, so it is never written over."""

    name: str
    text: str
    own: bool = False


def ascii_comment(text: str) -> str:
    """Return a text for the inside of a C comment in ASCII; a letter that has no plain form stands as its code, so that nothing is lost."""
    plain = "".join(_PLAIN.get(c, c) for c in c_comment(text))
    out = []
    for c in plain:
        bare = "".join(x for x in unicodedata.normalize("NFKD", c) if not unicodedata.combining(x))
        out.append(bare if bare.isascii() else f"(U+{ord(c):04X})")
    return c_comment("".join(out))


def digest_of(bench: Bench) -> str:
    """Return what tells this state of the bench from another: the start of a hash over all that it holds."""
    return sha256(bench.model_dump_json().encode()).hexdigest()[:16]


def banner_lines(bench: Bench, when: str) -> list[str]:
    """Return whose values these are: bench and motor, date, the bench's hash, and every open point, stale values among them."""
    motor = f", motor {bench.settings.plate.motor}" if bench.settings.plate.motor else ""
    lines = [
        f"Bench “{bench.name}”{motor}; written {when} by Crisp Compass {__version__}.",
        f"State of the bench: SHA-256 {digest_of(bench)}... . SI units, currents are peaks.",
    ]
    lines += [f"{f.level.upper()}: {f.text}" for f in open_points(bench)]
    return [ascii_comment(line) for line in lines]


@cache
def _environment() -> jinja2.Environment:
    return jinja2.Environment(
        loader=jinja2.PackageLoader("crisp_compass.firmware"),
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        autoescape=False,  # C, and every text in it comes through ascii_comment
    )


def render(template: str, bench: Bench, when: str, context: Mapping[str, Any]) -> str:
    """Return the text of a template (its path without ``.j2``)."""
    lines = banner_lines(bench, when)

    def banner(name: str, what: str) -> str:
        return "\n".join([f"/* {name} - {what}.", " *", *(f" * {line}" for line in lines), " */"])

    return _environment().get_template(f"{template}.j2").render(banner=banner, banner_lines=lines, **context)
