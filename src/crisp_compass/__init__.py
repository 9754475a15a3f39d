"""Crisp Compass: the navigator of the motor bench."""

import logging

__version__ = "0.2.0"

# what the core notes goes to the window's log file, or to whoever uses it as a library; commands say what matters themselves
logging.getLogger(__name__).addHandler(logging.NullHandler())
