"""Rotor angle sensors: which sector is where."""
