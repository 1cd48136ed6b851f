"""Discover: what can the machine find by itself?"""
