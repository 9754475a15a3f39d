"""Motor constants from captures: each returns values with error bars and what a plot needs."""
