"""What soundings ask besides is asked with the measurements."""

import unittest

from apilado.core.assets import no_assets
from apilado.core.document.path import layer_path
from apilado.core.render.engine import Engine
from apilado.core.soundings.asked import asked_of, notes_stage
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

            def once(each, inputs, token, original=original, computed=computed):
                result = original(each, inputs, token)
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
            self.assertFalse({"sub_levels", "clicks", "peaks_between_harmonics"} & set(computed.values()), stack.name)
            engine.close()
        self.assertEqual(seen, {"sub_levels", "clicks", "peaks_between_harmonics", "kick_meeting"})

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
