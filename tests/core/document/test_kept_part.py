"""Parts that are kept for other stacks: whole, with what they need, and in the other stack's key, range and tempo."""

import unittest

from apilado.core.document.addresses import replaced
from apilado.core.document.edits import apply
from apilado.core.document.edits_layers import AddLayer
from apilado.core.document.kept_part import KeptPart, bands_between, part_taken, put_part
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.stack import Crossover
from apilado.core.notes import Note
from apilado.core.render.graph import build, clock_of
from apilado.core.sources.take import TakeSource
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.saturation import Saturation
from apilado.demo.breakwater import breakwater
from apilado.demo.further import foghorn
from apilado.demo.stacks import lock_gate, slipway
from apilado.errors import InvalidEdit
from tests.seeded.stacks import seeded_stack, seeds
from tests.support import ENGINE, path_of, plain_stack, rendered, without_ids


def crossed(*hertz):
    return tuple(Crossover(id=f"c{n}", frequency_hz=each) for n, each in enumerate(hertz))


class LayerTest(unittest.TestCase):
    def test_in_an_empty_stack_of_the_same_kind_it_sounds_as_it_did(self):
        for seed in seeds(4, first=10):
            stack, load = seeded_stack(seed)
            layer = next((each for each in stack.layers if each.source.follows() is None), None)
            if layer is None:
                continue
            quiet = {"layers": (layer,), "movements": (), "sections": (), "duckers": (), "pairs": ()}
            there = stack.model_copy(update={**quiet, "bus": stack.bus.model_copy(update={"path": ()})})
            kept = KeptPart.model_validate_json(part_taken(there, "layer", f"layers/{layer.id}").model_dump_json())
            put = put_part(there.model_copy(update={"layers": ()}), kept)
            after = apply(there.model_copy(update={"layers": ()}), put.edit)
            self.assertEqual(without_ids(after.layers[0]) | {"tint": ""}, without_ids(layer) | {"tint": ""})
            clock = clock_of(there, looped=True)
            found = [build(each, clock, load).layers[each.layers[0].id] for each in (there, after)]
            was, now = ENGINE.run(found)
            with self.subTest(seed=seed):
                # What listens to a trigger listens to the kick now.
                if kept.data["layer"] == layer.model_dump(mode="json") | {"frozen": []}:
                    self.assertEqual(float(abs(was - now).max()), 0.0)

    def test_it_comes_into_the_bands_key_and_tempo_of_the_other(self):
        take = TakeSource(asset="a" * 64, file_name="take.wav")
        notes = (Note(start_beats=0.0, length_beats=1.0, pitch=36),)
        for source, own in ((take, None), (None, notes)):
            given = {"source": source} if source else {"notes": own}
            layer = Layer(id="a", name="a", span={"first": 1, "last": 1}, **given)
            stack = plain_stack(layers=(layer,), crossovers=crossed(100.0, 800.0), key="C minor", tempo_bpm=100.0)
            kept = part_taken(stack, "layer", "layers/a")
            other = plain_stack(crossovers=crossed(90.0, 400.0, 900.0), key="A minor", tempo_bpm=120.0)
            put = put_part(other, kept)
            (after,) = apply(other, put.edit).layers
            self.assertEqual((after.span.first, after.span.last), (1, 2))
            self.assertIn("from 100–800 Hz to 90–900 Hz", put.told)
            self.assertIn("from C minor to A minor, −3 semitones", put.told)
            if source:
                self.assertEqual((after.source.tune_cents, after.source.own_bpm), (-300.0, 100.0))
                self.assertIn("stretched from 100 to 120 bpm", put.told)
            else:
                self.assertEqual([note.pitch for note in after.notes], [33])

    def test_what_moves_it_and_its_shares_come_along(self):
        stack = slipway().stack
        step = stack.layer("mid").path[1].id
        moves = (
            Target(id="t", path="layers/mid/level_db", travel=3.0),
            Target(id="u", path="kick/level_db", travel=1.0),
        )
        movement = Movement(id="m", name="swell", targets=moves)
        stack = stack.model_copy(update={"movements": (movement,)})
        stack = replaced(stack, "duckers/duck/amounts", {"mid": 0.25})
        other = lock_gate().stack.model_copy(update={"movements": ()})
        put = put_part(other, part_taken(stack, "layer", "layers/mid"))
        after = apply(other, put.edit)
        layer = after.layers[-1]
        self.assertNotEqual((layer.id, layer.path[1].id), ("mid", step))
        self.assertEqual([each.path for each in after.movements[0].targets], [f"layers/{layer.id}/level_db"])
        duck = next((each for each in after.duckers if each.name == "Duck"), None)
        if duck is not None:
            self.assertEqual(duck.amount(layer.id), 0.25)

    def test_one_that_takes_anothers_sound_brings_its_source(self):
        stack = slipway().stack
        kept = part_taken(stack, "layer", "layers/high")
        self.assertEqual(kept.data["layer"]["source"], stack.layer("mid").source.model_dump(mode="json"))
        other = plain_stack(crossovers=crossed(112.0, 640.0))
        after = apply(other, put_part(other, kept).edit)
        self.assertGreater(float(abs(rendered(after)[after.layers[0].id]).max()), 0.01)

    def test_every_layer_of_the_demo_goes_into_every_other_stack(self):
        stacks = [each().stack for each in (slipway, lock_gate, foghorn, breakwater)]
        for stack in stacks:
            for layer in stack.layers:
                kept = part_taken(stack, "layer", f"layers/{layer.id}")
                for other in stacks:
                    after = apply(other, put_part(other, kept).edit)
                    self.assertEqual(len(after.layers), len(other.layers) + 1)

    def test_ids_that_are_called_as_fields_are_not_taken_for_them(self):
        stack = foghorn().stack  # a part of it is called 'into', as the list that it is in
        moved = [t.path for each in stack.movements for t in each.targets if t.path.startswith("layers/growl/")]
        self.assertTrue(any("/into/into/" in path for path in moved), moved)
        after = apply(stack, AddLayer(copy_of="growl", id="copy"))
        copied = [t.path for each in after.movements for t in each.targets if t.path.startswith("layers/copy/")]
        self.assertEqual(len(copied), len(moved))

    def test_bands(self):
        stack = plain_stack(crossovers=crossed(100.0, 1000.0))
        for low, high, bands in (
            (20, 100, (0, 0)),
            (100, 1000, (1, 1)),
            (20, 20000, (0, 2)),
            (150, 200, (1, 1)),
            (90, 5000, (1, 2)),
        ):
            self.assertEqual(bands_between(stack, low, high), bands)
        self.assertEqual(bands_between(plain_stack(), 100, 1000), (0, 0))


class StepsTest(unittest.TestCase):
    def stack(self, **changes):
        steps = (Saturation(id="s", drive_db=9.0), Filter(id="f", cutoff_hz=700.0))
        points = ({"id": "p", "kind": "bell", "frequency_hz": 300.0, "gain_db": -4.0},)
        layers = (Layer(id="a", name="a", path=path_of(*steps, eq=points)), Layer(id="b", name="b"))
        return plain_stack(layers=layers, **changes)

    def test_a_chain(self):
        stack = self.stack()
        kept = part_taken(stack, "chain", "layers/a")
        for to in ("layers/b", "bus", "space"):
            after = apply(stack, put_part(stack, kept, to).edit)
            owner = after.layer("b") if to == "layers/b" else getattr(after, to)
            self.assertEqual(without_ids(owner.path[-3:]), without_ids(stack.layer("a").path[1:]))
        with self.assertRaisesRegex(InvalidEdit, "choose a layer or a bus first"):
            put_part(stack, kept, "kick")
        with self.assertRaisesRegex(InvalidEdit, "there is no chain at"):
            part_taken(stack.model_copy(update={"bus": stack.bus.model_copy(update={"path": ()})}), "chain", "bus")

    def test_an_eq(self):
        stack = self.stack()
        kept = part_taken(stack, "eq", "layers/a/path/eq")
        put = put_part(stack, kept, "bus")
        after = apply(stack, put.edit)
        self.assertEqual(without_ids(after.bus.path[-1]), without_ids(stack.layer("a").path[-1]))
        self.assertEqual(put.made, f"bus/path/{after.bus.path[-1].id}")

    def test_a_duck(self):
        stack = slipway().stack
        kept = part_taken(stack, "duck", "duckers/duck")
        after = apply(plain_stack(), put_part(plain_stack(), kept).edit)
        expected = without_ids(stack.duckers[0]) | {"amounts": {}}
        self.assertEqual(without_ids(after.duckers[0]), expected)

    def test_a_movement_finds_what_it_can_move(self):
        stack = self.stack()
        targets = (
            Target(id="t", path="layers/a/path/f/cutoff_hz", travel=2.0),
            Target(id="u", path="layers/a/level_db", travel=-6.0),
        )
        stack = stack.model_copy(update={"movements": (Movement(id="m", name="talk", targets=targets),)})
        kept = part_taken(stack, "movement", "movements/m")
        other = plain_stack(layers=(Layer(id="x", name="x", path=path_of(Filter(id="low"))), Layer(id="y", name="y")))
        after = apply(other, put_part(other, kept, "layers/x").edit)
        self.assertEqual(
            [each.path for each in after.movements[0].targets], ["layers/x/path/low/cutoff_hz", "layers/x/level_db"]
        )
        after = apply(other, put_part(other, kept, "layers/y").edit)
        self.assertEqual([each.path for each in after.movements[0].targets], ["layers/y/level_db"])
        only = stack.model_copy(update={"movements": (Movement(id="m", name="talk", targets=targets[:1]),)})
        with self.assertRaisesRegex(InvalidEdit, "nothing in y that ‘talk’ could move"):
            put_part(other, part_taken(only, "movement", "movements/m"), "layers/y")

    def test_what_is_not_there(self):
        for kind, address in (
            ("layer", "layers/none"),
            ("eq", "layers/a/path/s"),
            ("duck", "bus"),
            ("movement", "layers/a"),
        ):
            with self.subTest(kind), self.assertRaisesRegex(InvalidEdit, f"there is no {kind} at"):
                part_taken(self.stack(), kind, address)

    def test_which_audio_it_needs(self):
        stack = plain_stack(layers=(Layer(id="a", name="a", source=TakeSource(asset="a" * 64, file_name="t.wav")),))
        self.assertEqual(part_taken(stack, "layer", "layers/a").asset_hashes(), ("a" * 64,))
