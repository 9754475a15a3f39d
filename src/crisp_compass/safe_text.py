"""Texts of people and files on their way into code and tables of others: the one place where they are made harmless."""

from __future__ import annotations

import re
import unicodedata

#: Letters, marks, numbers, punctuation, symbols and plain blanks; no control, format (bidirectional among them), private or
#: unassigned characters, no line or paragraph separators.
_KEPT = ("L", "M", "N", "P", "S", "Zs")
_FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n")


def line(text: str) -> str:
    """Return a text as one printable line for a terminal, a label or a note: no control, bidirectional or separating character of a
    file reaches a reader raw."""
    return "".join(c if unicodedata.category(c).startswith(_KEPT) else "\ufffd" if c not in "\t\r\n" else " " for c in text)


def c_comment(text: str) -> str:
    """Return a text for the inside of a C comment: one line of printable characters that cannot end the comment, start another,
    hold a trigraph or splice lines."""
    line = "".join(c if unicodedata.category(c).startswith(_KEPT) else " " for c in text)
    line = " ".join(line.split()).replace("\\", "/")
    line = re.sub(r"\?(?=\?)", "? ", line)
    line = re.sub(r"\*(?=/)", "* ", line)
    return re.sub(r"/(?=[*/])", "/ ", line)


def c_identifier(text: str) -> str:
    """Return a text as capitals, digits and underscores that may stand in a macro's name."""
    word = re.sub(r"[^A-Z0-9]+", "_", text.upper().encode("ascii", "ignore").decode()).strip("_")
    return word if word and not word[0].isdigit() else f"N_{word}"


def csv_cell(value: object) -> object:
    """Return a cell that no spreadsheet takes for a formula: a text that begins like one gets an apostrophe before it."""
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def c_float(value: float) -> str:
    """Return a number as a C literal of type float."""
    text = f"{value:.9g}"
    return (text if any(c in text for c in ".e") else text + ".0") + "f"
