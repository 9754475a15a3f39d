"""Pages of Hand over."""
