"""Parameter sweeps and the search for candidates."""
