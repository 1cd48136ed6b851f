"""Wolbrin: a workbench for developing, proving and combining intraday strategies."""
__version__ = "0.1.0"
