"""Crisp Compass: the navigator of the motor bench."""

__version__ = "0.2.0"
