"""The simulator: one kernel decides every fill."""
