"""Contract terms as bars show them: price grid, weekly sessions and their zone, closed days, kind, currency, worth."""
