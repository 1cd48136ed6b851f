"""Sweep: which parameter region works?"""
