"""Editors of what is varied: numbers, what is looked for, which sets. Sweep and Walk-forward show the same ones."""
