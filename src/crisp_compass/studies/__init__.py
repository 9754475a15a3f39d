"""Questions answered by running the plant many times."""
