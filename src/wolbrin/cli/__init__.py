"""The command line, thin over the core."""
