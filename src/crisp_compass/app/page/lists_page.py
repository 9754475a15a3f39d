"""What pages share whose settings are lists of rows that are typed into tables."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from pydantic import ValidationError

from crisp_compass.app.page.base import Page
from crisp_compass.drive.description import first_fault
from crisp_compass.errors import Refusal


class ListsPage(Page):
    """A page of one ``topic`` of settings; each change is one step that can be undone."""

    topic = ""
    has_dial = False
    arranges_fields = True

    def change_lists(self, text: str, make: Callable[[Any], Any]) -> None:
        """Change the topic's settings; what is refused is said, and the tables show what stood."""
        self._change(lambda bench: bench.model_copy(update={"settings": bench.settings.model_copy(update={self.topic: make(getattr(bench.settings, self.topic))})}), text)

    def put(self, lot: str, row: int, field: str, value: Any) -> None:
        """Put what was typed, or what a function makes of it, into one row of a list; the model refuses what it does not take."""

        def make(settings: Any) -> Any:
            rows = list(getattr(settings, lot))
            data = {**rows[row].model_dump(), field: value() if callable(value) else value}
            try:
                rows[row] = type(rows[row]).model_validate(data)
            except ValidationError as error:
                raise Refusal(first_fault(error), "type it otherwise") from None
            return settings.model_copy(update={lot: tuple(rows)})

        self.change_lists(self.section.lower(), make)

    def add(self, text: str, lot: str, row: Any) -> None:
        """Add a row at the end of a list."""
        self.change_lists(text, lambda s: s.model_copy(update={lot: (*getattr(s, lot), row)}))

    def take_out_of(self, gone: dict[str, Sequence[int]]) -> None:
        """Take rows out of lists, by their names."""
        self.change_lists("take out", lambda s: s.model_copy(update={k: tuple(x for n, x in enumerate(getattr(s, k)) if n not in at) for k, at in gone.items()}))


def one_of(text: str, words: tuple[str, ...]) -> str:
    """Return a word of a few that a person typed; raises Refusal with what there is."""
    if text.lower() not in words:
        raise Refusal(f"“{text[:20]}” cannot be meant", f"type {' or '.join(words)}")
    return text.lower()
