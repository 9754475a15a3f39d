"""Pages of PWM."""
