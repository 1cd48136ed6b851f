"""Portfolio: what is traded together?"""
