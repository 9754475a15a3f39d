"""PWM: limits, counts, dead time, duties."""
