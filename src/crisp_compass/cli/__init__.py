"""The command line: parse, call, print. No numerics."""
