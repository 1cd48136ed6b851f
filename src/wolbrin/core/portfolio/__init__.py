"""Correlation and combination of runs."""
