"""Rules: what exactly is traded?"""
