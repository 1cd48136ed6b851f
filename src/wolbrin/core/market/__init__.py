"""Contract terms, sessions, bars, intervals, reading files."""
