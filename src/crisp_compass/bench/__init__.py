"""The bench file: what was read, what was settled and why, and what each value rests on. No numerics."""

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, LedgerEntry, Settled
from crisp_compass.bench.rules import StaleInput, settle, stale_inputs
from crisp_compass.bench.settings import Settings
from crisp_compass.bench.store import load_bench, save_bench

__all__ = [
    "Bench",
    "Evidence",
    "LedgerEntry",
    "Quantity",
    "Settings",
    "Settled",
    "StaleInput",
    "load_bench",
    "save_bench",
    "settle",
    "stale_inputs",
]  # fmt: skip
