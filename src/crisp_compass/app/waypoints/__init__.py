"""The pages, one package a waypoint."""
