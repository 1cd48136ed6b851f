"""What every number that is shown means, said once."""

from wolbrin.core.figures.figure import Figure, by_key

__all__ = ["Figure", "by_key"]
