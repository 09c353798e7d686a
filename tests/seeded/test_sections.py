"""Sections against a plain reference: every form rendered whole, and cut together by the test."""

import unittest

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer
from apilado.core.document.path import layer_path
from apilado.core.document.stack import Bus, Limiter, Stack
from apilado.core.render.graph import clock_of
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.treatments.soft_clip import SoftClip
from tests.seeded.moving import drawn_movements
from tests.seeded.sectioned import drawn_sections, values_to_change
from tests.seeded.stacks import Dice, _hits, _own_voice, _pattern, _tone, seeds
from tests.support import RATES, rendered

RAMP_MS, OVERSAMPLING_MS = 10.0, 3.0
AGREES = 2e-4
"""Of full scale: twice what a curve that stands still may differ from its number."""
REMEMBERING = (
    "send",
    "delay_ms",
    "mono_below_hz",
    "sound",
    "attack_db",
    "sustain_db",
    "clip_db",
    "offset_ms",
    "reach",
    "limiter",
)
"""What is heard after the bars in which it is set, or before them: delays, hits, the linear phase of a duck in a band."""
FORGETFUL = {
    "before_high_pass_hz": 20.0,
    "before_low_pass_hz": 20000.0,
    "after_high_pass_hz": 20.0,
    "after_low_pass_hz": 20000.0,
    "keep_level": False,
}
"""Of a drive: no filters, and a level that does not come of the whole loop."""
TIMED = ("send", "delay", "mono", "pitch_st", "cents", "pulse_width", "sync", "bend")
"""Where these move, a note comes of all that has been since it began, or of how far they move in it."""
WITHIN = ("layers", "duckers", "bus", "movements", "kick", "voice")


def forgetful_stack(seed):
    """A stack of parts that have no memory: every moment of it depends on notes, hits and values alone."""
    dice = Dice(60_000 + seed)
    beats_per_bar = dice.whole(2, 4)
    bars = dice.whole(2, 4)
    layers, clipped = [], dice.one_in(2)
    for number in range(dice.whole(1, 2)):
        source, voice = _tone(dice)
        clip = (dice.part(SoftClip).model_copy(update=FORGETFUL),) if clipped else ()
        name = f"l{number}"
        given = {"source": source, "voice": _own_voice(voice, dice), "path": layer_path(*clip)}
        layers.append(Layer(id=name, name=name, pan=dice.of((0.0, 0.3)), level_db=dice.between(-12.0, 0.0), **given))
    stack = Stack(
        name=f"Seed {seed}",
        tempo_bpm=dice.between(110.0, 220.0, 1),
        beats_per_bar=beats_per_bar,
        bars=bars,
        sample_rate=dice.of(RATES[:2]),
        pattern=_pattern(dice, bars * beats_per_bar),
        kick=Kick(sound=SynthKick(decay_ms=80.0), hits=_hits(dice, bars * beats_per_bar)),
        layers=tuple(layers),
        bus=Bus(path=(), limiter=Limiter(on=False)),
        duckers=(Ducker(id="duck", shape=DrawnDuck()),) if dice.one_in(2) else (),
    )
    if dice.one_in(3):
        moved = [m for m in drawn_movements(dice, stack) if m.shape.follows() is None]
        moved = [m for m in moved if not any(any(name in t.path for name in TIMED) for t in m.targets)]
        stack = Stack.model_validate({**stack.model_dump(), "movements": [m.model_dump() for m in moved]})
    values = [
        (path, parameter, value)
        for path, parameter, value in values_to_change(stack)
        if path.startswith(WITHIN)
        and not any(name in path.split("/") for name in (*REMEMBERING, *FORGETFUL))
        and not (parameter.moves and any(name in path for name in TIMED))
        and not (clipped and remembered_by_a_clip(path, parameter))
    ]
    return drawn_sections(dice, stack, values=values)


def remembered_by_a_clip(path, parameter):
    """Whether a change reaches a clip's DC blocker, which remembers what it was given for a while."""
    before = any(name in path for name in ("movements", "voice", "source", "transpose"))
    return before or ("path" in path and parameter.moves)


class ReferenceTest(unittest.TestCase):
    def test_each_form_rendered_whole_and_cut_together(self):
        compared, differing = 0, 0
        for seed in seeds(20):
            stack = forgetful_stack(seed)
            plain = stack.model_copy(update={"sections": ()})
            for looped in (True, False):
                found, whole = rendered(stack, looped=looped), rendered(plain, looped=looped)
                clock = clock_of(stack, looped=looped)
                frames = found["output"].shape[1]
                expected = {name: self.padded(audio, frames).copy() for name, audio in whole.items()}
                compare = np.ones(frames, bool)
                for section in stack.sections:
                    form = plain
                    for change in section.changes:
                        form = apply(form, SetValue(path=change.path, value=change.value))
                    there = rendered(form, looped=looped)
                    first = clock.sample_at(float((section.first_bar - 1) * stack.beats_per_bar))
                    last = clock.sample_at(float(section.last_bar * stack.beats_per_bar))
                    behind = frames if last == clock.loop_frames else last
                    silent = {c.path.split("/")[1] for c in section.changes if c.path.endswith("/mute") and c.value}
                    for name, audio in there.items():
                        expected[name][:, first:behind] = self.padded(audio, frames)[:, first:behind]
                        if name in silent:
                            expected[name][:, first:behind] = 0.0
                    ramp = round((RAMP_MS + OVERSAMPLING_MS) * clock.rate_hz / 1000.0)
                    after = round(OVERSAMPLING_MS * clock.rate_hz / 1000.0)
                    for line in (first, behind):
                        near = np.arange(line - ramp, line + after)
                        near = near % frames if looped else near[(near >= 0) & (near < frames)]
                        compare[near] = False
                    differing += bool(section.changes)
                for name in ("bus_input", "bass", "output"):
                    apart = float(np.abs(found[name] - expected[name])[:, compare].max(initial=0.0))
                    peak = max(1.0, float(np.abs(expected[name]).max()))
                    told = (seed, looped, name, [[(c.path, c.value) for c in s.changes] for s in stack.sections])
                    self.assertLess(apart, AGREES * peak, told)
                    compared += 1
        self.assertGreater(differing, 30)
        self.assertGreater(compared, 100)

    @staticmethod
    def padded(audio, frames):
        return np.pad(audio, ((0, 0), (0, max(0, frames - audio.shape[1]))))[:, :frames]


if __name__ == "__main__":
    unittest.main()
