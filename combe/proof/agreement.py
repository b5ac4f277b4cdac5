"""Two runners agree: the whole of a proof."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray


class Agreement(Struct, frozen=True):
    """How many samples were compared, how many differ, which is the first, and how far the farthest is off."""

    samples: int
    differences: int
    first: int | None
    largest: float

    @property
    def holds(self) -> bool:
        """Whether there is something to compare and none of it differs."""
        return self.samples > 0 and self.differences == 0


def agreement(found: NDArray[Any], wanted: NDArray[Any], tolerance: float = 0.0) -> Agreement:
    """Compare outputs sample by sample. What one lacks differs, and so does what is no number.

    ``tolerance`` is what each may be off; with 0 integers must be equal in every bit.
    """
    count = max(len(found), len(wanted))
    common = min(len(found), len(wanted))
    if tolerance == 0 and not (found.dtype.kind == "f" or wanted.dtype.kind == "f"):
        wrong = found[:common] != wanted[:common]
        is_text = found.dtype.kind in "US"
        off = np.array(
            [] if is_text else [abs(int(a) - int(b)) for a, b in zip(found[:common][wrong], wanted[:common][wrong])],
            float,
        )
    else:
        apart = np.abs(found[:common].astype(float) - wanted[:common].astype(float))
        wrong = ~(apart <= tolerance)
        off = apart
    places = np.flatnonzero(wrong)
    missing = count - common
    first = int(places[0]) if len(places) else common if missing else None
    return Agreement(count, len(places) + missing, first, float(np.max(off, initial=0.0)))
