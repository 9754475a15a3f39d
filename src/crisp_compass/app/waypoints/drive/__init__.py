"""Pages of Drive."""
