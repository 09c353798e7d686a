"""Bounces: what they hold, what becomes of them, and what is told."""

import json
import unittest
from unittest import mock

import numpy as np

from apilado.actions import bouncing
from apilado.actions.bouncing import Bounce, Crush, bounce, bounced_file
from apilado.actions.delivery import rendered_files
from apilado.actions.delivery_plan import DeliveryOptions
from apilado.actions.job_kinds import JOB_KINDS
from apilado.actions.jobs import Jobs
from apilado.actions.putting_in import HOWS, put_in
from apilado.actions.quarry import measure_entry
from apilado.core.document.addresses import replaced
from apilado.core.document.edits import apply
from apilado.core.document.layer import Layer
from apilado.core.document.path import Equaliser, layer_path
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Crossover, keys_apart
from apilado.core.formats.audio_files import read_audio
from apilado.core.measure.loudness import measure_loudness
from apilado.core.render.bouncing import Bounced
from apilado.core.render.graph import build, clock_of
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.units import beats_to_samples
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit
from apilado.store.sounds import Filters, Origin
from tests.seeded.stacks import seeded_stack, seeds
from tests.support import ENGINE, TemporaryWorkspace, loader, noise, plain_stack, sine, wav


def silent(share, doing):
    return None


class BouncedTest(unittest.TestCase):
    def test_a_layers_bounce_is_its_stem_bit_for_bit(self):
        for seed in seeds(4):
            stack, load = seeded_stack(seed)
            heard = stack.audible_layers()
            if not heard:
                continue
            layer = heard[seed % len(heard)]
            for extent in ("loop", "one-pass"):
                options = DeliveryOptions(extent=extent, bits="32f", rate_hz=stack.sample_rate, mix=False, bass=False)
                options = options.model_copy(update={"kick": False, "space": False})
                files = dict(rendered_files(stack, load, ENGINE, options, silent))
                number = 1 + stack.layers.index(layer)
                stem = next(data for name, data in files.items() if name.startswith(f"layer-{number:02d}-"))
                with self.subTest(seed=seed, extent=extent):
                    audio, rate = bounce(stack, Bounced(layers=(layer.id,), extent=extent), load, ENGINE)
                    # In one pass the stems of a delivery end together, a bounce where it has rung out itself.
                    of_stem, _ = read_audio(stem, "stem.wav")
                    self.assertLessEqual(audio.shape[1], of_stem.shape[1])
                    np.testing.assert_array_equal(audio, of_stem[:, : audio.shape[1]])
                    self.assertLess(float(np.max(np.abs(of_stem[:, audio.shape[1] :]), initial=0.0)), 10 ** (-96 / 20))
                    kept, kept_rate = read_audio(bounced_file(audio, rate), "bounce.wav")
                    np.testing.assert_array_equal(kept, audio)
                    self.assertEqual(kept_rate, rate)

    def test_bars_are_cut_where_they_lie(self):
        stack = slipway().stack
        whole, rate = bounce(stack, Bounced(what="stack"), loader({}), ENGINE)
        bar = stack.beats_per_bar

        def frame(beats):
            return beats_to_samples(beats, stack.tempo_bpm, rate)

        for first, last in ((1, 1), (2, 3), (4, 4), (1, stack.bars)):
            part, _ = bounce(stack, Bounced(what="stack", first_bar=first, last_bar=last), loader({}), ENGINE)
            np.testing.assert_array_equal(part, whole[:, frame((first - 1) * bar) : frame(last * bar)])

    def test_the_last_bars_of_a_single_pass_have_its_tail(self):
        stack = replaced(slipway().stack, "voice/envelope/release_ms", 2000.0)
        whole, rate = bounce(stack, Bounced(what="bus", extent="one-pass"), loader({}), ENGINE)
        first = beats_to_samples(8.0, stack.tempo_bpm, rate)
        for given in ({}, {"last_bar": 4}):
            part, _ = bounce(stack, Bounced(what="bus", extent="one-pass", first_bar=3, **given), loader({}), ENGINE)
            np.testing.assert_array_equal(part, whole[:, first:])
        part, _ = bounce(stack, Bounced(what="bus", extent="one-pass", first_bar=3, last_bar=3), loader({}), ENGINE)
        self.assertEqual(part.shape[1], beats_to_samples(12.0, stack.tempo_bpm, rate) - first)

    def test_where_a_section_mutes_it_it_is_silent_before_the_duck_too(self):
        muted = Change(id="c", path="layers/sub/mute", value=True)
        section = PieceSection(id="s", name="out", first_bar=2, last_bar=2, changes=(muted,))
        stack = slipway().stack.model_copy(update={"sections": (section,)})
        for duck in ("before", "after"):
            audio, rate = bounce(stack, Bounced(layers=("sub",), duck=duck), loader({}), ENGINE)
            first, last = (beats_to_samples(beats, stack.tempo_bpm, rate) for beats in (4.0, 8.0))
            self.assertLess(float(np.abs(audio[:, first + 500 : last - 500]).max()), 1e-6)
            self.assertGreater(float(np.abs(audio[:, :first]).max()), 0.05)

    def test_before_the_duck_and_after_it(self):
        stack = slipway().stack
        free = stack.model_copy(update={"duckers": ()})
        for each, duck, other in ((stack, "before", free), (stack, "after", stack)):
            audio, _ = bounce(each, Bounced(layers=("sub",), duck=duck), loader({}), ENGINE)
            (sub,) = ENGINE.run([build(other, clock_of(stack, looped=True), loader({})).layers["sub"]])
            np.testing.assert_array_equal(audio, sub)
        every, _ = bounce(stack, Bounced(), loader({}), ENGINE)
        (bus_input,) = ENGINE.run([build(stack, clock_of(stack, looped=True), loader({})).bus_input])
        np.testing.assert_array_equal(every, bus_input)

    def test_what_is_not_there_is_refused(self):
        stack = slipway().stack
        for given, said in (
            ({"layers": ("nobody",)}, "no layer 'nobody'"),
            ({"first_bar": 3, "last_bar": 2}, "bars 3 to 2 do not lie in the 4 bars"),
            ({"first_bar": 1, "last_bar": 9}, "bars 1 to 9"),
        ):
            with self.subTest(said), self.assertRaisesRegex(InvalidEdit, said):
                bounce(stack, Bounced(**given), loader({}), ENGINE)
        with self.assertRaisesRegex(InvalidEdit, "no layer is heard"):
            bounce(plain_stack(), Bounced(), loader({}), ENGINE)

    def test_it_is_told_in_words(self):
        stack = slipway().stack
        for given, said in (
            ({"what": "bus"}, "bass, as a loop"),
            (
                {"layers": ("sub", "mid"), "duck": "before", "extent": "one-pass"},
                "sub, mid, before the duck, in one pass",
            ),
            ({"what": "stack", "first_bar": 2, "last_bar": 2}, "mix, bar 2, as a loop"),
            ({"first_bar": 3}, "all layers, bars 3 to 4, as a loop"),
        ):
            self.assertEqual(Bounced(**given).told(stack), said)


class JobsCase(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())
        self.jobs = Jobs(self.workspace, JOB_KINDS)
        self.addCleanup(self.jobs.close)

    def shelved(self, stack=None):
        return self.workspace.stacks.create(stack or slipway().stack).stack_id

    def stack(self, stack_id):
        return self.workspace.stacks.head(stack_id).stack

    def done(self, stack_id, wanted):
        return self.jobs.wait(self.jobs.start(stack_id, wanted).kept.id).kept

    def entries(self):
        return self.workspace.sounds.found(Filters()).entries


class BounceTest(JobsCase):
    def test_it_says_what_it_was_made_of(self):
        stack_id = self.shelved()
        job = self.done(stack_id, Bounce(bounced=Bounced(what="bus", first_bar=1, last_bar=2)))
        (entry,) = self.entries()
        self.assertEqual(
            (job.state, job.said, job.made), ("done", "‘Slipway bass’ is in the Quarry.", {"sound": entry.id})
        )
        told = (
            entry.name,
            entry.origin,
            entry.made_of,
            entry.stack,
            entry.revision,
            entry.key,
            entry.tempo_bpm,
            entry.beats,
        )
        expected = ("Slipway bass", "bounced", "bass, bars 1 to 2, as a loop", stack_id, 1, "F minor", 126.0, 8.0)
        self.assertEqual(told, expected)
        self.assertAlmostEqual(entry.seconds, 8 * 60 / 126, delta=1e-3)
        audio, rate = read_audio(self.workspace.assets.get(entry.asset).content, "bounce.wav")
        self.assertAlmostEqual(entry.loudness_lkfs, measure_loudness(audio, rate_hz=rate).integrated_lkfs, delta=0.02)
        self.done(stack_id, Bounce(bounced=Bounced(what="bus", first_bar=1, last_bar=2)))
        self.assertEqual(len(self.entries()), 1, "the same again is the same entry")

    def test_it_becomes_a_layer_that_sounds_as_it_did(self):
        stack_id = self.shelved()
        before = self.stack(stack_id)
        job = self.done(stack_id, Bounce(bounced=Bounced(layers=("mid",)), then="laid"))
        after = self.stack(stack_id)
        layer = after.layer(job.made["layer"])
        clock = clock_of(before, looped=True)
        (was,) = ENGINE.run([build(before, clock, loader({})).layers["mid"]])
        graph = build(after, clock, self.workspace.load)
        (now,) = ENGINE.run([graph.sources[layer.id]])
        edge = 150  # it begins and ends within 3 ms
        np.testing.assert_allclose(now[:, edge:-edge], was[:, edge:-edge], atol=1e-6)
        self.assertTrue(all(ducker.amount(layer.id) == 0.0 for ducker in after.duckers), "it is ducked already")
        self.assertEqual(self.workspace.stacks.undo(stack_id).revision.stack, before)

    def test_every_form(self):
        stack_id = self.shelved()
        for then in HOWS:
            with self.subTest(then):
                job = self.done(stack_id, Bounce(bounced=Bounced(what="bus"), then=then))
                self.assertEqual(job.state, "done", job.said)
                stack = self.stack(stack_id)
                source = stack.layer(job.made["layer"]).source
                graph = build(stack, clock_of(stack, looped=True), self.workspace.load)
                (audio,) = ENGINE.run([graph.layers[job.made["layer"]]])
                self.assertGreater(float(np.sqrt(np.mean(audio**2))), 0.01)
                kinds = {"laid": "take", "reversed": "take"}
                self.assertEqual(source.kind, kinds.get(then, "sample"))
                self.assertEqual(
                    (getattr(source, "sliced", False), getattr(source, "held", False)),
                    (then == "sliced", then == "held"),
                )

    def test_some_bars_are_laid_where_they_were(self):
        stack_id = self.shelved()
        job = self.done(stack_id, Bounce(bounced=Bounced(layers=("mid",), first_bar=3, last_bar=3), then="laid"))
        self.assertEqual(self.stack(stack_id).layer(job.made["layer"]).source.start_beats, 8.0)

    def test_silence_is_refused(self):
        stack = plain_stack(layers=(Layer(id="a", name="a"),), pattern=())
        job = self.done(self.shelved(stack), Bounce(bounced=Bounced(layers=("a",))))
        self.assertEqual((job.state, job.said), ("failed", "Not bounced: there is only silence in it."))
        self.assertEqual(self.entries(), ())


class CrushTest(JobsCase):
    def crushed(self, stack, **wanted):
        stack_id = self.shelved(stack)
        job = self.done(stack_id, Crush(**wanted))
        self.assertEqual(job.state, "done", job.said)
        return self.stack(stack_id), job

    def loudness(self, stack, layer):
        clock = clock_of(stack, looped=True)
        graph = build(stack, clock, self.workspace.load)
        others = [graph.layers[each.id] for each in stack.layers if each.id != layer]
        found = ENGINE.run([graph.layers[layer], *others])
        return [
            measure_loudness(a, rate_hz=clock.rate_hz, looped=True).integrated_lkfs for a in (found[0], sum(found[1:]))
        ]

    def test_it_lies_as_far_under_the_bass_as_asked_and_leaves_the_sub(self):
        for under in (10.0, 24.0):
            stack, job = self.crushed(slipway().stack, under_db=under)
            layer = stack.layer(job.made["layer"])
            crushed, bass = self.loudness(stack, layer.id)
            self.assertAlmostEqual(bass - crushed, under, delta=0.3)
            self.assertEqual((layer.span.first, layer.span.last), (1, 2))
            self.assertEqual([step.kind for step in layer.path], ["split", "eq", "compressor", "saturation", "eq"])
            self.assertEqual(layer.polarity, "inverted", "cut at the border twice, it would take away from the sub")

    def test_what_is_harsh_is_notched(self):
        harsh = Equaliser(
            id="eq", points=({"id": "p", "kind": "bell", "frequency_hz": 3000.0, "gain_db": 20.0, "q": 12.0},)
        )
        source = ToneSource(tones=(Tone(shape="saw"),))
        layer = Layer(id="a", name="a", source=source, path=layer_path(HardClip(id="c"), harsh))
        stack, job = self.crushed(plain_stack(layers=(layer,)))
        points = stack.layer(job.made["layer"]).path[-1].points
        self.assertIn("harsh peak", job.said)
        self.assertAlmostEqual(points[0].frequency_hz, 3000.0, delta=150.0)
        self.assertLess(points[0].gain_db, -5.0)

    def test_it_is_one_step(self):
        stack_id = self.shelved()
        self.done(stack_id, Crush())
        stepped = self.workspace.stacks.undo(stack_id)
        self.assertEqual((stepped.title, stepped.revision.stack), ("Crush and tuck under", slipway().stack))


class PutInTest(JobsCase):
    def entry(self, audio, rate_hz=48000, **origin):
        self.workspace.assets.add(wav(audio, rate_hz), "file.wav", Origin(name="piece", **origin))
        return self.entries()[0]

    def test_it_arrives_in_key_and_tempo(self):
        entry = self.entry(sine(65.4, 2.0), tempo_bpm=100.0, key="C minor", beats=4.0)
        stack = plain_stack(tempo_bpm=120.0, bars=2, key="A major")
        made = put_in(self.workspace, stack, entry, "laid")
        source = apply(stack, made.edit).layer(made.layer).source
        self.assertEqual((source.own_bpm, source.tune_cents, source.every_beats), (100.0, -300.0, 4.0))
        for said in (
            "from 100 to 120 bpm",
            "C minor to A major, −3 semitones",
            "in minor, the stack is in major",
            "every 4 beats",
        ):
            self.assertIn(said, made.told)

    def test_in_the_same_key_and_tempo_it_stays_as_it_is(self):
        entry = self.entry(sine(65.4, 2.0), tempo_bpm=120.0, key="F minor", beats=4.0)
        stack = plain_stack(tempo_bpm=120.0, bars=1)
        made = put_in(self.workspace, stack, entry, "laid")
        source = apply(stack, made.edit).layer(made.layer).source
        self.assertEqual((source.own_bpm, source.tune_cents, source.every_beats), (0.0, 0.0, 0.0))
        self.assertEqual(made.told, "piece, laid as it is.")

    def test_notes_far_below_its_pitch_are_played_near_it(self):
        entry = self.entry(sine(523.25, 1.0))  # C5
        stack = plain_stack()  # notes from A1 to D#2
        made = put_in(self.workspace, stack, entry, "played")
        layer = apply(stack, made.edit).layer(made.layer)
        self.assertEqual((layer.source.root, layer.transpose), (72, 36))
        self.assertIn("3 octaves higher", made.told)

    def test_slices_go_round_on_the_notes(self):
        clicks = np.zeros((2, 48000), np.float32)
        for at in (0, 16000, 32000):
            clicks[:, at : at + 4000] = noise(4000, seed=at) * np.linspace(1, 0, 4000, dtype=np.float32)
        stack = plain_stack()
        made = put_in(self.workspace, stack, self.entry(clicks), "sliced")
        layer = apply(stack, made.edit).layer(made.layer)
        self.assertEqual(len(layer.source.slices_ms), 3)
        root = layer.source.root
        self.assertEqual([note.pitch - root for note in layer.notes], [0, 1, 2, 0])
        self.assertEqual([note.start_beats for note in layer.notes], [0.0, 1.0, 2.0, 3.0])
        with self.assertRaisesRegex(InvalidEdit, "no notes to play slices with"):
            put_in(self.workspace, plain_stack(pattern=()), self.entries()[0], "sliced")

    def test_keys(self):
        for one, other, semitones in (
            ("C minor", "C minor", 0),
            ("C minor", "F# minor", -6),
            ("B major", "C minor", 1),
        ):
            self.assertEqual(keys_apart(one, other), semitones)
        self.assertEqual(keys_apart("", "C minor"), 0)


class JobsTest(JobsCase):
    def test_what_is_stopped_leaves_nothing(self):
        stack_id = self.shelved()
        before = self.workspace.stacks.head(stack_id).id
        for wanted in (Bounce(bounced=Bounced(what="bus"), then="laid"), Crush()):
            job = self.jobs.start(stack_id, wanted)
            self.jobs.stop(job.kept.id)
            kept = self.jobs.wait(job.kept.id).kept
            if kept.state == "done":  # it was quicker than the hand
                continue
            self.assertEqual((kept.state, kept.said), ("stopped", "Stopped. Nothing of it was kept."))
            self.assertEqual(self.workspace.stacks.head(stack_id).id, before)

    def test_what_is_there_already_when_it_is_stopped_is_told(self):
        stack_id = self.shelved()

        def stopped(workspace, entry):
            for number in list(self.jobs._tasks):
                self.jobs.stop(number)
            return measure_entry(workspace, entry)

        with mock.patch.object(bouncing, "measure_entry", stopped):
            job = self.done(stack_id, Bounce(bounced=Bounced(what="bus"), then="laid"))
        self.assertEqual((job.state, job.said), ("stopped", "Stopped. ‘Slipway bass’ is in the Quarry."))
        self.assertEqual(
            ([each.name for each in self.entries()], self.stack(stack_id)), (["Slipway bass"], slipway().stack)
        )

    def test_what_was_broken_off_is_told_and_begun_again(self):
        stack_id = self.shelved()
        head = self.workspace.stacks.head(stack_id)
        wanted = Bounce(bounced=Bounced(what="bus")).model_dump(mode="json")
        number = self.workspace.jobs.begin("bounce", stack_id, head.id, head.stack, "Bounce bass", wanted)
        folder, cache = self.workspace.folder, 2**28
        self.workspace.close()
        self.workspace.__init__(folder, cache_bytes=cache)
        self.jobs = Jobs(self.workspace, JOB_KINDS)
        (job,) = self.jobs.listed(stack_id=stack_id)
        self.assertEqual((job.kept.state, job.kept.title), ("broken off", "Bounce bass"))
        again = self.jobs.wait(self.jobs.again(number).kept.id)
        self.assertEqual(again.kept.state, "done")
        self.assertEqual([each.kept.id for each in self.jobs.listed()], [again.kept.id], "the old one is off the list")
        with self.assertRaisesRegex(InvalidEdit, "is done already"):
            self.jobs.again(again.kept.id)
        self.jobs.remove(again.kept.id)
        self.assertEqual(self.jobs.listed(), [])
        self.assertEqual(len(self.entries()), 1, "what it made stays")

    def test_it_is_of_the_state_that_it_was_begun_with(self):
        stack_id = self.shelved()
        other = plain_stack(layers=(Layer(id="a", name="a"),), crossovers=(Crossover(),))
        revision = self.workspace.stacks.head(stack_id).id
        job = self.jobs.start(stack_id, Bounce(bounced=Bounced(layers=("a",))), of=(revision, other))
        self.assertEqual(self.jobs.wait(job.kept.id).kept.state, "done")
        self.assertEqual(self.entries()[0].made_of, "a, as a loop")

    def test_what_was_asked_for_is_kept_as_data(self):
        wanted = Bounce(bounced=Bounced(layers=("a",), first_bar=2), name="x", then="held")
        self.assertEqual(Bounce.model_validate(json.loads(wanted.model_dump_json())), wanted)
