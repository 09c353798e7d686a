"""Plumb on seeded stacks: what it promises is what is rendered afterwards, and no border is worse than it was."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import Equaliser, Split
from apilado.core.document.stack import Crossover
from apilado.core.notes import Note
from apilado.core.soundings.alignment import advise
from apilado.core.soundings.measures import measure
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.saturation import Saturation
from apilado.core.treatments.soft_clip import SoftClip
from tests.seeded.stacks import Dice, seeds
from tests.support import ENGINE, RATES, loader, plain_stack, rendered, sha256, wav


def _path(split, drive):
    drives = (drive,) if drive else ()
    return (*drives, Split(), Equaliser()) if split == "after" else (Split(), *drives, Equaliser())


def stacked(seed):
    """Two to four layers over each other: transposed, treated children, drops, slides, takes, drives, mixed borders."""
    dice = Dice(seed)
    rate = dice.of(RATES)
    count = dice.whole(2, 4)
    t = np.arange(rate * 2) / rate
    take = wav(0.3 * np.stack(2 * [sum(np.sin(2 * np.pi * 55.0 * n * t) / n for n in range(1, 20))]), rate)
    crossovers, at = [], dice.hz(80.0, 160.0)
    for _ in range(count - 1):
        kind = dice.of(("minimum-phase", "minimum-phase", "linear-phase"))
        crossovers.append(Crossover(frequency_hz=round(at, 1), slope_db_per_octave=dice.of((12, 24, 48)), kind=kind))
        at *= dice.between(2.0, 5.0)
    layers = []
    for band in range(count):
        kind = dice.of(("tone", "tone", "child", "treated", "take") if band else ("tone", "tone", "tone", "take"))
        source = ToneSource(
            tones=(
                Tone(
                    shape=dice.of(("saw", "square", "triangle")),
                    octave=dice.of((0, 0, 1)),
                    start_phase_deg=dice.between(0.0, 359.0, 1),
                ),
            ),
            velocity=0.0,
            drop_semitones=dice.of((0.0, 0.0, 12.0)),
            drop_ms=dice.between(20.0, 120.0),
        )
        envelope = Envelope(attack_ms=dice.hz(1.0, 20.0), sustain=dice.between(0.5, 1.0), release_ms=30.0)
        voice = Voice(envelope=envelope, glide_ms=dice.between(10.0, 80.0))
        if kind == "take":
            source = TakeSource(asset=sha256(take))
        elif kind in ("child", "treated"):
            source = LayerSound(layer=dice.of(layers).id, tap="source" if kind == "child" else "treated")
        drives = (SoftClip(drive_db=12.0), Saturation(), None, None)
        drive = dice.of(drives)
        layers.append(
            Layer(
                id=f"l{band}",
                name=f"part {band}",
                source=source,
                voice=voice,
                span=Span(first=band, last=band),
                transpose=dice.of((0, 0, 12, 7, -12)),
                path=_path(dice.of(("before", "after")), drive),
                level_db=dice.between(-9.0, 0.0),
                polarity=dice.of(("normal", "inverted")),
                delay_ms=dice.of((0.0, 0.0, 2.35)),
            )
        )
    pattern = tuple(
        Note(
            start_beats=b, length_beats=0.9 if b < 3 else 0.8, pitch=dice.whole(28, 40), slide=b == 2 and dice.one_in(3)
        )
        for b in range(4)
    )
    changes = {"layers": tuple(layers), "crossovers": tuple(crossovers), "pattern": pattern, "sample_rate": rate}
    return plain_stack(tempo_bpm=dice.between(90.0, 150.0, 1), **changes), loader({sha256(take): take})


def note_gains(stack, load, meetings):
    """Coherence gain of each meeting by NumPy alone: its note's stretch under a Hann window, the octave around the border."""
    sounds, rate, found = rendered(stack, load), stack.sample_rate, []
    beat = 60.0 / stack.tempo_bpm
    for m in meetings:
        note = next(n for n in stack.pattern if n.start_beats == m.start_beats)
        start = round(note.start_beats * beat * rate)
        frames = round(note.end_beats * beat * rate) - start
        lead = round(0.015 * rate)
        where = np.arange(start + lead, start + min(frames, lead + round(0.4 * rate)))
        a, b = (sounds[n].mean(axis=0)[where % sounds[n].shape[1]] * np.hanning(where.size) for n in (m.lower, m.upper))
        at = np.fft.rfftfreq(1 << 18, 1 / rate)
        inside = (at >= m.border_hz / 2**0.5) & (at <= m.border_hz * 2**0.5)

        def power(x, inside=inside):
            return float(np.sum(np.abs(np.fft.rfft(x, 1 << 18)[inside]) ** 2))

        found.append(10 * np.log10(max(power(a + b), 1e-30) / (power(a) + power(b))))
    return np.array(found)


def border_gains(stack, load, meetings):
    """The same for each pair of neighbours, all their notes together."""
    gains = {}
    sounds, rate = rendered(stack, load), stack.sample_rate
    for lower, upper, hertz in {(m.lower, m.upper, m.border_hz) for m in meetings}:
        a, b = sounds[lower].mean(axis=0), sounds[upper].mean(axis=0)
        at = np.fft.rfftfreq(a.size, 1 / rate)
        inside = (at >= hertz / 2**0.5) & (at <= hertz * 2**0.5)
        powers = [float(np.sum(np.abs(np.fft.rfft(x)[inside]) ** 2)) for x in (a + b, a, b)]
        gains[lower, upper] = 10 * np.log10(powers[0] / (powers[1] + powers[2]))
    return gains


class SeededPlumbTest(unittest.TestCase):
    def test_a_promise_is_what_is_rendered(self):
        offered = 0
        for seed in seeds(10):
            stack, load = stacked(seed)
            advice = advise(measure(stack, load, ENGINE), "worst" if seed % 3 else "mean")
            if advice.edit is None:
                self.assertEqual(advice.solution.before_db, advice.solution.after_db)
                continue
            offered += 1
            mended = apply(stack, advice.edit)
            judged = [i for i, m in enumerate(advice.meetings) if m.meets and not m.drifts]
            before, after = (note_gains(s, load, advice.meetings) for s in (stack, mended))
            promised = np.array(advice.solution.after_db)
            # Where two sounds all but cancel, their gain is that of what is left: it has no such tolerance.
            deep = np.minimum(promised, after) < -15.0
            apart = np.abs(promised - after)[judged]
            self.assertLess(np.max(apart[~deep[judged]], initial=0.0), 0.3, seed)
            if seed % 3:
                self.assertGreater(after[judged].min(), before[judged].min() + 0.2, seed)
            for pair in {(m.lower, m.upper) for m in advice.meetings}:
                members = [i for i in judged if (advice.meetings[i].lower, advice.meetings[i].upper) == pair]
                reckon = np.min if seed % 3 else np.mean
                if members:
                    self.assertGreater(reckon(after[members]), reckon(before[members]) - 0.35, (seed, pair))
            whole = [border_gains(s, load, advice.meetings) for s in (stack, mended)]
            for pair, gain in whole[0].items():
                self.assertGreater(whole[1][pair], gain - 0.35, (seed, pair))
        self.assertGreater(offered, 3)


if __name__ == "__main__":
    unittest.main()
