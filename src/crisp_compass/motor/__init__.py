"""What a motor is: one module a family."""
