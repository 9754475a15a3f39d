"""The voyage: waypoints, kinds of capture, what is known best, what is open."""
