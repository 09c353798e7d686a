"""What lies around a sound: the rounds of a loop, or silence."""

import unittest

import numpy as np

from apilado.core.dsp.lead_in import taken_out


class TakenOutTest(unittest.TestCase):
    def test_round_a_loop_however_short_it_is_else_into_silence(self):
        for frames in (1, 7, 100):
            for channels in (None, 1, 2):
                shape = (frames,) if channels is None else (channels, frames)
                sound = np.arange(1.0, 1.0 + np.prod(shape)).reshape(shape).astype(np.float32)
                for begin, end in (
                    (0, frames),
                    (-3, 2),
                    (-40, 130),
                    (frames - 1, frames + 9),
                    (2, 5),
                    (-9, -2),
                    (120, 131),
                ):
                    at = np.arange(begin, end)
                    inside = (at >= 0) & (at < frames)
                    round_it = taken_out(sound, begin, end, looped=True)
                    self.assertEqual(round_it.tolist(), np.take(sound, at % frames, axis=-1).tolist())
                    silent = np.where(inside, np.take(sound, at % frames, axis=-1), 0.0)
                    self.assertEqual(taken_out(sound, begin, end, looped=False).tolist(), silent.tolist(), (begin, end))
