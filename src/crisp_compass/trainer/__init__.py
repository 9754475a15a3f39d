"""Drills: a seeded motor with a hidden fault, what can be measured of it, and a judge."""
