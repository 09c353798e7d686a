"""What holds for every render, tried on seeded stacks: finite, bounded, one seam, one tail, one sound however it is asked."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.actions.delivery import rendered_files
from apilado.actions.delivery_plan import DeliveryOptions
from apilado.core.document.kick import SynthKick
from apilado.core.dsp.audio import sounding_until
from apilado.core.formats.audio_files import read_audio
from apilado.core.render.bouncing import SILENT_DB
from apilado.core.render.graph import clock_of
from apilado.core.sources.tone import ToneSource
from apilado.core.units import db_to_gain
from tests.seeded.stacks import seeded_stack, seeds
from tests.seeded.variants import (
    begun_by_notes,
    linear,
    on_whole_frames,
    rotated,
    twice,
    without_chance,
    without_slides,
    without_slides_over_the_seam,
    without_takes,
)
from tests.support import ENGINE, graph_of, rendered

LOOP_DB, FLOOR_DB = -80.0, -110.0


class SeededRenderTest(unittest.TestCase):
    def same(self, found, expected, loudest, said):
        """Equal to -80 dB of their own peak, or to -110 dB of the loudest sound that went in: 32-bit floats end there."""
        allowed = db_to_gain(LOOP_DB) * np.abs(expected).max(initial=0.0) + db_to_gain(FLOOR_DB) * loudest
        self.assertLess(np.abs(found - expected).max(initial=0.0), allowed + 1e-9, said)

    def test_finite_bounded_and_under_the_ceiling(self):
        for seed in seeds(10):
            stack, load = seeded_stack(seed)
            sounds = rendered(stack, load)
            for name, audio in sounds.items():
                self.assertTrue(np.all(np.isfinite(audio)), (seed, name))
                self.assertLess(np.abs(audio).max(), 100.0, (seed, name))
                self.assertEqual(audio.shape, (2, clock_of(stack, looped=True).frames))
            if stack.bus.limiter.on:
                moved = [t for m in stack.movements if m.on for t in m.targets if t.path == "bus/limiter/ceiling_db"]
                ceiling_db = min(0.0, stack.bus.limiter.ceiling_db + sum(abs(target.travel) for target in moved))
                self.assertLessEqual(np.abs(sounds["bass"]).max(), db_to_gain(ceiling_db) * 1.0001, seed)

    def test_a_loop_twice_is_the_loop(self):
        for seed in seeds(6):
            stack, load = seeded_stack(seed)
            stack = without_slides_over_the_seam(without_takes(without_chance(on_whole_frames(stack))))
            stack = begun_by_notes(stack)
            once, both = rendered(stack, load), rendered(twice(stack), load)
            loudest = max(np.abs(audio).max() for audio in once.values())
            for name, audio in once.items():
                frames = audio.shape[1]
                self.same(both[name][:, :frames], audio, loudest, (seed, name, "first round"))
                self.same(both[name][:, frames:], audio, loudest, (seed, name, "second round"))

    def test_wherever_a_loop_begins_it_is_the_same_loop(self):
        for seed in seeds(6, first=100):
            stack, load = seeded_stack(seed)
            stack = begun_by_notes(without_slides(without_takes(without_chance(on_whole_frames(stack)))))
            here, there = rendered(stack, load), rendered(rotated(stack, 1.0), load)
            loudest = max(np.abs(audio).max() for audio in here.values())
            shift = clock_of(stack, looped=True).sample_at(1.0)
            for name, audio in here.items():
                self.same(there[name], np.roll(audio, shift, axis=1), loudest, (seed, name))

    def test_one_pass_folded_is_the_loop(self):
        # Only what adds up, and with one voice that the seam does not cut: notes end before it, and quickly.
        for seed in seeds(10, first=200):
            stack, load = seeded_stack(seed)
            stack = _short_notes(linear(without_chance(on_whole_frames(stack))))
            loop, once = rendered(stack, load), rendered(stack, load, looped=False)
            went_in = ENGINE.run([*graph_of(stack, load).sources.values()])
            loudest = max(np.abs(audio).max() for audio in (*loop.values(), *went_in))
            frames = loop["bass"].shape[1]
            for name in [layer.id for layer in stack.layers] + ["bass"]:
                long = once[name]
                padded = np.pad(long, ((0, 0), (0, -long.shape[1] % frames)))
                folded = padded.reshape(2, -1, frames).sum(axis=1)
                self.same(folded, loop[name], loudest, (seed, name))

    def test_a_delivery_ends_when_it_has_rung_out_and_not_much_later(self):
        for seed in seeds(2, first=300):
            stack, load = seeded_stack(seed)
            options = DeliveryOptions(extent="one-pass", bits="32f", rate_hz=stack.sample_rate)
            files = {}
            for name, content in rendered_files(stack, load, ENGINE, options, lambda *_: None):
                if name.endswith(".wav"):
                    files[name] = read_audio(content, name)[0]
            frames = {audio.shape[1] for audio in files.values()}
            self.assertEqual(len(frames), 1, seed)
            last = round(0.02 * stack.sample_rate)
            for name, audio in files.items():
                self.assertLess(np.abs(audio[:, -last:]).max(), db_to_gain(-90.0), (seed, name))
            needed = max(sounding_until(audio, SILENT_DB) for audio in files.values())
            beats_end = clock_of(stack, looped=True).frames
            self.assertLess(frames.pop(), max(needed, beats_end) + stack.sample_rate, seed)
            # What is there is all there is: twice the tail would add nothing.
            longer = _with_tail(stack, load, 2.0)
            mix = files["mix.wav"]
            self.assertLess(np.abs(longer[:, mix.shape[1] :]).max(initial=0.0), db_to_gain(-90.0), seed)

    def test_the_same_bytes_again(self):
        for seed in seeds(3, first=400):
            stack, load = seeded_stack(seed)
            for bits in ("24", "32f"):
                options = DeliveryOptions(bits=bits, rate_hz=stack.sample_rate)
                found = [dict(rendered_files(stack, load, ENGINE, options, lambda *_: None)) for _ in range(2)]
                self.assertEqual(*found)


def _with_tail(stack, load, times):
    """The mix of a single pass with a tail some times as long as the bound that the parts give."""
    from dataclasses import replace

    from apilado.core.render.graph import build

    clock = clock_of(stack, looped=False)
    clock = replace(clock, tail_seconds=times * clock.tail_seconds)
    return ENGINE.run([build(stack, clock, load).output])[0]


def _short_notes(stack):
    """Notes that end, released, before the last sixteenth of the piece, and no hit or take over its end."""
    last = stack.beats - 0.25

    def shortened(notes):
        if notes is None:
            return None
        kept = [note for note in notes if note.start_beats < last - 0.25]
        return tuple(n.model_copy(update={"length_beats": min(n.length_beats, last - n.start_beats)}) for n in kept)

    def quick(layer):
        own = layer.voice or stack.voice
        voice = own.model_copy(update={"envelope": own.envelope.model_copy(update={"release_ms": 20.0})})
        return layer.model_copy(update={"voice": voice, "notes": shortened(layer.notes), "note_levels_db": {}})

    kick = stack.kick.model_copy(update={"sound": SynthKick(decay_ms=100.0), "mute": True})
    layers = tuple(quick(layer) for layer in stack.layers)
    return stack.model_copy(update={"pattern": shortened(stack.pattern), "layers": layers, "kick": kick})


class TailTest(unittest.TestCase):
    """The two cases that were cut off, each by what it is made of."""

    def test_a_long_kick_on_the_last_beat(self):
        from apilado.core.document.kick import Kick
        from tests.support import plain_stack

        kick = Kick(sound=SynthKick(decay_ms=3000.0, click=0.0), hits=(3.0,), level_db=0.0)
        once = rendered(plain_stack(kick=kick), looped=False)["output"]
        # It falls by 60 dB in its three seconds and ends: 2.5 s of them lie behind the last beat.
        self.assertGreater(once.shape[1] / 48000, 2.0 + 2.5)
        at = round((1.5 + 2.9) * 48000)
        self.assertGreater(np.abs(once[:, at : at + 2000]).max(), db_to_gain(-70.0))

    def test_a_note_that_is_held_over_the_end(self):
        from apilado.core.document.layer import Layer
        from apilado.core.notes import Note
        from apilado.core.sources.voice import Envelope, Voice
        from apilado.core.sources.wave import Tone
        from tests.support import plain_stack

        organ = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
        held = Voice(envelope=Envelope(sustain=1.0, release_ms=100.0))
        pattern = (Note(start_beats=3.0, length_beats=5.0, pitch=33),)
        once = rendered(plain_stack(layers=(Layer(id="a", source=organ, voice=held),), pattern=pattern), looped=False)[
            "bass"
        ]
        held = once[0, round(1.6 * 48000) : round(3.9 * 48000)]
        assert_allclose(np.sqrt(2 * np.mean(held.astype(float) ** 2)), 1.0, atol=0.01)
        self.assertLess(np.abs(once[:, round(4.15 * 48000) :]).max(initial=0.0), 1e-4)


if __name__ == "__main__":
    unittest.main()
