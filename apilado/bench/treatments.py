"""How quick each treatment is against its nearest of the effects library, on the same sound, at equal oversampling."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from apilado.bench.timing import Side, least_seconds
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.cabinets import BOXES, box_response
from apilado.core.dsp.filters import DC_BLOCKER_HZ
from apilado.core.render.steps import treat
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.bits import Bits
from apilado.core.treatments.cabinet import Cabinet
from apilado.core.treatments.chorus import Chorus
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.gate import GateStep
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.treatments.limiter import PeakLimiter
from apilado.core.treatments.phaser import Phaser
from apilado.core.treatments.pitch_shift import PitchShift
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.saturation import Saturation

RATE_HZ, SECONDS = 48000, 16
CLOCK = Clock(tempo_bpm=60.0, beats=float(SECONDS), rate_hz=RATE_HZ, looped=False)


def pairs() -> list[tuple[Treatment, Callable[[Audio, int], Audio]]] | None:
    """Each treatment with what does the same in `pedalboard`; None where that is not installed."""
    try:
        import pedalboard as library
    except ImportError:
        return None
    ladder = library.LadderFilter(library.LadderFilter.Mode.LPF24, 800.0, 0.2, 1.0)

    def driven(curve: Callable[[Audio, int], Audio]) -> Callable[[Audio, int], Audio]:
        """Drives here leave no DC; the library's need its own high-pass of the first order behind them for that."""
        return library.Pedalboard([curve, library.HighpassFilter(DC_BLOCKER_HZ)])

    return [
        (Filter(cutoff_hz=800.0), ladder),
        (Compressor(), library.Compressor(-18.0, 3.0, 10.0, 120.0)),
        (PeakLimiter(), library.Limiter(-6.0, 120.0)),
        (GateStep(), library.NoiseGate(-36.0, 10.0, 1.0, 60.0)),
        (Saturation(oversampling=1), driven(library.Distortion(4.0))),
        (HardClip(oversampling=1), driven(library.Clipping(-12.0))),
        (Bits(reading_hz=48000.0), driven(library.Bitcrush(6.0))),
        # As the library's: one copy, nothing kept in the middle, no filters of its own.
        (Chorus(voices=1, mono_below_hz=0.0), library.Chorus()),
        (Phaser(mono_below_hz=0.0), library.Phaser()),
        (Delay(left_ms=375.0, right_ms=375.0, feedback=0.4, mono_below_hz=0.0), library.Delay(0.375, 0.4, 0.5)),
        (Reverb(pre_delay_ms=0.0, low_cut_hz=0.0, high_cut_hz=20000.0), library.Reverb()),
        (Cabinet(), library.Convolution(box_response(BOXES["boathouse"], RATE_HZ)[0].copy(), 1.0, RATE_HZ)),
        (PitchShift(semitones=7.0), library.PitchShift(7.0)),
    ]


def treatment_ratios() -> dict[str, float] | None:
    """Our time over the library's, by the treatment's label, one thread."""
    there = pairs()
    if there is None:
        return None
    audio = (0.3 * np.random.default_rng(1).standard_normal((2, CLOCK.frames))).astype(np.float32)
    found = {}
    for part, theirs in there:
        ours, other = least_seconds(
            Side(lambda _, p=part: p.process(audio, CLOCK)),
            Side(lambda sound, t=theirs: t(sound, RATE_HZ), audio.copy),
        )
        found[part.label.lower()] = ours / other
    return found


def denormal_ratios() -> dict[str, float]:
    """The time on numbers so small that processors take long over them, over that on a sound, by the step."""
    frames = 4 * RATE_HZ
    clock = Clock(tempo_bpm=60.0, beats=4.0, rate_hz=RATE_HZ, looped=True)
    sound = (0.2 * np.random.default_rng(1).standard_normal((2, frames))).astype(np.float32)
    tiny = (sound * np.float32(1e-39)).astype(np.float32)
    found = {}
    for model in TREATMENTS:
        step = model()
        usual, slow = least_seconds(
            *[Side(lambda _, a=audio, s=step: treat(a, treatment=s, clock=clock)) for audio in (sound, tiny)]
        )
        found[step.label.lower()] = slow / usual
    return found
