"""What is settled before power: checks, wiring, sensor cable, interference, supply."""
