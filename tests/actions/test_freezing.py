"""Freezing and thawing, as a listener does it."""

from apilado.actions import stacks
from apilado.actions.freeze_job import Freeze
from apilado.core.document.edits_values import SetValue
from apilado.core.formats.bundles import read_bundle, write_bundle
from apilado.core.render.graph import build, clock_of
from tests.actions.test_bouncing import JobsCase


class FreezeTest(JobsCase):
    def setUp(self):
        super().setUp()
        self.stack_id = self.shelved()
        self.job = self.done(self.stack_id, Freeze(layer="mid", rates_hz=(44100,)))

    def change(self, path, value, **more):
        return stacks.edit(self.workspace, self.stack_id, SetValue(path=path, value=value), **more)

    def test_it_is_one_undoable_step_that_survives(self):
        self.assertEqual(self.job.state, "done", self.job.said)
        stack = self.stack(self.stack_id)
        self.assertEqual([kept.rate_hz for kept in stack.layer("mid").frozen], [44100, 48000])
        for rate in (44100, 48000):
            self.assertEqual(
                build(stack, clock_of(stack, looped=True, rate_hz=rate), self.workspace.load).frozen, {"mid"}
            )
        stepped = self.workspace.stacks.undo(self.stack_id)
        self.assertEqual((stepped.title, stepped.revision.stack.layer("mid").frozen), ("Freeze mid", ()))
        self.assertEqual(self.entries(), (), "it is in no list of sounds")
        self.assertEqual(self.workspace.sounds.clearable(), (), "redo may want it")

    def test_an_edit_of_what_is_frozen_thaws_it_and_says_so(self):
        done = self.change("layers/mid/level_db", -12.0)
        self.assertEqual((done.thawed, bool(self.stack(self.stack_id).layer("mid").frozen)), ((), True))
        done = self.change("layers/mid/transpose", 2)
        self.assertEqual((done.thawed, self.stack(self.stack_id).layer("mid").frozen), (("mid",), ()))
        self.assertTrue(self.workspace.stacks.undo(self.stack_id).revision.stack.layer("mid").frozen)

    def test_a_drag_thaws_it_once(self):
        for value in (1, 2, 3):
            self.change("layers/mid/transpose", value, gesture="g", client="c")
        stack = self.workspace.stacks.undo(self.stack_id).revision.stack
        self.assertTrue(stack.layer("mid").frozen)
        self.assertEqual(stack.layer("mid").transpose, 0)

    def test_what_is_changed_meanwhile_is_not_frozen(self):
        self.change("layers/mid/frozen", [])
        head = self.workspace.stacks.head(self.stack_id)
        self.change("layers/mid/transpose", 5)
        job = self.jobs.start(self.stack_id, Freeze(layer="mid"), of=(head.id, head.stack))
        kept = self.jobs.wait(job.kept.id).kept
        self.assertEqual((kept.state, self.stack(self.stack_id).layer("mid").frozen), ("failed", ()))
        self.assertIn("'mid' was changed meanwhile", kept.said)
        self.assertNotIn("Freeze", self.workspace.stacks.head(self.stack_id).undo_title)

    def test_a_bundle_carries_it(self):
        stack = self.stack(self.stack_id)
        bundle = read_bundle(write_bundle(stacks.bundle_of(self.workspace, stack)), "x.apilado")
        held = {asset.sha256 for asset in bundle.assets}
        self.assertEqual(len(held), 4)
        self.assertTrue(all({kept.loop, kept.one_pass} <= held for kept in bundle.stack.layer("mid").frozen))
