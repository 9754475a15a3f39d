"""How kinds of capture are shown, one module a view; they are loaded when something is shown, not when the program starts."""

from __future__ import annotations

import importlib

from crisp_compass.course.kind import CaptureKind
from crisp_compass.views.picture import View


def view_of(kind: CaptureKind) -> View:
    """Return the view that a kind of capture names."""
    view = importlib.import_module(f"{__name__}.{kind.view}").VIEW
    assert isinstance(view, View)
    return view
