"""Rehearsal: does it keep behaving?"""
