"""Proving: which candidates survive?"""
