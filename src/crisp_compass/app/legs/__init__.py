"""One module a leg."""
