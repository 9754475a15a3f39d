"""Writing a value to a drive, and looking what became of it."""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.link import AnyLink, DeniedError
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.estimates import Finding


@dataclass(frozen=True)
class Written:
    """What became of one value: ``asked`` and ``value`` in the entry's unit; ``refused`` says why nothing was written, ``differs`` that another value is read back."""

    entry: Entry
    asked: float
    value: float
    rounded: bool = False
    refused: str = ""
    differs: bool = False

    def findings(self) -> list[Finding]:
        """Return what a person must know of it."""
        e, found = self.entry, []
        if self.refused:
            return [Finding("stop", "write-refused", f"The drive refused {e.name} = {self.asked:.9g} {e.unit}: {self.refused}.")]
        if self.differs:
            text = f"{e.name} was written as {physical(e, raw_of(e, self.asked)):.9g} {e.unit} and reads {self.value:.9g}: the drive keeps another value."
            found.append(Finding("stop", "write-differs", text))
        if self.rounded:
            text = f"{e.name} is {self.value:.9g} {e.unit} in the drive's steps of {abs(e.scale):.6g}, not {self.asked:.9g}."
            found.append(Finding("info", "value-rounded", text))
        if e.restart:
            found.append(Finding("info", "needs-restart", f"{e.name} counts after the drive's next restart."))
        return found


def write_and_check(line: AnyLink, description: Description, entry: Entry, value: float) -> Written:
    """Write a physical value and read it back; a command that answers by doing something is not read back."""
    raw = raw_of(entry, value)
    became = physical(entry, raw)
    rounded = abs(became - value) > (1e-6 if entry.type == "float32" else 1e-9) * max(abs(value), 1e-9 * abs(entry.scale))
    try:
        line.write(entry, raw)
    except DeniedError as denied:
        return Written(entry, value, became, refused=denied.text)
    if not entry.readable or entry in description.commands:
        return Written(entry, value, became, rounded=rounded)
    back = line.read([entry]).get(entry.name, became)
    return Written(entry, value, back, rounded=rounded, differs=back != became)
