"""How hot a motor gets, and how long it may take a current."""
