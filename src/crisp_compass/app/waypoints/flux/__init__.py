"""Pages of Flux."""
