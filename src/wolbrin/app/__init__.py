"""The window: it shows and asks, and computes nothing."""
