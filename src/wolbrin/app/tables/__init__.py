"""Dense tables over column models."""
