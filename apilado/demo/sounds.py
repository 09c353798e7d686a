"""What the sounds of the demo are kept as."""

from __future__ import annotations

import hashlib
import io

import numpy as np
import soundfile
from numpy.typing import NDArray

from apilado.core.formats.bundles import Asset

TAKE_RATE_HZ = 48000


def as_asset(sound: NDArray[np.float64], peak: float) -> Asset:
    """A sound, shape (channels, frames), as a WAV file of 16 bits with that peak."""
    buffer = io.BytesIO()
    whole = np.rint(sound.T * peak / np.max(np.abs(sound)) * 2**15).astype(np.int16)
    soundfile.write(buffer, whole, TAKE_RATE_HZ, format="WAV", subtype="PCM_16")
    content = buffer.getvalue()
    return Asset(hashlib.sha256(content).hexdigest(), "wav", content)
