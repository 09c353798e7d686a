"""Every source in the corners of its parameters: finite, bounded, and the same in a loop twice."""

import unittest

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.notes import Note
from apilado.core.parameters import parameters_of
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import DrawnCycle, Modulation, Tone
from apilado.core.treatments.filter import Filter
from tests.seeded.stacks import Dice, seeds
from tests.support import ENGINE, RATES, graph_of, loader, plain_stack, sha256, wav

NOTES = (Note(length_beats=0.7, pitch=28, velocity=127), Note(start_beats=1.5, length_beats=1.0, pitch=52))
LOUDEST = 2000.0
"""+24 dB of gain, +24 dB of a filter's output, a resonance of 32 dB, six waves at +12 dB."""


def corner(dice, model, **fixed):
    """A model with every number at one end of its range, every choice and switch at random."""
    values = {}
    for parameter in parameters_of(model):
        if parameter.name in fixed or parameter.kind in ("text", "numbers", "reference", "map"):
            continue
        if parameter.kind in ("number", "integer", "pitch"):
            end = dice.of((parameter.low, parameter.high))
            values[parameter.name] = int(end) if parameter.kind != "number" else end
        elif parameter.kind == "choice":
            values[parameter.name] = dice.of([value for value, _ in parameter.choices])
        else:
            values[parameter.name] = dice.one_in(2)
    return model(**{**values, **fixed})


def tone(dice):
    cycles = (DrawnCycle(harmonics=(1.0, 2.0)), DrawnCycle(harmonics=(0.0, 0.0, 2.0)))
    waves = [corner(dice, Tone, id=f"w{n}", on=True, table=cycles) for n in range(3)]
    if dice.one_in(2):
        first = waves[0].model_copy(update={"into": (Modulation(wave="w2", index=12.0),)})
        waves = [first, *waves[1:]]
    filters = tuple(corner(dice, Filter) for _ in range(2))
    return corner(dice, ToneSource, tones=tuple(waves), filters=filters)


class CornersTest(unittest.TestCase):
    def setUp(self):
        t = np.arange(30000) / 44100
        content = wav((0.5 * np.sin(2 * np.pi * 80.0 * t) * np.exp(-3.0 * t))[None].astype(np.float32), 44100)
        self.asset, self.load = sha256(content), loader({sha256(content): content})

    def source(self, dice, number):
        if number % 3 == 0:
            return corner(dice, SampleSource, asset=self.asset, slices_ms=(0.0, 200.0))
        if number % 7 == 0:
            return corner(dice, TakeSource, asset=self.asset, every_beats=dice.of((0.0, 1.0)))
        return tone(dice)

    def test_finite_and_bounded(self):
        heard = 0
        for seed in seeds(36):
            dice = Dice(seed)
            layer = Layer(id="a", source=self.source(dice, seed))
            stack = plain_stack(layers=(layer,), pattern=NOTES, sample_rate=RATES[seed % 3], bars=1)
            with self.subTest(seed=seed):
                (sound,) = ENGINE.run([graph_of(stack, self.load).sources["a"]])
                self.assertTrue(np.all(np.isfinite(sound)))
                self.assertLess(np.abs(sound).max(), LOUDEST)
                heard += bool(np.abs(sound).max() > 1e-4)
        self.assertGreater(heard, 15)
