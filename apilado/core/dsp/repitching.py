"""Another pitch at the same length: stretched by a library, then read faster or slower by ourselves.

It is made as a whole. A loop is taken with some of its rounds before and behind it, and what comes of it goes over from
its end into what comes before its beginning.
"""

from __future__ import annotations

import numpy as np

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.lead_in import with_ends
from apilado.core.dsp.sampling import read_at_places, stretched
from apilado.core.units import ms_to_samples

ROUND_IT_MS, SEAM_MS = 400.0, 20.0


def repitched(audio: Audio, ratio: float, *, rate_hz: int, looped: bool) -> Audio:
    """A sound higher by a ratio, or lower; same shape."""
    around, fade = ms_to_samples(ROUND_IT_MS, rate_hz), ms_to_samples(SEAM_MS, rate_hz)
    padded = with_ends(audio, around, looped=looped)
    longer = stretched(np.ascontiguousarray(padded), round(padded.shape[1] * ratio), rate_hz)
    first = around - (fade if looped else 0)
    places = (first + np.arange(audio.shape[1] + around - first, dtype=np.float64)) * ratio
    read = read_at_places(longer, places, ratio)
    if not looped:
        return read
    # The last of it fades out while what comes before its beginning fades in.
    rising = np.linspace(0.0, 1.0, fade + 2)[1:-1].astype(np.float32)
    before, out = read[:, :fade], read[:, fade:].copy()
    out[:, -fade:] = out[:, -fade:] * (np.float32(1.0) - rising) + before * rising
    return as_audio(out)
