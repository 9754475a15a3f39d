"""Pages of Motion."""
