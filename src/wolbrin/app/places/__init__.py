"""One folder a place; nothing shared sideways."""
