"""Pages of Run."""
