"""One note that is played by hand."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from apilado.actions.tapping import LONGEST_S, tap, tapped_stack
from apilado.actions.workspace import LoopHeard, Workspace
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import AddPart
from apilado.core.measure.pitch import pitch_hz
from apilado.core.units import midi_to_hz
from apilado.demo.further import foghorn
from apilado.demo.stacks import rope_walk, slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import InvalidEdit
from tests.support import graph_of, loader, rendered


class TapTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.workspace = Workspace(Path(folder.name))
        self.addCleanup(self.workspace.close)

    def test_it_is_the_note_of_the_whole_stack_or_of_one_layer(self):
        stack = slipway().stack
        for layer in ("", "sub"):
            sound = tap(self.workspace, 1, stack, pitch=31, layer_id=layer)
            self.assertEqual(sound.shape, (2, round(LONGEST_S * stack.sample_rate)))
            found = pitch_hz(sound[0, 24000:48000], stack.sample_rate)
            self.assertLess(abs(1200 * np.log2(found / midi_to_hz(31.0))), 5.0, layer)
        self.assertGreater(np.abs(tap(self.workspace, 1, stack, pitch=31)).max(), np.abs(sound).max())

    def test_it_is_as_the_stack_would_play_it(self):
        stack = slipway().stack
        wobbling = AddPart(path="layers/high/path", part={"kind": "flanger", "speed_hz": 0.4})
        stack = apply(stack, wobbling)
        alone = tapped_stack(stack, 31, 100, "").model_copy(update={"bars": stack.bars})
        self.assertEqual((len(alone.pattern), alone.kick.hits), (1, ()))
        whole = rendered(alone, loader({}), looped=False)["output"]
        sound = tap(self.workspace, 1, stack, pitch=31, seconds=1.0)
        # Up to its end, where what looks ahead finds nothing more.
        np.testing.assert_allclose(sound[:, :-500], whole[:, : sound.shape[1] - 500], atol=2e-3)

    def test_its_beginning_is_the_beginning_of_the_whole(self):
        for bundle in demo_bundles():
            for asset in bundle.assets:
                self.workspace.assets.add(asset.content, f"sound.{asset.extension}")
            # On the bench the loop was heard before: what is measured over all of it is as it was there.
            self.workspace.heard[1] = LoopHeard(graph_of(bundle.stack, self.workspace.load), 1)
            first = tap(self.workspace, 1, bundle.stack, pitch=36, seconds=0.4)
            whole = tap(self.workspace, 1, bundle.stack, pitch=36, seconds=1.5)
            frames = first.shape[1] - 4000  # what looks ahead is right up to there
            loudest = np.abs(whole).max()
            self.assertGreater(loudest, 0.01, bundle.stack.name)
            self.assertLess(np.abs(first[:, :frames] - whole[:, :frames]).max(), 0.06 * loudest, bundle.stack.name)

    def test_a_level_that_is_kept_is_that_of_the_loop_that_was_heard(self):
        stack = foghorn().stack
        quiet = stack.model_copy(update={"pattern": stack.pattern[:1]})
        alone = tap(self.workspace, 1, quiet, pitch=45, layer_id="growl", seconds=0.5)
        self.workspace.heard[1] = LoopHeard(graph_of(stack, loader({})), 1)
        known = tap(self.workspace, 1, quiet, pitch=45, layer_id="growl", seconds=0.5)
        gains = [float(np.sqrt(np.mean(each**2))) for each in (alone, known)]
        self.assertGreater(abs(gains[1] / gains[0] - 1.0), 0.01)
        shares = known[0, 2000:20000] / np.where(np.abs(alone[0, 2000:20000]) > 0.01, alone[0, 2000:20000], np.nan)
        self.assertLess(np.nanstd(shares), 0.01)

    def test_a_recording_is_left_out_of_the_stack_and_heard_by_itself(self):
        bundle = rope_walk()
        for asset in bundle.assets:
            self.workspace.assets.add(asset.content, "take.wav")
        self.assertEqual(
            [layer.id for layer in tapped_stack(bundle.stack, 33, 100, "").layers if not layer.mute], ["post"]
        )
        self.assertGreater(
            np.abs(tap(self.workspace, 1, bundle.stack, pitch=33, layer_id="body", seconds=1.0)).max(), 0.01
        )

    def test_what_cannot_be_tapped_is_refused(self):
        with self.assertRaisesRegex(InvalidEdit, "no layer 'gone'"):
            tapped_stack(slipway().stack, 31, 100, "gone")
        only = rope_walk().stack
        takes = only.model_copy(update={"layers": tuple(layer for layer in only.layers if layer.id != "post")})
        with self.assertRaisesRegex(InvalidEdit, "nothing in this stack plays notes"):
            tapped_stack(takes, 31, 100, "")
