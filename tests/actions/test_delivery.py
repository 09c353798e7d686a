"""What a delivery writes: sections apart, levels, names, MIDI, and the check of its sum."""

import io
import json
import unittest

import mido
import numpy as np

from apilado.actions.delivery import clipping_in_words, rendered_files, sum_in_words
from apilado.actions.delivery_plan import DeliveryOptions, file_names, stretches_of
from apilado.core.document.addresses import replaced
from apilado.core.document.movement import Movement, Target
from apilado.core.document.section import PieceSection
from apilado.core.document.stack import Stack
from apilado.core.formats.audio_files import read_audio
from apilado.core.measure.loudness import measure_loudness
from apilado.core.shapes.step_course import StepCourse
from apilado.demo.stacks import slipway
from apilado.errors import ApiladoError
from tests.seeded.sectioned import drawn_sections
from tests.seeded.stacks import Dice, seeded_stack, seeds
from tests.support import ENGINE, loader, plain_stack


def sectioned():
    sections = (
        PieceSection(id="a", name="fill & out", first_bar=4, last_bar=4),
        PieceSection(id="b", name="lift", first_bar=2, last_bar=2),
    )
    return slipway().stack.model_copy(update={"sections": sections})


def delivered(stack, load=None, **options):
    given = {"rate_hz": stack.sample_rate, **options}
    files = rendered_files(stack, load or loader({}), ENGINE, DeliveryOptions(**given), lambda *_: None, state=12)
    return dict(files)


def audio_in(files):
    return {name: read_audio(data, name)[0] for name, data in files.items() if name.endswith(".wav")}


class SectionsTest(unittest.TestCase):
    def test_apart_they_sum_to_the_whole(self):
        cases = [(sectioned(), None)]
        for seed in seeds(1, first=70):
            stack, load = seeded_stack(seed)
            cases.append((drawn_sections(Dice(seed), stack), load))
        for number, (stack, load) in enumerate(cases):
            for extent in ("loop", "one-pass"):
                plain = {"bits": "32f", "extent": extent, "layers": False, "kick": False, "space": False}
                whole = audio_in(delivered(stack, load, **plain))["mix.wav"]
                pieces = audio_in(delivered(stack, load, **plain, sections="apart"))
                joined = np.concatenate([audio for name, audio in pieces.items() if name.endswith("mix.wav")], axis=1)
                with self.subTest(number=number, extent=extent):
                    np.testing.assert_array_equal(joined, whole)

    def test_what_they_are_called(self):
        stack = sectioned()
        self.assertEqual(
            [
                (each.name, each.first_bar, each.last_bar)
                for each in stretches_of(stack, DeliveryOptions(sections="apart"))
            ],
            [("bar 1", 1, 1), ("lift", 2, 2), ("bar 3", 3, 3), ("fill & out", 4, 4)],
        )
        options = {"sections": "apart", "bass": False, "kick": False, "layers": False}
        folders = file_names(stack, DeliveryOptions(**options))
        self.assertEqual(folders, ["01-bar-1/mix.wav", "02-lift/mix.wav", "03-bar-3/mix.wav", "04-fill-out/mix.wav"])
        named = file_names(stack, DeliveryOptions(**options, names="{section}_{part}"))
        self.assertEqual(named[3], "04-fill-out_mix.wav")
        self.assertEqual(file_names(slipway().stack, DeliveryOptions(**options)), ["mix.wav"])


class NamesTest(unittest.TestCase):
    def test_fields(self):
        options = DeliveryOptions(
            names="{stack}-{tempo}-{key}-{part}-{rate}-{state}", bass=False, kick=False, layers=False
        )
        for changes, said in (
            ({}, "slipway-126-fmin-mix-48000-12.wav"),
            (
                {"tempo_bpm": 87.5, "key": "C# major", "name": "Ünder / Böat"},
                "nder-B-at-87.5-csmaj-mix-48000-12.wav".lower(),
            ),
        ):
            stack = Stack.model_validate({**slipway().stack.model_dump(), **changes})
            self.assertEqual(file_names(stack, options, 12), [said])

    def test_nothing_leaves_the_folder(self):
        for names in ("../{part}", "/etc/{part}", "a/../../{part}", "..", "{part}\\..\\x"):
            for name in file_names(slipway().stack, DeliveryOptions(names=names, layers=False, bass=False, kick=False)):
                self.assertNotIn("/", name)
                self.assertFalse(name.startswith("."), name)

    def test_refusals(self):
        for names, said in (("{part", None), ("{}", "no field"), ("{part.__class__}", "no field"), ("x", "two files")):
            options = DeliveryOptions(names=names)
            with self.subTest(names):
                if said is None:
                    self.assertRaises(ApiladoError, file_names, slipway().stack, options)
                    continue
                with self.assertRaisesRegex(ApiladoError, said):
                    file_names(slipway().stack, options)


class LevelTest(unittest.TestCase):
    def test_a_loudness_and_a_peak(self):
        stack = slipway().stack
        for extent in ("loop", "one-pass"):
            for given in ({"level": "loudness", "loudness_lufs": -20.0}, {"level": "peak", "peak_db": -6.0}):
                files = delivered(stack, bits="32f", extent=extent, **given)
                audio = audio_in(files)
                found = measure_loudness(audio["mix.wav"], rate_hz=48000, looped=extent == "loop")
                told = json.loads(files["measures.json"])
                with self.subTest(extent=extent, **given):
                    if given["level"] == "loudness":
                        self.assertAlmostEqual(found.integrated_lkfs, -20.0, delta=0.02)
                    else:
                        self.assertAlmostEqual(found.true_peak_dbtp, -6.0, delta=0.05)
                    # All files alike: the stems sum as they did.
                    plain = audio_in(delivered(stack, bits="32f", extent=extent))
                    for name, each in plain.items():
                        np.testing.assert_allclose(audio[name], each * 10 ** (told["gain_db"] / 20), atol=2e-3)

    def test_silence_has_no_level(self):
        with self.assertRaisesRegex(ApiladoError, "too quiet to be brought to a level"):
            delivered(plain_stack(kick={"mute": True}), level="loudness")


class SumTest(unittest.TestCase):
    def test_it_is_checked_and_told(self):
        for seed in seeds(1, first=20):
            stack, load = seeded_stack(seed)
            report = delivered(stack, load, mix=False, bass=False, kick=False)["measures.json"]
            sums = json.loads(report)["sum_check"]["stems_against_bus_input_dbfs"]
            self.assertLess(sums, -100.0, "they sum within 1e-5")
            self.assertIn("sum to what goes into the bus, within −1", sum_in_words(report))
        report = delivered(slipway().stack, layers=False)["measures.json"]
        self.assertEqual(
            (json.loads(report)["sum_check"], sum_in_words(report), clipping_in_words(report)), (None, "", "")
        )

    def test_peaks_are_told(self):
        files = delivered(slipway().stack, bits="32f")
        told = json.loads(files["measures.json"])
        for name, audio in audio_in(files).items():
            self.assertAlmostEqual(told["peaks_dbfs"][name], 20 * np.log10(np.abs(audio).max()), delta=0.01)
        self.assertEqual(told["state"], 12)


class MidiTest(unittest.TestCase):
    def test_notes_hits_and_sections(self):
        stack = sectioned()
        file = mido.MidiFile(file=io.BytesIO(delivered(stack, notes=True, layers=False)["notes.mid"]))
        head, pattern, kick = file.tracks
        self.assertEqual([m.tempo for m in head if m.type == "set_tempo"], [mido.bpm2tempo(126.0)])
        ticks, markers = 0, []
        for message in head:
            ticks += message.time
            if message.type == "marker":
                markers.append((ticks / 480, message.text))
        self.assertEqual(markers, [(4.0, "lift"), (12.0, "fill & out")])
        self.assertEqual(sum(m.type == "note_on" for m in pattern), len(stack.played()))
        ticks, hits = 0, []
        for message in kick:
            ticks += message.time
            if message.type == "note_on":
                self.assertEqual(message.channel, 9)
                hits.append(ticks / 480)
        np.testing.assert_allclose(hits, stack.hits("kick"), atol=1 / 960)

    def test_movements_are_curves(self):
        steps = StepCourse(values=(0.0, 1.0, 0.5, 0.25))
        movement = Movement(
            id="m",
            shape=steps,
            length_beats=4.0,
            begins="bar",
            targets=(Target(id="t", path="layers/mid/width", travel=1.0),),
        )
        stack = replaced(slipway().stack, "layers/mid/width", 0.0).model_copy(update={"movements": (movement,)})
        file = mido.MidiFile(file=io.BytesIO(delivered(stack, curves=True, layers=False)["movements.mid"]))
        self.assertEqual([track.name for track in file.tracks], ["Slipway", "width of mid"])
        beats, values = 0.0, {}
        for message in file.tracks[1]:
            beats += message.time / 480
            if message.type == "control_change":
                self.assertEqual(message.control, 20)
                values[round(beats, 3)] = message.value
        self.assertLess(len(values), 64, "only what changes is written")
        at = sorted(values)
        held = [values[max(each for each in at if each <= beat)] for beat in (0.5, 1.5, 2.5, 3.5, 13.5)]
        # The whole of a slider is 127, and half of its travel is moved.
        np.testing.assert_allclose(held, [0, 64, 32, 16, 64], atol=1)
        self.assertNotIn("movements.mid", delivered(slipway().stack, curves=True, layers=False))
