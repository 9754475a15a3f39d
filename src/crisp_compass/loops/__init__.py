"""Loops: gains, margins and step figures of the sampled loop."""
