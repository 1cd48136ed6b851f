"""The benchmark: figures beside a reference in one run."""
