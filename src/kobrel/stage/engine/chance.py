"""Numbers that look random, the same for the same place, pass and ray."""

import numpy as np

from kobrel.compiled import kernel


@kernel
def mixed(h):  # type: ignore[no-untyped-def]
    """A number in [0, 1) from a 32-bit one (Wellons' mixer)."""
    h ^= h >> np.uint32(16)
    h *= np.uint32(0x7FEB352D)
    h ^= h >> np.uint32(15)
    h *= np.uint32(0x846CA68B)
    h ^= h >> np.uint32(16)
    return np.float64(np.uint32(h)) * (1.0 / 4294967296.0)
