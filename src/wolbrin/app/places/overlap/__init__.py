"""Overlap: which survivors are the same bet?"""
