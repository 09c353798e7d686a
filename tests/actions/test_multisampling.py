"""A stack as an instrument: played back by a small reader of SFZ, against the stack's own notes."""

import io
import re
import unittest
import zipfile

import numpy as np
from pydantic import ValidationError

from apilado.actions.delivery import archive_path
from apilado.actions.multisampling import Multisample, MultisampleOptions, files, note_alone, samples
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Bus, Limiter
from apilado.core.formats.audio_files import read_audio
from apilado.core.formats.sampler_chunk import sampler_chunk
from apilado.core.measure.loop_points import LoopPoints, crossfaded, loop_points
from apilado.core.notes import Note
from apilado.core.render.graph import build, clock_of
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.saturation import Saturation
from apilado.core.units import midi_to_hz
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit
from tests.actions.test_bouncing import JobsCase
from tests.support import ENGINE, loader, noise, path_of, plain_stack, sha256, sine, wav

OPCODE = re.compile(r"([a-z_]+)=([^=\n]*?)(?=\s+[a-z_]+=|\s*$)", re.MULTILINE)


def silent(share, doing):
    return None


class SfzReader:
    """The opcodes that are written, by the grammar of the format (from memory): headers in angle brackets, `name=value`
    after them, values up to the next opcode or the end of the line, comments after `//`; global values go into each
    region."""

    def __init__(self, text):
        text = re.sub(r"//.*", "", text)
        parts = re.split(r"<([a-z]+)>", text)[1:]
        self.regions, everywhere = [], {}
        for header, body in zip(parts[::2], parts[1::2], strict=True):
            found = {name: value.strip() for name, value in OPCODE.findall(body)}
            if header == "global":
                everywhere = found
            else:
                assert header == "region", header
                self.regions.append({**everywhere, **found})

    def played(self, key, velocity, turn=0):
        """The region that plays a note, on its so-manieth turn."""
        found = [
            r
            for r in self.regions
            if int(r["lokey"]) <= key <= int(r["hikey"])
            and int(r["lovel"]) <= velocity <= int(r["hivel"])
            and turn % int(r.get("seq_length", 1)) + 1 == int(r.get("seq_position", 1))
        ]
        assert len(found) == 1, (key, velocity, turn, found)
        return found[0]

    def sound(self, held, region, frames):
        """Frames of a region's sample at its own pitch, going round in its loop."""
        audio, _ = read_audio(held[region["sample"]], "sample.wav")
        index = np.arange(frames)
        if region["loop_mode"] == "loop_continuous":
            first, last = int(region["loop_start"]), int(region["loop_end"])
            index = np.where(index > last, first + (index - first) % (last + 1 - first), index)
        return audio[:, np.minimum(index, audio.shape[1] - 1)]


def tuned(**changes):
    """A stack whose notes last: a saw without free phases, a sine under it."""
    voice = Voice(envelope=Envelope(attack_ms=3.0, sustain=1.0, release_ms=40.0))
    layers = (
        Layer(id="sub", name="sub", mono=True, source=ToneSource(tones=(Tone(shape="sine"),)), level_db=-9.0),
        Layer(
            id="saw",
            name="saw",
            source=ToneSource(tones=(Tone(shape="saw"),)),
            path=path_of(Saturation(id="s")),
            level_db=-15.0,
        ),
    )
    return plain_stack(layers=layers, voice=voice, bus=Bus(limiter=Limiter(on=False)), **changes)


def written(stack, load=None, **options):
    given = MultisampleOptions(**{"bits": "32f", "rate_hz": stack.sample_rate, **options})
    found = {name: content for name, content, _ in files(stack, given, load or loader({}), ENGINE, silent)}
    text = next(content.decode() for name, content in found.items() if name.endswith(".sfz"))
    return SfzReader(text), found, given


class InstrumentTest(unittest.TestCase):
    def test_every_key_and_velocity_is_played_by_one_sample(self):
        reader, found, _ = written(tuned(), lowest=30, highest=41, every=5, velocities=3, held_s=0.4)
        self.assertEqual(len(reader.regions), 9)
        self.assertEqual({region["sample"] for region in reader.regions} | {"Test-piece.sfz"}, set(found))
        for key in range(128):
            for velocity in (1, 42, 43, 85, 86, 127):
                region = reader.played(key, velocity)
                self.assertLessEqual(abs(int(region["pitch_keycenter"]) - min(max(key, 30), 40)), 2)

    def test_each_note_is_that_of_the_stack_alone(self):
        for stack, load in ((tuned(), loader({})), (slipway().stack, loader({}))):
            reader, found, options = written(stack, load, lowest=33, highest=40, every=7, crossfade_ms=0.0, held_s=1.5)
            for pitch in (33, 40):
                region = reader.played(pitch, 100)
                beats = options.held_s * stack.tempo_bpm / 60.0
                note = Note(start_beats=0.0, length_beats=beats, pitch=pitch, velocity=127)
                quiet = {"hits": ()}
                alone = stack.model_copy(update={"pattern": (note,), "kick": stack.kick.model_copy(update=quiet)})
                graph = build(alone, clock_of(alone, looped=False), load)
                (own,) = ENGINE.run([graph.buses["bus"]])
                end = int(region.get("loop_end", own.shape[1])) if region["loop_mode"] != "no_loop" else 60000
                heard = reader.sound(found, region, end)
                with self.subTest(stack=stack.name, pitch=pitch):
                    self.assertLess(float(np.max(np.abs(heard - own[:, :end]))), 1e-3 * float(np.max(np.abs(own))))

    def test_pitch_is_right_and_goes_on_in_the_loop(self):
        reader, found, _ = written(tuned(), lowest=36, highest=48, every=12, held_s=1.2, layer="sub")
        for pitch in (36, 48):
            region = reader.played(pitch, 127)
            self.assertEqual(region["loop_mode"], "loop_continuous")
            heard = reader.sound(found, region, 6 * 48000)[0]
            window = np.hanning(heard.shape[0])
            power = np.abs(np.fft.rfft(heard * window, 2**22))
            measured = np.argmax(power) * 48000 / 2**22
            cents = 1200.0 * np.log2(measured / float(midi_to_hz(pitch)))
            self.assertLess(abs(float(cents)), 2.0)

    def test_a_loop_joins_without_a_step(self):
        for layer in ("", "saw"):
            _, found, _ = written(tuned(), lowest=36, highest=36, held_s=1.2, layer=layer)
            content = next(data for name, data in found.items() if name.endswith(".wav"))
            chunk = sampler_chunk(content)
            self.assertEqual(chunk.pitch, 36.0)
            first, behind = chunk.loop_frames
            audio, _ = read_audio(content, "x.wav")
            step = np.abs(audio[:, first] - audio[:, behind - 1])
            around = np.abs(np.diff(audio[:, first - 2000 : first + 2000], axis=1)).max(axis=1)
            self.assertTrue(np.all(step <= around + 1e-6), (step, around))

    def test_the_chunk_and_the_map_agree(self):
        reader, found, _ = written(tuned(), lowest=36, highest=43, every=7, held_s=1.0)
        for region in reader.regions:
            chunk = sampler_chunk(found[region["sample"]])
            self.assertEqual(chunk.pitch, float(region["pitch_keycenter"]))
            self.assertEqual(chunk.loop_frames, (int(region["loop_start"]), int(region["loop_end"]) + 1))
            self.assertEqual(float(region["ampeg_release"]), 0.04)

    def test_round_robins_are_those_of_free_phases(self):
        reader, _, _ = written(tuned(), lowest=36, highest=36, turns=3, held_s=0.3)
        self.assertEqual([region.get("seq_length") for region in reader.regions], [None], "nothing is drawn by lot")
        layer = Layer(id="a", name="a", source=ToneSource(tones=(Tone(shape="saw", phase="free"),)))
        reader, found, _ = written(plain_stack(layers=(layer,)), lowest=36, highest=36, turns=3, held_s=0.3)
        self.assertEqual([region["seq_position"] for region in reader.regions], ["1", "2", "3"])
        self.assertEqual(len({found[reader.played(36, 90, turn)["sample"]] for turn in range(5)}), 3)

    def test_what_does_not_last_has_no_loop(self):
        voice = Voice(envelope=Envelope(decay_ms=150.0, sustain=0.0))
        reader, _, _ = written(tuned().model_copy(update={"voice": voice}), lowest=36, highest=36, held_s=1.0)
        self.assertEqual(reader.regions[0]["loop_mode"], "no_loop")

    def test_refusals(self):
        for given, said in (
            ({"lowest": 40, "highest": 39}, "runs upwards"),
            ({"lowest": 0, "highest": 127, "every": 1, "velocities": 8}, "1024 samples; the most is 512"),
        ):
            with self.assertRaisesRegex(ValidationError, said):
                MultisampleOptions(**given)
        content = wav(noise(4800))
        take = Layer(id="t", name="take", source=TakeSource(asset=sha256(content), file_name="t.wav"))
        load = loader({sha256(content): content})
        for layer, said in (
            ("t", "'take' is a recording"),
            ("", "nothing in this stack plays notes"),
            ("x", "no layer 'x'"),
        ):
            with self.assertRaisesRegex(InvalidEdit, said):
                list(samples(plain_stack(layers=(take,)), MultisampleOptions(layer=layer), load, ENGINE, silent))

    def test_no_drum_and_no_duck_is_in_it(self):
        stack = slipway().stack
        options = MultisampleOptions(rate_hz=48000, held_s=0.5)
        loud = stack.model_copy(update={"kick": stack.kick.model_copy(update={"level_db": 6.0})})
        one, other = (note_alone(each, options, loader({}), ENGINE, pitch=36, velocity=100) for each in (stack, loud))
        np.testing.assert_array_equal(one, other)


class LoopPointsTest(unittest.TestCase):
    def test_a_sine_goes_round_in_whole_cycles(self):
        found = loop_points(sine(50.0, 2.0), 48000, hertz=50.0, first_s=0.3, last_s=1.8)
        self.assertAlmostEqual((found.behind - found.first) / 960.0 % 1.0, 0.0, delta=1e-3)
        self.assertLess(found.mismatch, 1e-6)

    def test_two_that_beat_go_round_where_both_do(self):
        audio = sine(50.0, 3.0) * 0.5 + sine(52.0, 3.0) * 0.5  # alike again every half second
        found = loop_points(audio, 48000, hertz=50.0, first_s=0.3, last_s=2.8)
        self.assertAlmostEqual((found.behind - found.first) / 24000.0 % 1.0, 0.0, delta=2e-3)

    def test_noise_and_what_falls_have_none(self):
        falling = sine(50.0, 2.0) * np.exp(-4.0 * np.arange(96000) / 48000).astype(np.float32)
        slowly = sine(50.0, 2.0) * np.exp(-1.4 * np.arange(96000) / 48000).astype(
            np.float32
        )  # 2.4 dB in the shortest loop
        for audio in (noise(96000), falling, slowly, np.zeros((2, 96000), np.float32), sine(50.0, 0.3)):
            self.assertIsNone(loop_points(audio, 48000, hertz=50.0, first_s=0.25, last_s=1.9))

    def test_a_crossfade_ends_in_what_comes_before_the_beginning(self):
        audio = noise(4000)
        out = crossfaded(audio, LoopPoints(1000, 3000, 0.0), 200)
        np.testing.assert_array_equal(out[:, :2800], audio[:, :2800])
        np.testing.assert_array_equal(out[:, 2999], audio[:, 999])
        np.testing.assert_array_equal(out[:, 3000:], audio[:, 3000:])


class MultisampleJobTest(JobsCase):
    def test_it_is_an_archive_that_is_kept(self):
        stack_id = self.shelved(tuned())
        options = MultisampleOptions(lowest=36, highest=40, every=4, held_s=0.3)
        job = self.done(stack_id, Multisample(options=options))
        self.assertEqual((job.state, job.said), ("done", "2 samples and an SFZ file are written."))
        with zipfile.ZipFile(io.BytesIO(archive_path(self.workspace, job.id).read_bytes())) as archive:
            self.assertEqual(
                archive.namelist(),
                ["Test-piece/samples/036-C2.wav", "Test-piece/samples/040-E2.wav", "Test-piece/Test-piece.sfz"],
            )
