"""What a drive is to the program, and the drives that are: so far the simulated one."""
