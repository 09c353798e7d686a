import io
import json
import unittest
import zipfile

import numpy as np
import soundfile
from numpy.testing import assert_allclose

from apilado.actions import beginning, stacks
from apilado.actions.delivery import Deliver, archive_path, clipping_in_words, rendered_files
from apilado.actions.delivery_plan import DeliveryOptions, safe_name
from apilado.actions.job_kinds import JOB_KINDS
from apilado.actions.jobs import Jobs
from apilado.core.document.edits_borders import RemoveCrossover
from apilado.core.document.edits_layers import RemoveLayer
from apilado.core.document.edits_values import SetValue
from apilado.core.formats.audio_files import read_audio
from apilado.core.formats.bundles import write_bundle
from apilado.core.render.graph import build, clock_of
from apilado.demo.shelf import fill_if_empty
from apilado.demo.stacks import rope_walk, slipway
from apilado.errors import ApiladoError, InvalidEdit, UnreadableFile
from tests.support import TemporaryWorkspace, rendered


class WorkspaceCase(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())


class EditingTest(WorkspaceCase):
    def test_a_stale_base_is_told_and_nothing_is_lost(self):
        head = beginning.from_tone(self.workspace, "Quay")
        first = stacks.edit(self.workspace, head.stack_id, SetValue(path="tempo_bpm", value=100.0), base=head.id)
        late = stacks.edit(self.workspace, head.stack_id, SetValue(path="bars", value=2), base=head.id)
        self.assertEqual((first.rebased, late.rebased), (False, True))
        self.assertEqual((late.revision.stack.tempo_bpm, late.revision.stack.bars), (100.0, 2))

    def test_an_edit_that_no_longer_fits_says_why(self):
        head = beginning.from_tone(self.workspace, "Quay")
        upper = head.stack.crossovers[1].id
        stacks.edit(self.workspace, head.stack_id, RemoveCrossover(crossover=upper), base=head.id)
        with self.assertRaisesRegex(InvalidEdit, f"nothing at .crossovers/{upper}. any more.*another tab"):
            stacks.edit(self.workspace, head.stack_id, RemoveCrossover(crossover=upper), base=head.id)

    def dragged(self, stack_id, path, value, gesture):
        return stacks.edit(self.workspace, stack_id, SetValue(path=path, value=value), gesture=gesture).revision

    def walked_back(self, stack_id, *paths):
        """What undo comes to, step by step, until nothing is left."""
        found = []
        while (stepped := self.workspace.stacks.undo(stack_id)).title is not None:
            found.append((stepped.title, *(getattr(stepped.revision.stack, path) for path in paths)))
        return found

    def test_a_drag_is_one_step(self):
        head = beginning.from_tone(self.workspace, "Quay")
        before = len(self.revisions())
        for tempo in (100.0, 110.0, 115.0):
            self.dragged(head.stack_id, "tempo_bpm", tempo, "drag")
        self.dragged(head.stack_id, "tempo_bpm", 90.0, "another")
        # The places that a drag went through are gone: only where it came to is kept.
        self.assertEqual(len(self.revisions()), before + 2)
        self.assertEqual([tempo for _, tempo in self.walked_back(head.stack_id, "tempo_bpm")], [115.0, 126.0])

    def revisions(self):
        with self.workspace.database.reading() as connection:
            return [row[0] for row in connection.execute("SELECT id FROM revisions")]

    def test_drags_of_two_pages_at_once_stay_one_step_each(self):
        head = beginning.from_tone(self.workspace, "Quay")
        for turn in range(5):
            self.dragged(head.stack_id, "tempo_bpm", 100.0 + turn, "mine")
            last = self.dragged(head.stack_id, "name", f"Quay {turn}", "theirs")
        self.dragged(head.stack_id, "tempo_bpm", 105.0, "mine")
        after = self.workspace.stacks.head(head.stack_id)
        self.assertNotEqual(after.id, last.id)
        self.assertEqual((after.stack.tempo_bpm, after.stack.name), (105.0, "Quay 4"))
        # The later one goes first and takes nothing of the other with it.
        self.assertEqual(
            self.walked_back(head.stack_id, "tempo_bpm", "name"),
            [("Name: Quay 4", 105.0, "Quay"), ("Tempo: 105 bpm", 126.0, "Quay")],
        )

    def test_a_drag_goes_on_over_an_edit_that_takes_its_place_away(self):
        head = beginning.from_tone(self.workspace, "Quay")
        self.dragged(head.stack_id, "layers/high/level_db", -4.0, "mine")
        stacks.edit(self.workspace, head.stack_id, RemoveLayer(layer="high"))
        with self.assertRaisesRegex(InvalidEdit, "layers/high"):
            self.dragged(head.stack_id, "layers/high/level_db", -3.0, "mine")
        self.assertEqual([len(self.workspace.stacks.head(head.stack_id).stack.layers)], [2])

    def test_a_drag_goes_on_after_another_edit_was_taken_back(self):
        # A drag here, an edit and its undo in another tab, the drag again: what came between is still there for redo.
        head = beginning.from_tone(self.workspace, "Quay")
        self.dragged(head.stack_id, "tempo_bpm", 100.0, "drag")
        other = stacks.edit(self.workspace, head.stack_id, SetValue(path="name", value="other")).revision
        self.workspace.stacks.undo(head.stack_id)
        self.dragged(head.stack_id, "tempo_bpm", 101.0, "drag")
        self.assertIn(other.id, self.revisions())
        self.assertEqual([tempo for _, tempo in self.walked_back(head.stack_id, "tempo_bpm")], [100.0, 126.0])

    def test_new_stacks_stand(self):
        head = beginning.from_tone(self.workspace, "Quay")
        found = stacks.summary(self.workspace, head.id, head.stack)
        self.assertEqual(found.faults, 0)
        self.assertEqual(stacks.summary(self.workspace, head.id, head.stack), found)

    def test_duplicate_has_its_own_history(self):
        head = beginning.from_tone(self.workspace, "Quay")
        copy = stacks.duplicate(self.workspace, head.stack_id)
        self.assertEqual((copy.stack.name, copy.undo_title), ("Quay copy", None))


class ImportTest(WorkspaceCase):
    def test_bundle_and_json(self):
        bundle = rope_walk()
        done = stacks.import_stack(self.workspace, write_bundle(bundle), "rope.apilado")
        self.assertEqual(done.stack, bundle.stack)
        self.assertEqual(stacks.bundle_of(self.workspace, done.stack), bundle)
        text = bundle.stack.model_dump_json().encode()
        self.assertEqual(stacks.import_stack(self.workspace, text, "rope.json").stack, bundle.stack)

    def test_failures_change_nothing(self):
        text = rope_walk().stack.model_dump_json().encode()
        for content, name, words in (
            (text, "rope.json", "needs audio that is not here"),
            (b"hello", "rope.txt", "neither a bundle"),
            (b"PK\x03\x04hello", "rope.apilado", "not a bundle"),
        ):
            with self.subTest(name=name), self.assertRaisesRegex(UnreadableFile, words):
                stacks.import_stack(self.workspace, content, name)
        self.assertEqual(self.workspace.stacks.listed(), [])
        self.assertEqual(list(self.workspace.assets.folder.iterdir()), [])

    def test_the_demo_fills_an_empty_shelf_only(self):
        for _ in range(2):
            fill_if_empty(self.workspace)
        names = [listed.stack.name for listed in self.workspace.stacks.listed()]
        self.assertEqual(
            sorted(names), ["Bollard", "Breakwater", "Foghorn", "Lock Gate", "Rope Walk", "Sea Chest", "Slipway"]
        )


class DeliveryTest(WorkspaceCase):
    def files(self, stack, **options):
        made = rendered_files(
            stack, self.workspace.load, self.workspace.engine, DeliveryOptions(**options), lambda *_: None
        )
        return dict(made)

    def test_stems_sum_to_the_bus_input_at_every_rate_and_extent(self):
        stack = slipway().stack
        for rate in (44100, 96000):
            for extent in ("loop", "one-pass"):
                files = self.files(stack, bits="32f", rate_hz=rate, extent=extent)
                stems = [read_audio(content, name)[0] for name, content in files.items() if name.startswith("layer-")]
                at_rate = stack.model_copy(update={"sample_rate": rate})
                graph = build(at_rate, clock_of(at_rate, looped=extent == "loop"), self.workspace.load)
                bus = self.workspace.engine.run([graph.bus_input])[0]
                total = sum(stem.astype(np.float64) for stem in stems)
                assert_allclose(total, bus[:, : total.shape[1]], atol=1e-5)
                self.assertLess(np.abs(bus[:, total.shape[1] :]).max(initial=0.0), 1e-4)

    def test_clipped_samples_are_counted_and_told(self):
        loud = slipway().stack
        loud = loud.model_copy(update={"kick": loud.kick.model_copy(update={"level_db": 6.0})})
        for bits in ("24", "16", "32f"):
            files = self.files(loud, bits=bits, rate_hz=48000)
            report = json.loads(files["measures.json"])["clipped_samples"]
            audio = rendered(loud)["kick"]
            # What lies beyond the largest whole number a file can hold, counted from the sound itself.
            over = int(np.count_nonzero(np.abs(audio) > 1.0)) if bits != "32f" else 0
            self.assertAlmostEqual(report["kick.wav"], over, delta=2 + over // 50)
            self.assertEqual(bool(clipping_in_words(files["measures.json"])), bits != "32f")
            if bits != "32f":
                self.assertGreater(over, 20)
                self.assertIn(f"kick.wav: {report['kick.wav']}", clipping_in_words(files["measures.json"]))
        self.assertEqual(clipping_in_words(self.files(slipway().stack, rate_hz=48000)["measures.json"]), "")

    def test_what_is_mono_as_one_channel_if_asked(self):
        stack = slipway().stack
        both, single = (self.files(stack, bits="32f", kick=False, mono=mono) for mono in ("stereo", "mono"))
        channels = {}
        for name in both:
            if name.endswith(".wav"):
                two, one = read_audio(both[name], name)[0], read_audio(single[name], name)[0]
                channels[name] = soundfile.info(io.BytesIO(single[name])).channels
                self.assertEqual(soundfile.info(io.BytesIO(both[name])).channels, 2)
                assert_allclose(np.broadcast_to(one, two.shape), two, atol=0.0)
        self.assertEqual((channels["layer-01-sub.wav"], channels["layer-03-high.wav"], channels["mix.wav"]), (1, 2, 2))

    def delivered(self, **options):
        stack_id = self.workspace.stacks.create(slipway().stack).stack_id
        jobs = Jobs(self.workspace, JOB_KINDS)
        job = jobs.wait(jobs.start(stack_id, Deliver(options=DeliveryOptions(**options))).kept.id).kept
        self.assertEqual(job.state, "done", job.said)
        return job, archive_path(self.workspace, job.id)

    def test_two_deliveries_are_the_same_bytes(self):
        found = []
        for _ in range(2):
            _, path = self.delivered(bits="32f", layers=False, bass=False, notes=True, names="{stack}-{part}")
            found.append(path.read_bytes())
            with zipfile.ZipFile(path) as archive:
                content = archive.read("Slipway/slipway-mix.wav")
                self.assertNotIn(b"PEAK", content[:200])
                audio, rate = read_audio(content, "mix.wav")
                self.assertEqual((rate, audio.shape[0]), (48000, 2))
        # All but the number of the state that they are of.
        self.assertEqual(*[content.replace(b'"state": 2', b'"state": 1') for content in map(_unpacked, found)])

    def test_names_formats_and_measures(self):
        files = self.files(slipway().stack, file_format="flac", bits="16", rate_hz=44100)
        self.assertEqual(
            list(files),
            [
                "mix.flac",
                "bass.flac",
                "kick.flac",
                "layer-01-sub.flac",
                "layer-02-mid.flac",
                "layer-03-high.flac",
                "measures.json",
            ],
        )
        audio, rate = read_audio(files["mix.flac"], "mix.flac")
        self.assertEqual((rate, audio.shape), (44100, (2, round(16 * 60 / 126 * 44100))))
        measures = json.loads(files["measures.json"])
        self.assertEqual(sorted(measures["layers"]), ["high", "mid", "sub"])
        self.assertLess(measures["mix"]["true_peak_dbtp"], 0.0)

    def test_refusals(self):
        for options, words in (
            ({"file_format": "flac", "bits": "32f"}, "FLAC holds 16 or 24 bits"),
            ({"layers": False, "bass": False, "kick": False, "mix": False}, "nothing to write"),
        ):
            with self.assertRaisesRegex(ApiladoError, words):
                self.files(slipway().stack, **options)

    def test_it_is_kept_until_it_is_removed(self):
        job, path = self.delivered(layers=False)
        with zipfile.ZipFile(path) as archive:
            names = [f"Slipway/{n}" for n in ("mix.wav", "bass.wav", "kick.wav", "measures.json")]
            self.assertEqual(archive.namelist(), names)
            self.assertIsNone(archive.testzip())
        self.assertEqual((job.made["bytes"], job.made["file_name"]), (path.stat().st_size, "Slipway.zip"))
        folder = self.workspace.folder
        stray = self.workspace.deliveries / "99.zip"
        stray.write_bytes(b"of a delivery that was broken off")
        self.workspace.close()
        self.workspace.__init__(folder)
        self.assertEqual([each.name for each in self.workspace.deliveries.iterdir()], [path.name])
        Jobs(self.workspace, JOB_KINDS).remove(job.id)
        self.assertEqual(list(self.workspace.deliveries.iterdir()), [])

    def test_a_stopped_job_leaves_no_file(self):
        stack_id, jobs = self.workspace.stacks.create(slipway().stack).stack_id, Jobs(self.workspace, JOB_KINDS)
        job = jobs.start(stack_id, Deliver(options=DeliveryOptions(rate_hz=96000)))
        jobs.stop(job.kept.id)
        self.assertEqual(jobs.wait(job.kept.id).kept.state, "stopped")
        self.assertEqual(list(self.workspace.deliveries.iterdir()), [])

    def test_safe_names(self):
        for name, safe in (("Lock Gate", "Lock-Gate"), ("../../etc", "etc"), ("→", "stack"), ("a/b\\c", "a-b-c")):
            self.assertEqual(safe_name(name), safe)


def _unpacked(content):
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        return b"".join(archive.read(name) for name in archive.namelist())
