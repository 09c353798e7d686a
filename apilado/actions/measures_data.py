"""The measurements of a stack as plain values, as a delivery reports them."""

from __future__ import annotations

from typing import Any

from apilado import __version__
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.registry import sound
from apilado.core.units import gain_to_db


def measures_data(measures: Measures) -> dict[str, Any]:
    """The measurements of a stack as plain values."""
    loudness = measures.output_loudness
    return {
        "apilado": __version__,
        "name": measures.stack.name,
        "rate_hz": measures.clock.rate_hz,
        "loop_frames": measures.clock.loop_frames,
        "mix": {
            "integrated_lkfs": round(loudness.integrated_lkfs, 2),
            "momentary_max_lkfs": round(loudness.momentary_max_lkfs, 2),
            "true_peak_dbtp": round(loudness.true_peak_dbtp, 2),
        },
        "headroom": {
            "without_duck_dbfs": round(measures.headroom.before_db, 2),
            "with_duck_dbfs": round(measures.headroom.after_db, 2),
        },
        "bass_peak_db": round(float(gain_to_db(measures.bass.peak)), 2),
        "kick_peak_db": round(float(gain_to_db(measures.kick.peak)), 2),
        "layers": {
            name: {
                "level_db": round(stem.level_db(), 2),
                "peak_db": round(float(gain_to_db(stem.peak)), 2),
                "notes": [
                    {
                        "start_beats": note.start_beats,
                        "pitch": note.pitch,
                        "level_db": round(note.level_db, 2),
                        "frequency_hz": None if note.frequency_hz is None else round(note.frequency_hz, 2),
                    }
                    for note in measures.notes[name]
                ],
            }
            for name, stem in measures.stems.items()
        },
        "borders": [
            {
                "crossover": index,
                "frequency_hz": border.frequency_hz,
                "lower": border.lower,
                "upper": border.upper,
                "phase_deg": round(border.phase_deg, 1),
                "coherence_gain_db": round(border.coherence_gain_db, 2),
            }
            for index, border in measures.borders
        ],
        "soundings": [sounding.as_data() for sounding in sound(measures)],
    }
