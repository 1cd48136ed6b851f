"""Study: does the idea have any edge?"""
