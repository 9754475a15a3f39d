"""Pages of Current loop, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.current_loop.design import CurrentLoopPage
from crisp_compass.app.waypoints.current_loop.measured import MeasuredPage
from crisp_compass.app.waypoints.current_loop.number_format import FormatPage
from crisp_compass.app.waypoints.current_loop.torque_speed import WeakeningPage
from crisp_compass.app.waypoints.current_loop.trials import TrialsPage

PAGES = (
    CurrentLoopPage,
    MeasuredPage,
    TrialsPage,
    FormatPage,
    WeakeningPage,
)
