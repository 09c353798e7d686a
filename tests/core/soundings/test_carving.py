"""Carving and ducking on constructed cases with known clashes, and on the demo."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.document.addresses import get, within
from apilado.core.document.carving import CarvePair, Reference
from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import apply
from apilado.core.document.edits_carving import AddPair, AddPoint, CopyPoint
from apilado.core.document.edits_layers import RemoveLayer
from apilado.core.document.edits_values import AddPart, SetShare, SetValue
from apilado.core.document.equaliser import Bell, KeyedBell, LowPass
from apilado.core.document.kick import Kick, SynthKick, Trigger
from apilado.core.document.layer import Layer, Span
from apilado.core.document.overdo import overdone
from apilado.core.document.stack import Crossover, Limiter, SharedBus
from apilado.core.dsp.filters import filtered, sections_response
from apilado.core.measure.bands import band_centres
from apilado.core.measure.loudness import measure_loudness
from apilado.core.measure.room_map import centre_of
from apilado.core.notes import Note
from apilado.core.render.audition import Audition
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.soundings.carving import TARGETS, rise_of_curve, target_curve
from apilado.core.soundings.fitting import fitted_duck, longest_recovering
from apilado.core.soundings.make_room import all_of, make_room
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.demo.stacks import lock_gate, slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import InvalidEdit, NotFound
from tests.support import (
    ENGINE,
    graph_of,
    loader,
    noise,
    path_of,
    plain_stack,
    points_in,
    rendered,
    sha256,
    wav,
    without_ids,
)

HELD = Voice(envelope=Envelope(sustain=1.0, release_ms=60.0))
KICK_110 = SynthKick(start_hz=112.0, end_hz=110.0, sweep_ms=20.0, decay_ms=220.0, click=0.1, drive_db=3.0)


def bass_at(pitch, **layer):
    """A saw whose fundamental lies at a pitch, held through, above a sub that stays out of it."""
    source = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0)
    return Layer(id="bass", name="bass", source=source, voice=HELD, span=Span(first=1, last=1), level_db=-12.0, **layer)


def clashing(hits=(0.0, 1.0, 2.0, 3.0), rests=()):
    """A bass at 110 Hz (MIDI 45) under a kick at 110 Hz; at beats in `rests` the bass is silent."""
    notes = tuple(Note(start_beats=float(b), length_beats=0.95, pitch=45) for b in range(4) if b not in rests)
    return plain_stack(
        layers=(bass_at(45),),
        crossovers=(Crossover(frequency_hz=50.0),),
        kick=Kick(sound=KICK_110, level_db=-9.0, hits=hits),
        pattern=notes,
    )


def measured(stack):
    return measure(stack, loader({}), ENGINE)


def by_id(stack, name):
    return next(s for s in sound(measured(stack)) if s.id == name)


class MakeRoomTest(unittest.TestCase):
    def assert_room_is_made(self, stack):
        before = measured(stack)
        common = before.room.common("kick", "layers/bass")
        self.assertLess(abs(np.log2(centre_of(common) / 110.0)), 1 / 3)
        proposals = make_room(before)
        self.assertTrue(proposals)
        self.assertLess(abs(np.log2(proposals[0].frequency_hz / 110.0)), 1 / 3)
        after_stack = apply(stack, all_of(proposals))
        after = measured(after_stack)
        self.assertLess(after.room.share("kick", "layers/bass"), before.room.share("kick", "layers/bass") - 0.01)
        # What it promised is what is measured, and no part is much louder or quieter for it.
        self.assertAlmostEqual(proposals[0].before, before.room.share("kick", "layers/bass"), places=6)
        for old, new in (
            (before.graph.layers["bass"], after.graph.layers["bass"]),
            (before.graph.kick, after.graph.kick),
        ):
            loud = [measure_loudness(a, rate_hz=48000, looped=True).integrated_lkfs for a in ENGINE.run([old, new])]
            self.assertLess(abs(loud[1] - loud[0]), 1.5)
        return proposals

    def test_a_bass_and_a_kick_at_110_Hz(self):
        self.assert_room_is_made(clashing())

    def test_a_clash_at_every_second_hit(self):
        stack = clashing(rests=(1, 3))
        half, whole = measured(stack).room, measured(clashing()).room
        self.assertAlmostEqual(half.share("kick", "layers/bass") / whole.share("kick", "layers/bass"), 0.5, delta=0.12)
        self.assert_room_is_made(stack)

    def test_without_a_clash_nothing_is_proposed(self):
        apart = clashing().model_copy(update={"kick": Kick(sound=KICK_110, hits=(0.0, 2.0))})
        apart = apart.model_copy(
            update={"pattern": tuple(Note(start_beats=b, length_beats=0.5, pitch=45) for b in (1.2, 3.2))}
        )
        self.assertEqual(make_room(measured(apart)), ())
        self.assertEqual(make_room(measured(plain_stack())), ())

    def test_a_sub_is_never_holed_but_moved(self):
        sub = Layer(
            id="sub",
            name="sub",
            source=ToneSource(tones=(Tone(shape="triangle"),), velocity=0.0),
            voice=HELD,
            level_db=-6.0,
        )
        kick = Kick(
            sound=SynthKick(start_hz=120.0, end_hz=55.0, decay_ms=260.0), level_db=-9.0, hits=(0.0, 1.0, 2.0, 3.0)
        )
        stack = plain_stack(layers=(sub,), kick=kick, pattern=(Note(length_beats=4.0, pitch=33),))
        proposals = make_room(measured(stack))
        self.assertTrue(proposals)
        for proposal in proposals:
            self.assertEqual(proposal.edit.point["kind"], "keyed-bell")

    def test_room_for_any_drum_with_sound(self):
        snare = Trigger(
            id="snare",
            name="snare",
            mute=False,
            level_db=-12.0,
            sound=SynthKick(start_hz=240.0, end_hz=200.0, decay_ms=150.0, click=0.8),
            hits=(1.0, 3.0),
        )
        source = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0)
        layers = (Layer(id="low", name="low", source=source, voice=HELD, level_db=-9.0, span=Span(first=1, last=1)),)
        stack = plain_stack(
            layers=layers,
            triggers=(snare,),
            crossovers=(Crossover(frequency_hz=60.0),),
            pattern=(Note(length_beats=4.0, pitch=43),),
        )
        proposals = make_room(measured(stack))
        self.assertIn("snare", {p.part for p in proposals})

    def test_all_together_keep_the_loudness_of_every_part(self):
        stack = lock_gate().stack
        before = measured(stack)
        proposals = make_room(before, most=8)
        after = measured(apply(stack, all_of(proposals)))
        for layer in stack.layers:
            pair = ENGINE.run([before.graph.layers[layer.id], after.graph.layers[layer.id]])
            loud = [measure_loudness(a, rate_hz=48000, looped=True).integrated_lkfs for a in pair]
            self.assertLess(abs(loud[1] - loud[0]), 1.5, layer.name)

    def test_few_unless_asked(self):
        found = make_room(measured(lock_gate().stack), most=1)
        self.assertEqual(len(found), 1)


class ClashSoundingTest(unittest.TestCase):
    def test_it_is_found_and_its_fix_lowers_it(self):
        stack = clashing()
        found = by_id(stack, "kick-clash")
        self.assertNotEqual(found.status, "fine")
        self.assertIn("'bass'", found.sentence)
        mended = by_id(apply(stack, found.first_way), "kick-clash")
        self.assertLess(mended.value, found.value)
        self.assertEqual(by_id(slipway().stack, "kick-clash").status, "fine")

    def test_harsh_is_found_and_notched(self):
        source = ToneSource(tones=(Tone(shape="saw", copies=5, detune_cents=12.0),), velocity=0.0)
        plain = plain_stack(voice=HELD, layers=(Layer(id="mid", name="mid", source=source, level_db=-9.0),))
        self.assertEqual(by_id(plain, "harsh").status, "fine")
        for hertz in (2500.0, 5000.0):
            ringing = apply(
                plain,
                AddPoint(to="layers/mid", point={"kind": "bell", "frequency_hz": hertz, "gain_db": 16.0, "q": 9.0}),
            )
            found = by_id(ringing, "harsh")
            self.assertNotEqual(found.status, "fine")
            self.assertLess(abs(np.log2(found.first_way.point["frequency_hz"] / hertz)), 1 / 12)
            self.assertLess(by_id(apply(ringing, found.first_way), "harsh").value, found.value - 3.0)

    def test_each_harsh_peak_can_be_notched_by_itself(self):
        source = ToneSource(tones=(Tone(shape="saw", copies=5, detune_cents=12.0),), velocity=0.0)
        stack = plain_stack(voice=HELD, layers=(Layer(id="mid", name="mid", source=source, level_db=-9.0),))
        for hertz in (2000.0, 6000.0):
            bell = {"kind": "bell", "frequency_hz": hertz, "gain_db": 16.0, "q": 9.0}
            stack = apply(stack, AddPoint(to="layers/mid", point=bell))
        found = by_id(stack, "harsh")
        self.assertGreaterEqual(len(found.offers), 2)
        for hertz in (2000.0, 6000.0):
            (offer,) = [
                each for each in found.offers if abs(np.log2(each.edit.point["frequency_hz"] / hertz)) < 1.0 / 12.0
            ]
            left = by_id(apply(stack, offer.edit), "harsh")
            other = 8000.0 - hertz
            self.assertLess(abs(np.log2(left.first_way.point["frequency_hz"] / other)), 1.0 / 12.0)

    def test_what_lies_far_under_the_bass_is_not_harsh(self):
        source = ToneSource(tones=(Tone(shape="saw", copies=5, detune_cents=12.0),), velocity=0.0)
        for hertz, heard in ((800.0, True), (60.0, False)):
            dark = (
                LowPass(frequency_hz=hertz, slope_db_per_octave=12),
                Bell(frequency_hz=5000.0, gain_db=16.0, q=9.0),
            )
            layer = Layer(id="mid", name="mid", source=source, path=path_of(eq=dark))
            found = by_id(plain_stack(voice=HELD, layers=(layer,)), "harsh")
            self.assertEqual(found.value > 5.0, heard)

    def test_mud_is_a_matter_of_target(self):
        boomy = plain_stack(
            layers=(bass_at(33, path=path_of(eq=(Bell(frequency_hz=316.0, gain_db=11.0, q=1.2),))),),
            crossovers=(Crossover(frequency_hz=50.0),),
        )
        clean = by_id(boomy, "mud")
        thick = by_id(apply(boomy, SetValue(path="target", value="thick lower mids")), "mud")
        self.assertGreater(clean.value, thick.value + 3.0)
        self.assertIn("'thick lower mids' allows", thick.sentence)
        rises = {name: rise_of_curve(target_curve(name), 250.0, 400.0) for name in TARGETS}
        self.assertLess(rises["clean lower mids"], rises["flat"])
        self.assertLess(rises["flat"], rises["thick lower mids"])


class PieceTest(unittest.TestCase):
    def test_a_target_made_of_a_finished_piece_moves_the_limit_of_mud(self):
        boomy = plain_stack(
            layers=(bass_at(33, path=path_of(eq=(Bell(frequency_hz=316.0, gain_db=11.0, q=1.2),))),),
            crossovers=(Crossover(frequency_hz=50.0),),
        )
        values = {}
        for gain in (0.0, 9.0):
            sections = Bell(frequency_hz=316.0, gain_db=gain, q=1.2).sections(48000)
            content = wav(filtered(noise(96000), sections, looped=False))
            sha = sha256(content)
            given = {"target": "finished piece", "reference": Reference(asset=sha, file_name="piece.wav")}
            measures = measure(boomy.model_copy(update=given), loader({sha: content}), ENGINE)
            values[gain] = next(s for s in sound(measures) if s.id == "mud").value
        lifted = sections_response(Bell(frequency_hz=316.0, gain_db=9.0, q=1.2).sections(48000), band_centres(3), 48000)
        wanted = rise_of_curve(20 * np.log10(np.abs(lifted)), 250.0, 400.0)
        self.assertAlmostEqual(values[0.0] - values[9.0], wanted, delta=0.5)


class PairTest(unittest.TestCase):
    def test_one_pair_dips_here_and_lifts_there(self):
        pair = CarvePair(id="p", dip="layers/mid/path/eq", lift="kick/eq", frequency_hz=110.0, dip_db=4.0, lift_db=2.0)
        stack = apply(slipway().stack, AddPart(path="pairs", part=pair.model_dump(mode="json")))
        self.assertEqual(stack.points_of("layers/mid/path/eq")[-1].gain_db, -4.0)
        self.assertEqual(stack.points_of("kick/eq")[-1].gain_db, 2.0)
        by_hand = slipway().stack
        for owner, gain in (("layers/mid", -4.0), ("kick", 2.0)):
            by_hand = apply(
                by_hand,
                AddPoint(to=owner, point={"kind": "bell", "frequency_hz": 110.0, "gain_db": gain, "q": 1.0}),
            )
        np.testing.assert_allclose(rendered(stack)["output"], rendered(by_hand)["output"], atol=1e-6)
        off = apply(stack, SetValue(path="pairs/p/on", value=False))
        np.testing.assert_array_equal(rendered(off)["output"], rendered(slipway().stack)["output"])

    def test_it_goes_with_the_layer_it_belongs_to(self):
        stack = apply(slipway().stack, AddPair(dip="layers/high", lift="kick"))
        stack = apply(stack, SetShare(ducker="duck", layer="high", amount=0.25))
        left = apply(stack, RemoveLayer(layer="high"))
        self.assertEqual(left.pairs, ())
        self.assertNotIn("high", left.duckers[0].amounts)

    def test_points_are_copied_to_any_other_part(self):
        stack = apply(slipway().stack, CopyPoint(path="layers/mid/path/eq/points/dip", to="kick"))
        self.assertEqual(without_ids(points_in(stack, "kick")), without_ids(points_in(slipway().stack, "layers/mid")))
        self.assertNotEqual(points_in(stack, "kick")[0].id, "dip")
        with self.assertRaisesRegex(InvalidEdit, "there is no EQ point"):
            apply(stack, CopyPoint(path="layers/mid/path/eq/points/7", to="bus"))


class ListeningTest(unittest.TestCase):
    def test_a_point_heard_alone_is_all_that_is_heard(self):
        stack = slipway().stack
        out = rendered(stack, audition=Audition(point="layers/mid/path/eq/points/dip"))
        spectrum = np.abs(np.fft.rfft(out["output"][0]))
        hertz = np.fft.rfftfreq(out["output"].shape[1], 1 / 48000)
        peak = hertz[np.argmax(spectrum)]
        self.assertLess(abs(np.log2(peak / 300.0)), 0.8)
        self.assertLess(float(spectrum[hertz < 60].max()), 0.1 * float(spectrum.max()))
        for owner in ("kick", "bus"):
            added = apply(stack, AddPoint(to=owner, point={"id": "mine", "kind": "bell"}))
            alone = rendered(added, audition=Audition(point=f"{added.last_eq(owner)}/points/mine"))
            self.assertGreater(float(np.abs(alone["output"]).max()), 0.001)
            self.assertLess(float(np.abs(alone["output"]).max()), float(np.abs(rendered(added)["output"]).max()))

    def test_overdone_for_a_moment(self):
        stack = slipway().stack
        deeper = overdone(stack, "duckers/duck")
        reductions = [ENGINE.run([graph_of(s).reductions["duck"]])[0].max() for s in (stack, deeper)]
        self.assertGreater(reductions[1], reductions[0] + 15.0)
        bus = apply(stack, AddPart(path="bus/path", part={"id": "squeeze", "kind": "compressor", "threshold_db": -6.0}))
        self.assertEqual(overdone(bus, "bus/path/squeeze").bus.path[-1].ratio, 20.0)
        for path in (
            "layers/mid/path/clip",
            "layers/mid/path/9",
            "duckers/gone",
            "kick",
            "layers/gone/path/0",
        ):
            with self.assertRaisesRegex(NotFound, "overdone"):
                overdone(stack, path)


class DuckersTest(unittest.TestCase):
    def test_several_duckers_with_their_own_triggers_reach_and_bars(self):
        stack = slipway().stack
        ghost = Trigger(id="ghost", name="ghost", hits=(0.5, 4.5, 8.5, 12.5))
        duckers = (
            Ducker(id="a", shape=DrawnDuck(depth_db=6.0), amounts={"sub": 0.5, "mid": 0.0}, silent_bars=(2, 4)),
            Ducker(id="b", trigger="ghost", shape=DrawnDuck(depth_db=12.0), reach="below", frequency_hz=120.0),
        )
        stack = stack.model_copy(update={"triggers": (ghost,), "duckers": duckers})
        self.assertEqual(stack.hits_of(duckers[0]), (0.0, 1.0, 2.0, 3.0, 8.0, 9.0, 10.0, 11.0))
        graph = graph_of(stack)
        a, b = ENGINE.run([graph.reductions["a"], graph.reductions["b"]])
        beat = round(48000 * 60 / 126)
        self.assertEqual(float(a[4 * beat + 100 : 7 * beat].max()), 0.0)
        self.assertAlmostEqual(float(a[8 * beat + 500]), 6.0, places=3)
        self.assertAlmostEqual(float(b[round(4.5 * beat) + 500]), 12.0, places=3)
        placed, ducked = ENGINE.run([graph.placed["mid"], graph.layers["mid"]])
        # 'a' does not reach it, 'b' not yet, and what 'b' takes lies below 120 Hz: the rest is the same sound.
        self.assertLess(np.abs(ducked[:, : beat // 3] - placed[:, : beat // 3]).max(), 2e-4)
        whole = ENGINE.run([graph.placed["sub"]])[0]
        first = slice(500, beat // 3)
        # Half of its 6 dB, and nothing of 'b' before its first hit.
        found = ENGINE.run([graph.layers["sub"]])[0][:, first]
        assert_allclose(found, whole[:, first] * 10 ** (-3 / 20), atol=2e-4)

    def test_shares_of_several_whole_duckers_add_up(self):
        stack = slipway().stack
        duckers = tuple(
            Ducker(id=name, shape=DrawnDuck(depth_db=12.0, hold_ms=400.0), amounts={"sub": share})
            for name, share in (("a", 0.25), ("b", 0.5))
        )
        graph = graph_of(stack.model_copy(update={"duckers": duckers}))
        placed, ducked = ENGINE.run([graph.placed["sub"], graph.layers["sub"]])
        held = slice(500, 15000)
        assert_allclose(ducked[:, held], placed[:, held] * 10 ** (-9 / 20), atol=1e-4)

    def test_a_silent_trigger_ducks_and_is_not_heard(self):
        stack = slipway().stack
        ghost = Trigger(id="ghost", name="ghost", hits=(0.5,))
        with_ghost = stack.model_copy(update={"triggers": (ghost,)})
        np.testing.assert_array_equal(rendered(with_ghost)["output"], rendered(stack)["output"])
        loud = with_ghost.model_copy(update={"triggers": (ghost.model_copy(update={"mute": False}),)})
        self.assertGreater(np.abs(rendered(loud)["output"] - rendered(stack)["output"]).max(), 0.3)

    def test_the_longest_release_that_recovers(self):
        stack = slipway().stack
        slow = apply(stack, SetValue(path="duckers/duck/shape/release_ms", value=900.0))
        measures = measured(slow)
        shape = longest_recovering(measures, slow.duckers[0])
        self.assertTrue(all(h.left_db <= 1.0 for h in measures.recoveries_with(slow.duckers[0], shape)))
        longer = shape.model_copy(update={"release_ms": shape.release_ms / 0.8})
        self.assertFalse(all(h.left_db <= 1.0 for h in measures.recoveries_with(slow.duckers[0], longer)))

    def test_fit_to_this_kick(self):
        for bundle in demo_bundles():
            load = loader({a.sha256: a.content for a in bundle.assets})
            measures = measure(bundle.stack, load, ENGINE)
            fit = fitted_duck(measures, bundle.stack.duckers[0])
            fitted = apply(bundle.stack, fit.edit)
            found = [s for s in sound(measure(fitted, load, ENGINE)) if s.id == "duck-recovery"]
            self.assertEqual([s.status for s in found], ["fine"], bundle.stack.name)
            tail = measures.drum_facts("kick").tail_ms
            self.assertAlmostEqual(fit.shape.hold_ms + fit.shape.release_ms, min(tail, 0.85 * fit.gap_ms), delta=8.0)

    def test_headroom_is_the_peak_of_both_mixes(self):
        stack = slipway().stack
        won = measured(stack).headroom
        off = apply(stack, SetValue(path="duckers/duck/on", value=False))
        peaks = [20 * np.log10(np.abs(rendered(s)["output"]).max()) for s in (off, stack)]
        self.assertAlmostEqual(won.before_db, peaks[0], places=3)
        self.assertAlmostEqual(won.after_db, peaks[1], places=3)


class SharedBusTest(unittest.TestCase):
    def test_bass_and_kick_go_through_it_together_and_other_drums_past_it(self):
        stack = slipway().stack
        plain = rendered(stack)["output"]
        shared = stack.model_copy(update={"shared": SharedBus(on=True, level_db=-6.0)})
        np.testing.assert_allclose(rendered(shared)["output"], plain * 10 ** (-6 / 20), atol=1e-6)
        other = Trigger(id="hat", name="hat", mute=False, hits=(0.5,), level_db=-12.0)
        with_hat = [rendered(s.model_copy(update={"triggers": (other,)}))["output"] for s in (stack, shared)]
        np.testing.assert_allclose(with_hat[1] - rendered(shared)["output"], with_hat[0] - plain, atol=1e-6)

    def test_what_it_reduces_can_be_metered(self):
        treatments = (Compressor(threshold_db=-20.0, detection="rms", timing="note", release_note="1/16", ratio=1.5),)
        stack = slipway().stack.model_copy(
            update={"shared": SharedBus(on=True, path=treatments, limiter=Limiter(ceiling_db=-6.0))}
        )
        graph = graph_of(stack)
        (path,) = [path for path in graph.passed if within(path, "shared/path")]
        passed = graph.passed[path]
        reduction, heard = ENGINE.run([passed.reduction, passed.before])
        np.testing.assert_array_equal(reduction, get(stack, path).reduction(heard, graph.clock))
        self.assertGreater(float(reduction.max()), 1.0)
        self.assertLessEqual(float(np.abs(rendered(stack)["output"]).max()), 10 ** (-6 / 20) + 1e-6)


class KeyedPointTest(unittest.TestCase):
    def test_a_keyed_bell_dips_at_the_hits_alone(self):
        kick = Kick(hits=(0.0, 2.0), mute=True)
        source = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
        layer = Layer(
            id="bass",
            source=source,
            voice=HELD,
            path=path_of(eq=(KeyedBell(frequency_hz=110.0, gain_db=-12.0, release_ms=40.0),)),
        )
        stack = plain_stack(layers=(layer,), kick=kick, pattern=(Note(length_beats=4.0, pitch=45),))
        out = rendered(stack)["output"][0]

        def at(beat):
            return np.abs(out[round(beat * 24000) : round(beat * 24000) + 2400]).max()

        self.assertLess(20 * np.log10(at(0.05) / at(1.5)), -9.0)
        self.assertAlmostEqual(20 * np.log10(at(1.5) / at(3.5)), 0.0, delta=0.05)

    def test_kicks_are_shaped(self):
        stack = slipway().stack

        def hit(s):
            return ENGINE.run([graph_of(s).hits["kick"]])[0]

        plain = hit(stack)
        for path, value in (("attack_db", 9.0), ("sustain_db", -9.0), ("clip_db", 9.0)):
            shaped = hit(apply(stack, SetValue(path=f"kick/{path}", value=value)))
            self.assertGreater(np.abs(shaped[:, :9000] - plain[:, :9000]).max(), 0.05, path)
        clipped = hit(apply(stack, SetValue(path="kick/clip_db", value=12.0)))
        self.assertAlmostEqual(float(np.abs(clipped).max()), float(np.abs(plain).max()), places=3)
        self.assertGreater(np.sqrt(np.mean(clipped**2)), np.sqrt(np.mean(plain**2)))


if __name__ == "__main__":
    unittest.main()
