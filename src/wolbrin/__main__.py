"""Lets `python -m wolbrin` do what `wolbrin` does."""

from wolbrin.main import run

if __name__ == "__main__":
    run()
