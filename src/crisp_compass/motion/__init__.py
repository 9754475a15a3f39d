"""Moves: profiles from rest to rest, and what a duty cycle asks of a motor."""
