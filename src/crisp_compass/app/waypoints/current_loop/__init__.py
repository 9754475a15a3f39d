"""Pages of Current loop."""
