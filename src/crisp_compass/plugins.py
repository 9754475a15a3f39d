"""Plug-ins: packages of others that add a reader of captures, a format of the settings, an estimator, or a protocol of drives.

A package names a function under the entry point ``crisp_compass.plugins``; it is called once with a :class:`Registry`. One that fails is left out and logged: it stops nobody's work.
This module knows nothing of the program, so that the lowest layer may ask it.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Callable, Mapping
from functools import cache
from importlib.metadata import entry_points
from typing import Any

GROUP = "crisp_compass.plugins"
_LOG = logging.getLogger(__name__)


class Registry:
    """What plug-ins have added; each name once."""

    def __init__(self) -> None:
        self.readers: dict[str, Callable[[Any], Any]] = {}
        self.forms: list[Any] = []
        self.estimators: dict[str, dict[str, Callable[..., Mapping[str, Any]]]] = {}
        self.links: dict[str, Callable[[str, Any], Any]] = {}

    def add_capture_reader(self, suffix: str, read: Callable[[Any], Any]) -> None:
        """Let files with a ``suffix`` (``.dat``) be read by ``read(path)``, which returns a Capture in SI or raises Refusal."""
        if not re.fullmatch(r"\.[a-z0-9]{1,12}", suffix) or suffix in (".csv", ".json", *self.readers):
            raise ValueError(f"{suffix} is no free ending")
        self.readers[suffix] = read

    def add_format(self, form: Any) -> None:
        """Offer a format of the settings (``record.formats.form.Form``) on the command line and on Hand over."""
        self.forms.append(form)

    def add_estimator(self, subject: str, name: str, estimate: Callable[..., Mapping[str, Any]]) -> None:
        """Add an estimator of a subject (``resistance`` …): ``estimate(capture, **known)`` returns name → Estimate; it stands beside the program's own in ``compare``."""
        known = self.estimators.setdefault(subject, {})
        if name in known or name == "crisp-compass":
            raise ValueError(f"the estimator {name} is there already")
        known[name] = estimate

    def add_drive_link(self, scheme: str, connect: Callable[[str, Any], Any]) -> None:
        """Let links like ``scheme:rest`` be opened by ``connect(rest, description)``, a context manager that gives what ``drive.link.AnyLink`` is."""
        if not re.fullmatch(r"[a-z][a-z0-9-]{1,15}", scheme) or scheme in self.links:
            raise ValueError(f"{scheme} is no free scheme")
        self.links[scheme] = connect


@cache
def registry() -> Registry:
    """Return what the installed plug-ins have added."""
    found = Registry()
    for point in entry_points(group=GROUP):
        try:
            point.load()(found)
        except Exception:  # somebody else's code: whatever it does, the program goes on
            _LOG.warning("the plug-in %s was left out", point.name, exc_info=True)
    return found


def estimators_of(subject: str) -> Mapping[str, Callable[..., Mapping[str, Any]]]:
    """Return the registered estimators of a subject by name."""
    return registry().estimators.get(subject, {})
