"""Pages of Plate."""
