"""The demo and the simulated services."""
