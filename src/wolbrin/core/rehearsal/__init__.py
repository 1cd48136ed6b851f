"""Bars played through a strategy one by one."""
