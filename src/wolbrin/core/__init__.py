"""The public Python API of Wolbrin: no window, no command line, importable alone."""
