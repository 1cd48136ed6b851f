"""A random sign for each date, the same for all rows, horizons, pairs and markets (wild bootstrap; Wu 1986, Liu 1988).

Signs follow from seed and date alone, so that scans of several markets, or of one market again, read the same draws.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FIRST, DRAWS = 100, 999  # draws that a first answer rests on, and all of them
BIRTH = 1 << 20  # so that dates before 1970 have keys too


def signs_of(dates: NDArray[np.integer], draws: int = DRAWS, seed: int = 1) -> NDArray[np.float32]:
    """float32[d, draws] of +1 and -1, for dates in days since 1970; the first draws are the same however many are asked."""
    out = np.empty((len(dates), draws), np.float32)
    for at, date in enumerate(np.asarray(dates).tolist()):
        bits = np.random.Generator(np.random.Philox(key=(seed << 32) + date + BIRTH)).bytes((draws + 7) // 8)
        out[at] = np.unpackbits(np.frombuffer(bits, np.uint8), count=draws)
    out *= 2.0
    out -= 1.0
    return out
