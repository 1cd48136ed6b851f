"""A uniform sample of what was tried, of a stated size, without knowing beforehand how much that will be.

Each draw has a key that follows from seed and number alone; the sample is the draws with the smallest keys. A draw is kept at
hand as long as it may still be among them, so that a search that is stopped, or goes on, has the same sample as one in a go.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

SAMPLE = 2_000
SLACK = 1.25  # ten standard deviations of the number of keys below the bound, for a sample of 2,000


def keys_of(seed: int, first: int, count: int) -> NDArray[np.float64]:
    """Keys of draws first .. first + count - 1, uniform in [0, 1): splitmix64 of seed and number (Steele, Lea &
    Flood 2014)."""
    with np.errstate(over="ignore"):
        z = (np.uint64(seed) + np.uint64(1)) * np.uint64(0xD1B54A32D192ED03) + (
            np.arange(first, first + count, dtype=np.uint64) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        z = z ^ (z >> np.uint64(31))
    return (z >> np.uint64(11)).astype(np.float64) * 2.0**-53


def at_hand(seed: int, first: int, count: int, size: int = SAMPLE) -> NDArray[np.bool_]:
    """Which of these draws may be in the sample, bool[count]."""
    number = np.arange(first, first + count) + 1.0
    return keys_of(seed, first, count) < SLACK * size / np.maximum(number, 1.0)


def sampled(seed: int, numbers: NDArray[np.int64], size: int = SAMPLE) -> NDArray[np.int64]:
    """Positions in `numbers` (draws at hand, in order) of those in the sample, in order."""
    keys = np.array([keys_of(seed, int(n), 1)[0] for n in numbers])
    return np.sort(np.argsort(keys, kind="stable")[:size])
