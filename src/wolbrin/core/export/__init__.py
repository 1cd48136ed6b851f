"""Results as files for other programs and for paper."""
