"""Keys that gates had before file, key and title agreed; stored lines, files and habits may still say them."""

OLD_KEYS = {"enough": "evidence", "stress": "costs", "moved": "timing", "around": "neighbors", "again": "run_again",
            "walk": "walk_forward"}


def present_key(key: str) -> str:
    """A gate's key as it is today."""
    return OLD_KEYS.get(key, key)
