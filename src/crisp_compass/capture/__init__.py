"""Captures: reading CSV dialects into SI arrays, plateaus and clipping. No motor knowledge."""

from crisp_compass.capture.bulk import CancelledError, Progress
from crisp_compass.capture.model import Capture
from crisp_compass.capture.reader import read_capture
from crisp_compass.capture.writer import write_capture

__all__ = ["CancelledError", "Capture", "Progress", "read_capture", "write_capture"]
