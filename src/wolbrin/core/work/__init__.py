"""Whole tasks on a project, as jobs: what the window and the command line both call."""
