"""The face for Python and notebooks: what `import wolbrin as wb` gives. It asks the core, as window and command line do."""
