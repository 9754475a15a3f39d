"""Pages of Commutation."""
