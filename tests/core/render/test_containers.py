"""Steps with chains of their own: bands, and a chain beside the sound."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import MoveBand
from apilado.core.document.edits_carving import AddPair
from apilado.core.document.edits_values import AddPart, CopyPart, RemovePart, SetValue
from apilado.core.document.equaliser import Bell, HighPass, KeyedBell
from apilado.core.document.kick import Kick
from apilado.core.document.layer import Layer
from apilado.core.document.path import Aside, Bands, ChainedBand, Equaliser
from apilado.core.document.section import Change, PieceSection
from apilado.core.dsp.agreement import Fit, best_fit
from apilado.core.dsp.stereo import moved
from apilado.core.render.audition import Audition
from apilado.core.render.graph import added_by
from apilado.core.render.stretch import stretch_of
from apilado.core.render.tail import Reach
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.treatments.multiband import Multiband
from apilado.core.treatments.offset import Offset
from apilado.errors import InvalidEdit
from apilado.web.hearing_words import what_is_heard
from tests.seeded.stacks import Dice, seeds
from tests.support import ENGINE, graph_of, loader, noise, path_of, plain_stack, rendered, sha256, sine, wav

HERE = "layers/a/path/box"
RATE = 48000


def of_take(audio, *steps):
    """A stack whose one layer is a recording of two seconds through some steps; and the loader of its asset."""
    content = wav(audio, RATE)
    source = TakeSource(asset=sha256(content), file_name="take.wav")
    layer = Layer(id="a", source=source, path=path_of(*steps))
    return plain_stack(layers=(layer,), pattern=()), loader({sha256(content): content})


def of_saw(*steps, **changes):
    """A stack whose one layer is a held saw through some steps."""
    layer = Layer(id="a", source=ToneSource(tones=(Tone(shape="saw"),)), path=path_of(*steps))
    return plain_stack(layers=(layer,), **changes)


def bands(*from_hz, **values):
    """Bands, the lowest with the id 'b0'; `b0=(…)` gives one its chain."""
    chains = {name: values.pop(name) for name in list(values) if name[0] == "b" and name[1:].isdigit()}
    made = [ChainedBand(id=f"b{n}", from_hz=f, path=chains.get(f"b{n}", ())) for n, f in enumerate((30.0, *from_hz))]
    return Bands(id="box", bands=tuple(made), **values)


def lines_db(audio):
    """The level of each line of a loop's spectrum, in dB."""
    return 20.0 * np.log10(np.maximum(np.abs(np.fft.rfft(audio[0].astype(np.float64))), 1e-9))


class BandsTest(unittest.TestCase):
    def test_empty_chains_are_flat_wherever_the_borders_lie(self):
        impulse = np.zeros((2, 2 * RATE), np.float32)
        impulse[:, RATE] = 0.9
        for seed in seeds(12):
            dice = Dice(seed)
            from_hz, at = [], dice.hz(40.0, 300.0)
            for _ in range(dice.whole(1, 3)):
                from_hz.append(at)
                at = min(at * dice.between(1.27, 6.0), 16000.0)
            for phase in ("minimum-phase", "linear-phase"):
                slope = dice.of((12, 24, 48))
                stack, load = of_take(impulse, bands(*from_hz, phase=phase, slope_db_per_octave=slope))
                found = rendered(stack, load)["a"]
                flat = lines_db(found) - 20.0 * np.log10(0.9)
                self.assertLess(float(np.abs(flat[20:40000]).max()), 0.05, (seed, phase, from_hz, slope))
                if phase == "linear-phase":
                    np.testing.assert_allclose(found, impulse, atol=2e-6)

    def test_a_drive_in_one_band_of_three_leaves_the_others_alone(self):
        """Whole numbers of cycles in the loop, so that whatever is not a multiple of 700 Hz is a line of its own."""
        whole = 0.3 * sine(100.0, 2.0) + 0.3 * sine(700.0, 2.0) + 0.2 * sine(5010.0, 2.0)
        drive = HardClip(drive_db=24.0, output_db=0.0, after_low_pass_hz=2000.0)
        plain, load = of_take(whole)
        before = lines_db(rendered(plain, load)["a"])
        # How much of 100 Hz reaches into the band, and is driven there, is a matter of the slope: -32 dB, -64 dB.
        for phase, slope, most in (
            ("minimum-phase", 48, 0.05),
            ("linear-phase", 48, 0.05),
            ("minimum-phase", 24, 0.5),
        ):
            stack, load = of_take(whole, bands(250.0, 2000.0, b1=(drive,), phase=phase, slope_db_per_octave=slope))
            after = lines_db(rendered(stack, load)["a"])
            for hertz in (100, 5010):
                self.assertLess(abs(after[2 * hertz] - before[2 * hertz]), most, (phase, hertz))
            # What the drive makes of 700 Hz, and of what of 100 Hz and 5010 Hz is left in its band.
            self.assertGreater(after[2 * 2100], before[2 * 700] - 40.0)
            self.assertLess(before[2 * 2100], before[2 * 700] - 90.0)

    def test_a_band_is_as_loud_as_its_level(self):
        stack, load = of_take(noise(2 * RATE), bands(300.0, 3000.0))
        quiet = apply(stack, SetValue(path=f"{HERE}/bands/b1/level_db", value=-12.0))
        gain = lines_db(rendered(quiet, load)["a"]) - lines_db(rendered(stack, load)["a"])
        self.assertAlmostEqual(float(gain[2 * 950 : 2 * 1000].mean()), -12.0, delta=0.6)  # neighbours reach in
        self.assertLess(float(np.abs(gain[2 * 40 : 2 * 60]).max()), 0.05)
        self.assertLess(float(np.abs(gain[2 * 15000 : 2 * 16000]).max()), 0.05)

    def test_off_is_its_absence_and_nothing_more_is_made(self):
        without, off = of_saw(), of_saw(bands(300.0, b0=(HardClip(),), on=False))
        self.assertEqual(graph_of(off).output.key, graph_of(without).output.key)
        one_off = of_saw(bands(300.0, b0=(HardClip(on=False),)))
        self.assertEqual(graph_of(one_off).output.key, graph_of(of_saw(bands(300.0))).output.key)

    def test_what_it_adds_is_what_its_chains_do(self):
        for phase in ("minimum-phase", "linear-phase"):
            for chain, least, most in (((), 0.0, 1e-6), ((HardClip(drive_db=24.0),), 0.01, 4.0)):
                stack = of_saw(bands(300.0, b0=chain, phase=phase))
                (added,) = ENGINE.run([added_by(graph_of(stack), stack, HERE)])
                self.assertLessEqual(float(np.abs(added).max()), most)
                self.assertGreaterEqual(float(np.abs(added).max()), least)

    def test_borders_stop_short_of_their_neighbours(self):
        stack = of_saw(bands(200.0, 800.0, 4000.0))
        for wanted, held in ((100.0, 252.0), (9000.0, 3174.8), (500.0, 500.0)):
            edit = MoveBand(band=f"{HERE}/bands/b2", frequency_hz=wanted)
            after = apply(stack, edit)
            self.assertAlmostEqual(after.layers[0].path[1].bands[2].from_hz, held, delta=0.1)
            self.assertEqual(edit.remark(stack, after) is None, held == wanted)
        self.assertAlmostEqual(
            apply(stack, MoveBand(band=f"{HERE}/bands/b3", frequency_hz=19000.0)).layers[0].path[1].bands[3].from_hz,
            16000.0,
        )
        with self.assertRaisesRegex(InvalidEdit, "the lowest band begins at the bottom"):
            apply(stack, MoveBand(band=f"{HERE}/bands/b0", frequency_hz=60.0))
        with self.assertRaisesRegex(InvalidEdit, "a third of an octave above"):
            apply(stack, SetValue(path=f"{HERE}/bands/b2/from_hz", value=210.0))

    def test_a_band_is_added_in_the_widest_and_goes_again(self):
        stack = of_saw(bands(200.0))
        part, after = stack.layers[0].path[1].next_part("bands")
        self.assertEqual((part, after), ({"from_hz": 2000.0}, "b1"))
        added = apply(stack, AddPart(path=f"{HERE}/bands", part=part, after=f"{HERE}/bands/{after}"))
        self.assertEqual([band.from_hz for band in added.layers[0].path[1].bands], [30.0, 200.0, 2000.0])
        left = apply(added, RemovePart(path=f"{HERE}/bands/b0")).layers[0].path[1]
        self.assertEqual(left.words_of(left.bands[0]), "up to 2 kHz")
        self.assertEqual(left.unused_in(left.bands[0]), ("from_hz",))
        with self.assertRaisesRegex(InvalidEdit, "bands"):
            apply(stack, RemovePart(path=f"{HERE}/bands/b0"))

    def test_what_cannot_stand_in_a_chain(self):
        stack = of_saw(bands(200.0), Aside(id="beside"))
        for kind in ("split", "bands", "aside"):
            for path in (f"{HERE}/bands/b0/path", "layers/a/path/beside/path"):
                with self.assertRaisesRegex(InvalidEdit, f"not '{kind}'"):
                    apply(stack, AddPart(path=path, part={"kind": kind}))
        stack = apply(stack, AddPart(path=f"{HERE}/bands/b0/path", part={"id": "inner", "kind": "eq"}))
        with self.assertRaisesRegex(InvalidEdit, "pairs/.*/dip"):
            apply(stack, AddPair(dip=f"{HERE}/bands/b0/path/inner", lift="kick/eq"))

    def test_it_is_copied_with_all_that_is_in_it_and_what_moves_there(self):
        stack = of_saw(bands(300.0, b0=(HardClip(id="clip"),)))
        stack = apply(stack, AddPart(path="layers/a/path", part={"kind": "limiter"}))
        copied = apply(stack, CopyPart(path=HERE, to="bus/path"))
        (box,) = [step for step in copied.bus.path if step.kind == "bands"]
        self.assertNotEqual(box.id, "box")
        self.assertEqual(box.bands[0].path[0].drive_db, 12.0)
        self.assertEqual(box.bands[1].from_hz, 300.0)

    def test_sections_have_what_is_in_a_band_otherwise(self):
        chain = (HardClip(id="clip", drive_db=24.0),)
        stack = of_saw(bands(300.0, b0=chain), bars=2)
        there = Change(path=f"{HERE}/bands/b0/path/clip/on", value=False)
        section = PieceSection(id="s", name="plain", first_bar=2, last_bar=2, changes=(there,))
        driven, plain = (rendered(each)["a"] for each in (stack, apply(stack, SetValue(path=there.path, value=False))))
        found = rendered(stack.model_copy(update={"sections": (section,)}))["a"]
        half, away = found.shape[1] // 2, round(0.3 * RATE)
        np.testing.assert_allclose(found[:, away : half - away], driven[:, away : half - away], atol=1e-4)
        np.testing.assert_allclose(found[:, half + away : -away], plain[:, half + away : -away], atol=1e-4)
        self.assertGreater(float(np.abs(driven - plain).max()), 0.05)

    def test_a_section_has_it_off(self):
        stack = of_saw(bands(300.0, b0=(HardClip(drive_db=24.0),)), bars=2, pattern_bars=1)
        off = Change(path=f"{HERE}/on", value=False)
        section = PieceSection(id="s", name="plain", first_bar=2, last_bar=2, changes=(off,))
        there = rendered(stack.model_copy(update={"sections": (section,)}))["a"]
        driven, bare = rendered(stack)["a"], rendered(of_saw(bars=2, pattern_bars=1))["a"]
        half, away = there.shape[1] // 2, round(0.3 * RATE)
        np.testing.assert_allclose(there[:, away : half - away], driven[:, away : half - away], atol=1e-4)
        np.testing.assert_allclose(there[:, half + away : -away], bare[:, half + away : -away], atol=1e-4)
        self.assertGreater(float(np.abs(driven[:, half + away : -away] - bare[:, half + away : -away]).max()), 0.05)

    def test_a_stretch_of_its_own_output_is_the_loop_there(self):
        clip = (HardClip(drive_db=12.0),)
        boxes = (
            bands(120.0, 900.0, b1=clip),
            bands(120.0, 900.0, b1=clip, phase="minimum-phase"),
            Multiband(id="box", depth=1.0),
            Aside(id="box", level_db=0.0, path=(Offset(polarity="inverted", delay_ms=4.0),)),
        )
        for box in boxes:
            graph = graph_of(of_saw(box))
            behind = graph.passed[HERE].after
            (whole,) = ENGINE.run([behind])
            held = {where: ENGINE.run([each])[0] for where, each in graph.measured.items()}
            for begins in (0, 30000, graph.clock.frames - 300):
                (piece,) = stretch_of(
                    [behind], graph.clock, begins, 6000, held=lambda where, _, held=held: held.get(where)
                )
                (found,) = ENGINE.run([piece])
                wanted = whole[:, (begins + np.arange(6000)) % graph.clock.frames]
                apart = float(np.abs(found - wanted).max())
                self.assertLess(apart, 1e-3 * float(np.abs(whole).max()), (type(box).__name__, begins))

    def test_it_may_ring_as_long_as_its_filters_and_its_longest_chain(self):
        reach = Reach(of_saw(bands(40.0, 900.0, b1=(HardClip(),))), RATE)
        box = reach.stack.layers[0].path[1]
        inner = reach.step_seconds(f"{HERE}/bands/b1/path/{box.bands[1].path[0].id}", box.bands[1].path[0])
        self.assertGreater(inner, 0.1)
        self.assertAlmostEqual(reach.step_seconds(HERE, box), box.rings_seconds(RATE) + inner, delta=1e-9)
        aside = Aside(id="box", path=(HardClip(id="clip"),))
        beside = Reach(of_saw(aside), RATE)
        self.assertAlmostEqual(beside.step_seconds(HERE, aside), 0.005 + inner, delta=1e-9)
        self.assertEqual(beside.step_seconds(HERE, aside.model_copy(update={"on": False})), 0.0)

    def test_what_is_in_a_chain_can_listen_and_be_opened_by_a_drum(self):
        bell = KeyedBell(id="bell", trigger="kick", frequency_hz=400.0, gain_db=-18.0, threshold_db=-40.0)
        chain = (Compressor(key="kick", threshold_db=-40.0, ratio=20.0), Equaliser(id="eq", points=(bell,)))
        stack = of_saw(bands(2000.0, b0=chain), kick=Kick(hits=(0.0, 2.0), level_db=0.0))
        still = of_saw(bands(2000.0), kick=Kick(hits=(), level_db=0.0))
        hit, before = (slice(at, at + 2000) for at in (1000, RATE - 4000))
        found, plain = (rendered(each)["a"] for each in (stack, still))
        levels = [float(np.sqrt(np.mean(each[:, part] ** 2))) for each in (found, plain) for part in (hit, before)]
        self.assertLess(levels[0], 0.5 * levels[2])
        self.assertAlmostEqual(levels[1], levels[3], delta=0.05 * levels[3])
        with self.assertRaisesRegex(InvalidEdit, "there is no sound 'ghost' to listen to"):
            apply(stack, SetValue(path=f"{HERE}/bands/b0/path/{chain[0].id}/key", value="ghost"))

    def test_layers_may_listen_to_each_other_in_chains(self):
        made = []
        for name, other in (("a", "b"), ("b", "a")):
            chain = (Compressor(id="c", key=f"layers/{other}", threshold_db=-40.0, ratio=8.0),)
            path = path_of(Aside(id="beside", path=chain))
            made.append(Layer(id=name, name=name, source=ToneSource(tones=(Tone(shape="saw"),)), path=path))
        self.assertTrue(np.isfinite(rendered(plain_stack(layers=tuple(made)))["output"]).all())

    def test_one_point_of_an_eq_in_it_is_heard_alone(self):
        eq = Equaliser(id="eq", points=(Bell(id="bell", frequency_hz=110.0, gain_db=6.0, q=2.0),))
        stack = of_saw(bands(900.0, b0=(eq,)))
        point = f"{HERE}/bands/b0/path/eq/points/bell"
        found = rendered(stack, audition=Audition(point=point))["output"]
        spectrum = lines_db(found)
        self.assertLess(float(spectrum[2 * 1000 :].max()), float(spectrum.max()) - 30.0)

    def test_a_band_is_heard_alone(self):
        stack, load = of_take(noise(2 * RATE), bands(300.0, 3000.0))
        audition = Audition(point=f"{HERE}/bands/b1")
        spectrum = lines_db(rendered(stack, load, audition=audition)["output"])
        self.assertGreater(float(spectrum[2 * 900 : 2 * 1000].mean()), float(spectrum[2 * 40 : 2 * 60].mean()) + 40.0)
        self.assertGreater(float(spectrum[2 * 900 : 2 * 1000].mean()), float(spectrum[2 * 15000 :].mean()) + 30.0)
        self.assertEqual((audition.gone(stack), audition.focus(stack)), ((), audition.point))
        self.assertIn("only band 2 of bands 1 of", what_is_heard(stack, audition))
        left = apply(stack, RemovePart(path=f"{HERE}/bands/b1"))
        self.assertEqual(audition.gone(left), (audition.point,))
        self.assertIsNone(audition.focus(left))


class AsideTest(unittest.TestCase):
    def test_a_fit_is_found_to_the_frame(self):
        audio = noise(70001)
        for frames in (0, 5, -17, 200):
            for turned in (False, True):
                copy = moved(-audio if turned else audio, -float(frames), looped=True)
                self.assertEqual(best_fit(audio, copy, RATE), Fit(frames, turned))
        self.assertEqual(best_fit(audio, noise(70001, seed=9), RATE), Fit())
        self.assertEqual(best_fit(audio, np.zeros_like(audio), RATE), Fit())

    def test_it_is_put_under_the_sound_aligned(self):
        late = (Offset(polarity="inverted", delay_ms=2.0),)
        for align, wanted in ((True, 1.5), (False, None)):
            stack = of_saw(Aside(id="box", level_db=20.0 * np.log10(0.5), align=align, path=late))
            dry, both = (rendered(each)["a"] for each in (of_saw(), stack))
            if wanted:
                np.testing.assert_allclose(both, wanted * dry, atol=1e-5)
            else:
                self.assertGreater(float(np.abs(both - 1.5 * dry).max()), 0.2)

    def test_a_high_pass_beside_it_takes_nothing_from_it(self):
        """Unaligned, a steep high-pass beside a sound cancels it around its cutoff: aligned, the sum is louder."""
        chain = (Equaliser(id="eq", points=(HighPass(frequency_hz=160.0, slope_db_per_octave=24),)),)
        power = {}
        for align in (True, False):
            stack = of_saw(Aside(id="box", level_db=0.0, align=align, path=chain))
            power[align] = float(np.mean(rendered(stack)["a"] ** 2))
        self.assertGreater(power[True], 1.3 * power[False])

    def test_a_single_pass_and_a_stretch_take_the_fit_of_the_loop(self):
        stack = of_saw(Aside(id="box", level_db=-3.0, path=(Offset(polarity="inverted", delay_ms=3.0),)))
        loop, once = graph_of(stack), graph_of(stack, looped=False)
        fits = ENGINE.run([each.measured[HERE] for each in (loop, once)])
        self.assertEqual(fits[0], Fit(-144, True))
        self.assertEqual(fits[1], fits[0])
        (whole,) = ENGINE.run([loop.output])
        (piece,) = stretch_of([loop.output], loop.clock, 30000, 9000, held=lambda where, frame: fits[0])
        (found,) = ENGINE.run([piece])
        np.testing.assert_allclose(found, whole[:, 30000:39000], atol=1e-4)

    def test_what_it_adds_is_the_chain(self):
        stack = of_saw(Aside(id="box", level_db=-6.0, align=False, path=(HardClip(id="clip", drive_db=18.0),)))
        graph = graph_of(stack)
        added, chain = ENGINE.run([added_by(graph, stack, HERE), graph.passed[f"{HERE}/path/clip"].after])
        np.testing.assert_allclose(added, np.broadcast_to(chain * 10 ** (-6.0 / 20.0), added.shape), atol=1e-5)
