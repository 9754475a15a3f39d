"""Machines as compiled kernels, one module a family."""
