"""What firmware does, as compiled kernels, one module a scheme."""
