"""Any stretch of the endless repetition is the loop there."""

import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.curves import Curve
from apilado.core.render.graph import clock_of
from apilado.core.render.stretch import stretch_of
from apilado.core.units import db_to_gain
from tests.seeded.stacks import Dice, seeded_stack, seeds
from tests.support import ENGINE, graph_of, rendered

AGREES_DB, FLOOR_DB = -60.0, -120.0


class StretchTest(unittest.TestCase):
    def test_it_is_what_the_loop_is_there(self):
        compared = 0
        for seed in seeds(12, first=700):
            stack, load = seeded_stack(seed)
            loop, dice = rendered(stack, load), Dice(seed)
            total = clock_of(stack, looped=True).frames
            for begins in (0, dice.whole(0, total - 1), total - 100, 3 * total + dice.whole(0, total - 1)):
                frames = dice.whole(200, stack.sample_rate // 2)
                stretch = stretch_of(stack, load, begins, frames)
                names = [layer.id for layer in stack.layers] + ["bass", "kick", "output"]
                wanted = [stretch.graph.layers.get(name) or getattr(stretch.graph, name) for name in names]
                there = (begins + np.arange(frames)) % total
                for name, found in zip(names, ENGINE.run(wanted), strict=True):
                    apart = float(np.abs(stretch.cut(found) - loop[name][:, there]).max())
                    # Of its own peak; 32-bit floats end at the floor under what went in.
                    allowed = db_to_gain(AGREES_DB) * float(np.abs(loop[name]).max()) + db_to_gain(FLOOR_DB)
                    self.assertLess(apart, allowed, (seed, name, begins, frames))
                    compared += 1
        self.assertGreater(compared, 150)

    def test_what_comes_from_notes_and_hits_alone_is_there_exactly(self):
        for seed in seeds(12, first=800):
            stack, load = seeded_stack(seed)
            stack = stack.model_copy(update={"movements": ()})
            total = clock_of(stack, looped=True).frames
            stretch = stretch_of(stack, load, total - 5000, 10000)
            whole = graph_of(stack, load)
            there = (total - 5000 + np.arange(10000)) % total
            for name, source in whole.sources.items():
                loop, found = ENGINE.run([source, stretch.graph.sources[name]])
                if stack.layer(name).source.follows() is None:
                    np.testing.assert_allclose(stretch.cut(found), loop[:, there], atol=1e-6, err_msg=f"{seed} {name}")
            for name, key in whole.keys.items():
                loop, found = ENGINE.run([key, stretch.graph.keys[name]])
                np.testing.assert_allclose(stretch.cut(found), loop[:, there], atol=1e-6)

    def test_places_in_the_repetition(self):
        clock = Clock(tempo_bpm=120.0, beats=1.0, rate_hz=1000, looped=True)
        self.assertEqual((clock.frames, clock.places(100, 50)), (500, [100]))
        cut = clock.stretch(1040, 600)
        self.assertEqual((cut.frames, cut.comes_round, cut.looped), (600, True, False))
        # What starts at 100 comes by at 1100 and 1600; what starts at 0 and lasts 50 reaches into it from before.
        self.assertEqual(cut.places(100, 50), [60, 560])
        self.assertEqual(cut.places(0, 50), [-40, 460])
        self.assertEqual(cut.places(0, 40), [460])
        self.assertEqual(cut.places(0, 1200), [-1040, -540, -40, 460])
        self.assertEqual(list(cut.around()[:3]), [40, 41, 42])
        self.assertEqual(cut.whole, clock)

    def test_a_curve_is_cut_as_it_goes_round(self):
        curve = Curve(np.array([0, 100, 300, 500]), np.array([0.0, 1.0, 0.5, 0.0]))
        twice = np.tile(curve.per_frame(), 4)
        for begins, frames in ((0, 500), (40, 20), (450, 200), (1040, 700), (700, 1)):
            cut = curve.stretch(begins, frames)
            self.assertEqual((cut.at[0], cut.frames), (0, frames))
            np.testing.assert_allclose(cut.per_frame(), twice[begins : begins + frames], atol=1e-12)


if __name__ == "__main__":
    unittest.main()
