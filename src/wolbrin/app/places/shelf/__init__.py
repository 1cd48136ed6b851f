"""Shelf: everything kept."""
