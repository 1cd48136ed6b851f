"""The demo project: synthetic northern markets with known structure (docs/demo-data.md), and a few strategies."""
