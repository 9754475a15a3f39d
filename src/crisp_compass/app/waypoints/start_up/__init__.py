"""Pages of Circuit."""
