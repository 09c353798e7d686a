"""Times as medians: single ones say little on a shared machine."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

ROUNDS = 5


def median_seconds(prepare: Callable[[], Any], work: Callable[[Any], object]) -> float:
    """The median time of `work` over several rounds, each on what `prepare` gives; one round goes unmeasured."""
    times = []
    for number in range(ROUNDS + 1):
        prepared = prepare()
        began = time.perf_counter()
        work(prepared)
        if number:
            times.append(time.perf_counter() - began)
    return float(np.median(times))
