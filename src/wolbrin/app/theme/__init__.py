"""One token file, two themes."""
