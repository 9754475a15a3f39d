"""Pages of Inductance."""
