"""The one table of colours. One meaning per colour: measured is ``deep``, fitted or predicted is ``magenta``."""

from __future__ import annotations

TOKENS: dict[str, dict[str, str]] = {
    "light": {
        "paper": "#F5F0E3", "sheet": "#FCFAF3", "line": "#D5CBB3", "graticule": "#E8E0CD", "ink": "#16293D", "soft": "#5A666E",
        "water": "#D7E6EA", "deep": "#1E5A8C", "magenta": "#B3296B", "ochre": "#8A5C0E", "brick": "#9C3B22", "moss": "#376640",
    },
    "night": {
        "paper": "#0F1A24", "sheet": "#14222E", "line": "#2C3F4E", "graticule": "#1E303D", "ink": "#E6E1D3", "soft": "#93A3AB",
        "water": "#17303B", "deep": "#6FB3E0", "magenta": "#F07BB0", "ochre": "#E0AE55", "brick": "#E58368", "moss": "#86C08D",
    },
}  # fmt: skip


def contrast(first: str, second: str) -> float:
    """Return the contrast ratio of two colours (WCAG 2.1, relative luminance)."""

    def luminance(colour: str) -> float:
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    bright, dark = sorted((luminance(first), luminance(second)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)
