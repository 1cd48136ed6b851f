"""Every measure once."""
