"""Pages of Resistance."""
