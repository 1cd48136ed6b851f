"""The frame around every place."""
