"""Pages of Mechanics."""
