import unittest
from dataclasses import replace

import numpy as np

from apilado.core.clock import Clock
from apilado.core.notes import Note
from apilado.core.sources.base import Score
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Voice
from apilado.core.sources.voicing import RUNS
from apilado.core.sources.wave import Modulation, Tone
from tests.support import sine

CLOCK = Clock(tempo_bpm=120.0, beats=8.0, rate_hz=48000, looped=True)
NOTES = tuple(Note(start_beats=float(n), length_beats=0.8, pitch=30 + n % 2) for n in range(8))

SHORTER = replace(CLOCK, looped=False, beats=7.0)
OTHER = 48000 / 44100
STRETCHED = tuple(
    note.model_copy(update={"start_beats": note.start_beats * OTHER, "length_beats": 0.8 * OTHER}) for note in NOTES
)
SOUND = sine(110.0, 6.0)


def play(source, notes=NOTES, clock=CLOCK, seed=1, **score):
    return source.render(Score(notes, 0, seed, Voice(), **score), clock, lambda sha256, rate_hz: SOUND)


def anew(*given, **named):
    RUNS.clear()
    return play(*given, **named)


class KeptRunsTest(unittest.TestCase):
    """A note that was played before is the same sound; whatever it hangs on makes it another."""

    def setUp(self):
        RUNS.clear()
        self.played = []
        plain = ToneSource._run

        def counted(source, run, *rest):
            self.played.append(run)
            return plain(source, run, *rest)

        ToneSource._run = counted
        self.addCleanup(setattr, ToneSource, "_run", plain)

    def never_mistaken(self, given):
        """Each of some sounds is what it is anew, whatever was played before."""
        wanted = [anew(**each) for each in given]
        RUNS.clear()
        for _ in range(2):
            for each, sound in zip(given, wanted, strict=True):
                with self.subTest(**each):
                    np.testing.assert_array_equal(play(**each), sound)

    def test_each_note_is_made_once_and_again_where_it_changed(self):
        source = ToneSource(tones=(Tone(copies=3), Tone(shape="square")))
        first = play(source)
        self.assertEqual(len(self.played), 2)
        moved = (*NOTES[:-1], NOTES[-1].model_copy(update={"pitch": 35}))
        found = play(source, moved)
        self.assertEqual(len(self.played), 3)
        np.testing.assert_array_equal(found, anew(source, moved))
        np.testing.assert_array_equal(play(source), first)

    def test_what_it_hangs_on_is_never_mistaken(self):
        sources = {
            "plain": ToneSource(tones=(Tone(),)),
            "octave": ToneSource(tones=(Tone(octave=1),)),
            "free": ToneSource(tones=(Tone(phase="free"),)),
            "noise": ToneSource(tones=(Tone(shape="noise"),)),
            "pushed": ToneSource(
                tones=(Tone(id="a", shape="noise", into=(Modulation(wave="b"),)), Tone(id="b", shape="sine"))
            ),
            "drop": ToneSource(tones=(Tone(),), drop_semitones=12.0),
        }
        softer = tuple(note.model_copy(update={"velocity": 40}) for note in NOTES)
        shorter = tuple(note.model_copy(update={"length_beats": 0.5}) for note in NOTES)
        long = (*NOTES[:-1], NOTES[-1].model_copy(update={"length_beats": 3.0}))
        given = [
            *({"source": source} for source in sources.values()),
            *({"source": source, "seed": 2} for source in sources.values()),
            *({"source": source, "chance": "order"} for source in sources.values()),
            {"source": sources["plain"], "notes": softer},
            {"source": sources["plain"], "notes": shorter},
            {"source": sources["plain"], "notes": long},
            {"source": sources["plain"], "notes": long, "clock": replace(CLOCK, looped=False)},
            {"source": sources["plain"], "clock": replace(CLOCK, rate_hz=44100)},
            {"source": sources["plain"], "clock": replace(CLOCK, tempo_bpm=97.3)},
            {"source": sources["free"], "clock": CLOCK.stretch(100000, 50000)},
            # A pass that ends in the last note, and one that ends later in it.
            {"source": sources["plain"], "notes": (Note(length_beats=9.0),), "clock": SHORTER},
            {"source": sources["plain"], "notes": (Note(length_beats=9.0),), "clock": replace(CLOCK, looped=False)},
            # As many frames as at 48 kHz.
            {"source": sources["plain"], "notes": STRETCHED, "clock": replace(CLOCK, rate_hz=44100, beats=8.0 * OTHER)},
        ]
        self.never_mistaken(given)

    def test_chance_draws_for_each_note_as_before(self):
        source = ToneSource(tones=(Tone(phase="free"),))
        play(source)
        self.assertEqual(len(self.played), len(NOTES))
        play(source)
        self.assertEqual(len(self.played), len(NOTES))

    def test_a_sample_too(self):
        source = SampleSource(asset="0" * 64, velocity=1.0)
        softer = tuple(note.model_copy(update={"velocity": 40}) for note in NOTES)
        held = (Note(length_beats=9.0),)
        given = [
            {"source": source},
            {"source": source, "notes": softer},
            {"source": source.model_copy(update={"gain_db": -6.0})},
            {"source": source, "notes": held, "clock": SHORTER},
            {"source": source, "notes": held, "clock": replace(CLOCK, looped=False)},
        ]
        self.never_mistaken(given)
