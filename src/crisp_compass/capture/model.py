"""A capture: time and named channels as SI arrays."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from crisp_compass.capture.signals import describe
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding, FloatArray


@dataclass(frozen=True)
class Capture:
    """Channels over time.

    Attributes
    ----------
    source
        File name as given, for messages.
    time
        Shape (n,), s, strictly increasing; empty for tables that are no time series.
    columns
        Signal name → array of shape (n,) in SI (V, A, rad, rad/s, N·m, °C, 0/1).
    notes
        The ``# key: value`` lines.
    findings
        What the reader had to assume.
    """

    source: str
    time: FloatArray
    columns: Mapping[str, FloatArray]
    notes: Mapping[str, str] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()

    def __len__(self) -> int:
        return len(next(iter(self.columns.values()), self.time))

    def __contains__(self, name: str) -> bool:
        return name in self.columns

    def __getitem__(self, name: str) -> FloatArray:
        """Return one channel, shape (n,), SI; raises Refusal if the capture does not hold it."""
        if name not in self.columns:
            present = ", ".join(self.columns) or "none"
            raise Refusal(
                f"the column {describe(name)} is missing (found: {present})",
                f"add it or map a channel to it: {name}=SOURCE",
                where=self.source,
                code="channels",
            )
        return self.columns[name]

    def require(self, *names: str, samples: int = 2) -> list[FloatArray]:
        """Return several channels, refusing if one is missing, constant, or too short."""
        arrays = [self[name] for name in names]
        if len(self) < samples:
            raise Refusal(f"{len(self)} samples are too few", f"at least {samples} are needed", where=self.source)
        for name, values in zip(names, arrays, strict=True):
            if float(np.ptp(values)) == 0.0:
                raise Refusal(
                    f"the column {describe(name)} stays at {values[0]:g} throughout",
                    "a channel that changes is needed; check the probe and the range",
                    where=self.source,
                )
        return arrays

    def note_number(self, key: str) -> float | None:
        """Return a note as a number, or None if the note is absent; refuses a note that is no number."""
        if key not in self.notes:
            return None
        text = self.notes[key].replace(",", ".")
        try:
            value = float(text)
        except ValueError:
            raise Refusal(f"the note “{key}: {self.notes[key]}” is not a number", where=self.source) from None
        if not np.isfinite(value):
            raise Refusal(f"the note “{key}: {self.notes[key]}” is not a finite number", where=self.source)
        return value
