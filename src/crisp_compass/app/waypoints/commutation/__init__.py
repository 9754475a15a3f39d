"""Pages of Commutation, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.commutation.alignment import AlignPage
from crisp_compass.app.waypoints.commutation.direction_check import SensesPage
from crisp_compass.app.waypoints.commutation.edges import EdgesPage
from crisp_compass.app.waypoints.commutation.encoder import EncoderPage
from crisp_compass.app.waypoints.commutation.hand_turn import CommutationPage
from crisp_compass.app.waypoints.commutation.lead_orders import OrdersPage
from crisp_compass.app.waypoints.commutation.pole_search import PolesPage

PAGES = (
    CommutationPage,
    EdgesPage,
    EncoderPage,
    AlignPage,
    PolesPage,
    SensesPage,
    OrdersPage,
)
