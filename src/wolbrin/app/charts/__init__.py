"""Charts drawn on chart paper."""
