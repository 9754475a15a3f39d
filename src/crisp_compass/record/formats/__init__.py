"""Settings as text for firmware and tools: one module a format, with its ``FORM``. Every number carries its unit and, where known,
its uncertainty."""

from __future__ import annotations

import importlib
import pkgutil

from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal
from crisp_compass.plugins import registry
from crisp_compass.record.formats.form import Form

_MODULES = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
#: Formats by what the command line calls them, in the order in which they are offered.
FORMS: dict[str, Form] = {
    f.key: f for f in sorted((*registry().forms, *(m.FORM for m in _MODULES if hasattr(m, "FORM"))), key=lambda form: form.place)
}


def export_settings(bench: Bench, form: str) -> str:
    """Return the settled settings as text in a ``form`` of ``FORMS``.

    Raises Refusal for an unknown form or a bench on which nothing is settled.
    """
    if form not in FORMS:
        raise Refusal(f"there is no format “{form}”", f"use one of {', '.join(FORMS)}, firmware", where="--format")
    if not bench.settled:
        raise Refusal("nothing is settled on this bench", "settle at least one value before handing over")
    return FORMS[form].write(bench)
