"""Pages of Speed loop."""
