"""What soundings ask besides is asked with the measurements."""

import unittest

import numpy as np

from apilado.core.assets import no_assets
from apilado.core.document.edits import apply
from apilado.core.document.edits_pattern import ReplaceNote
from apilado.core.document.edits_values import SetValue
from apilado.core.document.path import layer_path
from apilado.core.render.engine import Engine
from apilado.core.soundings.asked import asked_of, note_spans, notes_stage
from apilado.core.soundings.measures import measure, placed_alone
from apilado.core.soundings.registry import sound
from apilado.core.treatments.reverb import Reverb
from apilado.demo.stacks import slipway
from tests.seeded.stacks import seeded_stack, seeds
from tests.support import graph_of


class AskedTest(unittest.TestCase):
    def test_soundings_find_it_there(self):
        seen = set()
        for stack, load in [(slipway().stack, no_assets), *map(seeded_stack, seeds(3, first=1850))]:
            engine, computed = Engine(), {}
            original = engine.once

            def once(each, *told, original=original, computed=computed):
                result = original(each, *told)
                if result is not None:  # where there is nothing to be told, that is found out again
                    computed[each.key] = each.name
                return result

            engine.once = once
            measures = measure(stack, load, engine)
            stages = asked_of(stack, measures.graph, measures.note_stages, measures.clock)
            asked = {each.key for found in stages.values() for each in found}
            self.assertGreater(len(asked & computed.keys()), len(measures.stems))
            seen |= {computed[key] for key in asked & computed.keys()}
            computed.clear()
            sound(measures)
            self.assertFalse(asked & computed.keys(), stack.name)
            # Of the stack as it is they ask nothing else: what is tried besides is another sound.
            self.assertFalse(
                {"sub_levels", "clicks", "peaks_between_harmonics", "loudest_cycle"} & set(computed.values()),
                stack.name,
            )
            engine.close()
        asked = {"sub_levels", "clicks", "peaks_between_harmonics", "kick_meeting", "loudest_cycle"}
        self.assertEqual(seen, asked)

    def test_of_each_layer_that_may_be_the_sub(self):
        stack = slipway().stack
        two = stack.model_copy(
            update={"layers": (*stack.layers, stack.layers[0].model_copy(update={"id": "other", "name": "other"}))}
        )
        for each, subs in ((stack, 1), (two, 2)):
            graph = graph_of(each)
            alone = placed_alone(each, graph, graph.clock, no_assets)
            notes = {layer.id: notes_stage(each, layer, alone[layer.id], graph.clock) for layer in each.layers}
            asked = asked_of(each, graph, notes, graph.clock)
            self.assertEqual(set(asked), {layer.id for layer in each.layers})
            names = [one.name for found in asked.values() for one in found]
            self.assertEqual(names.count("sub_levels"), subs * len(each.layers))
            self.assertEqual(names.count("clicks"), subs)


class PlayedTest(unittest.TestCase):
    def test_notes_stay_the_same_object_until_something_of_them_changes(self):
        stack = slipway().stack
        clock, (first, *_) = graph_of(stack).clock, stack.layers
        spans = note_spans(stack, first, clock)
        for kept in (
            SetValue(path=f"layers/{first.id}/level_db", value=-3.5),
            SetValue(path=f"layers/{stack.layers[1].id}/transpose", value=12),
        ):
            edited = apply(stack, kept)
            self.assertIs(note_spans(edited, edited.layers[0], clock), spans)
        higher = apply(stack, SetValue(path=f"layers/{first.id}/transpose", value=12))
        hertz = [span.expected_hz for span in note_spans(higher, higher.layers[0], clock)]
        np.testing.assert_allclose(hertz, [2.0 * span.expected_hz for span in spans])
        slower = apply(stack, SetValue(path="tempo_bpm", value=stack.tempo_bpm / 2.0))
        later = note_spans(slower, slower.layers[0], graph_of(slower).clock)
        self.assertEqual([span.start_beats for span in later], [span.start_beats for span in spans])
        self.assertGreater(later[-1].first, 1.9 * spans[-1].first)
        note = stack.pattern[0]
        moved = apply(stack, ReplaceNote(was=note, now=note.model_copy(update={"pitch": note.pitch + 12})))
        self.assertAlmostEqual(note_spans(moved, moved.layers[0], clock)[0].expected_hz, 2.0 * spans[0].expected_hz)


class RecoveriesTest(unittest.TestCase):
    def test_a_ducker_comes_back_as_with_its_own_shape_tried(self):
        stack = slipway().stack
        engine = Engine()
        measures = measure(stack, no_assets, engine)
        self.assertTrue(measures.recoveries)
        for ducker in stack.duckers:
            self.assertEqual(measures.recoveries[ducker.id], measures.recoveries_with(ducker, ducker.shape))
            off = apply(stack, SetValue(path=f"duckers/{ducker.id}/on", value=False))
            self.assertNotIn(ducker.id, measure(off, no_assets, engine).recoveries)
        engine.close()


class LastingTest(unittest.TestCase):
    def test_what_goes_into_a_room_stays_longest(self):
        stack = slipway().stack
        path = layer_path(Reverb(id="room", blend=0.3))
        mid = stack.layer("mid").model_copy(update={"path": path})
        with_room = stack.model_copy(update={"layers": tuple(mid if one.id == "mid" else one for one in stack.layers)})
        after = graph_of(with_room).passed["layers/mid/path/room"].after
        self.assertEqual(after.name, "treat")
        self.assertTrue(after.inputs[0].lasting)
        self.assertFalse(after.inputs[0].inputs[0].lasting)


if __name__ == "__main__":
    unittest.main()
