"""The path in the sheet, lanes, levels along the path."""

import json
import re
import unittest

import numpy as np

from apilado.core.document.edits import apply, edit_from_data
from apilado.core.render.moves import rounds_of
from apilado.core.soundings.measures import measure
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Modulation, Tone
from apilado.core.units import midi_to_hz
from apilado.demo.stacks import slipway
from apilado.web.drawings.given_harmonics import given_harmonics
from apilado.web.drawings.lanes import lanes_of
from apilado.web.drawings.plan import plan
from apilado.web.drawings.plan_profile import usual_pitch
from apilado.web.drawings.view import View
from apilado.web.path_levels import in_parts
from tests.support import ENGINE, loader, rendered
from tests.web.case import Structure, WebCase

MID = "layers/mid"


class PathTest(WebCase):
    def sheet(self, selected="layer:mid", **asked):
        return self.client.get(f"/stacks/{self.stack_id}/sheet", params={"selected": selected, **asked}).text

    def lines(self, text):
        return [a["data-line"] for _, a in Structure(text).tags if "data-line" in a]

    def test_a_line_for_each_step_in_the_order_of_the_sound(self):
        steps = [f"{MID}/path/{step.id}" for step in self.head().stack.layer("mid").path]
        wanted = [MID, f"{MID}/source", *steps, f"{MID}/place", f"{MID}/duck"]
        self.assertEqual(self.lines(self.sheet(opened="")), wanted)
        self.edit({"op": "move", "path": steps[-1], "to": 0})
        self.assertEqual(self.lines(self.sheet(opened=""))[2], steps[-1])
        self.edit({"op": "set", "path": "bus/send", "value": 0.2})  # from the first send on each part has a line for it
        self.assertEqual(self.lines(self.sheet(opened=""))[-1], f"{MID}/sent")

    def test_only_what_is_opened_shows_its_controls(self):
        def fields(**asked):
            return {a["data-path"] for _, a in Structure(self.sheet(**asked)).tags if "data-makes" in a}

        self.assertEqual(fields(opened=""), {f"{MID}/path/clip/on", f"{MID}/path/eq/on"})
        opened = fields(opened=f"{MID}/path/clip")
        self.assertIn(f"{MID}/path/clip/drive_db", opened)
        self.assertNotIn(f"{MID}/level_db", opened)
        at_first = fields()
        self.assertTrue({f"{MID}/level_db", f"{MID}/source/kind"} <= at_first)
        self.assertLess(len(at_first), 0.35 * len(fields(opened="*")))

    def test_a_container_opens_into_bands_and_these_into_chains(self):
        box = self.edit({"op": "add", "path": f"{MID}/path", "part": {"kind": "bands"}})["made"]
        bands = [f"{box}/bands/{band.id}" for band in self.head().stack.layer("mid").path[-1].bands]
        inner = self.edit({"op": "add", "path": f"{bands[1]}/path", "part": {"kind": "hard-clip"}})["made"]
        self.assertEqual([each for each in self.lines(self.sheet(opened=box)) if each.startswith(f"{box}/")], bands)
        text = self.sheet(opened=f"{box},{bands[0]},{bands[1]},{inner}")
        tags = Structure(text).tags
        fields = {a["data-path"] for _, a in tags if "data-makes" in a}
        # The lowest band begins at the bottom: that is no value to be set.
        self.assertNotIn(f"{bands[0]}/from_hz", fields)
        self.assertTrue({f"{bands[1]}/from_hz", f"{bands[1]}/level_db", f"{inner}/drive_db"} <= fields)
        self.assertIn("250 Hz–2 kHz, hard clip", text)
        self.type(f"{bands[1]}/from_hz", "9000", selected="layer:mid")
        self.assertAlmostEqual(
            self.head().stack.layer("mid").path[-1].bands[1].from_hz, 2000.0 / 2 ** (1 / 3), delta=0.1
        )
        self.type(f"{bands[1]}/from_hz", "250", selected="layer:mid")
        self.assertTrue({box, inner} <= {a.get("data-adds") for _, a in tags})
        edits = [json.loads(a["data-edit"]) for _, a in tags if "data-edit" in a]
        kinds = {
            each["part"].get("kind") for each in edits if each["op"] == "add" and each["path"] == f"{bands[1]}/path"
        }
        self.assertTrue({"eq", "tape", "multiband"} <= kinds)
        self.assertFalse({"split", "bands", "aside"} & kinds)
        (band,) = [each for each in edits if each["op"] == "add" and each["path"] == f"{box}/bands"]
        self.assertEqual((band["after"], band["part"]["from_hz"]), (bands[0], 71.0))
        self.assertEqual(self.edit(band)["made"].rpartition("/")[0], f"{box}/bands")
        menus = [json.loads(a["value"]) for name, a in tags if name == "option" and a.get("value", "").startswith("{")]
        chains = [each["to"] for each in menus if each["op"] == "copy-chain" and each["path"] == f"{bands[1]}/path"]
        self.assertEqual(chains[:2], [f"{bands[0]}/path", f"{bands[2]}/path"])
        self.assertIn("layers/high/path", chains)

    def test_a_tone_modulates_a_later_one_and_has_an_envelope_of_its_own(self):
        tones = f"{MID}/source/tones"
        first, second = (tone.id for tone in self.head().stack.layer("mid").source.tones)
        self.edit({"op": "add", "path": f"{tones}/{first}/into", "part": {"id": "m"}})
        text = self.sheet(opened="*")
        self.assertIn(f"{tones}/{first}/into/m/wave", {a.get("data-path") for _, a in Structure(text).tags})
        values = [
            a["value"] for n, a in Structure(text).tags if n == "option" and a.get("value") in ("", second, first)
        ]
        self.assertIn(second, values)
        self.assertNotIn(first, values)
        self.type(f"{tones}/{first}/into/m/wave", second, selected="layer:mid")
        self.type(f"{tones}/{first}/into/m/index", "2,5", selected="layer:mid")
        self.assertIn("into tone 2", self.sheet(opened="" + f"{MID}/source"))
        self.assertIn("modulated by tone 1, index 2.5", self.sheet(opened=f"{MID}/source"))
        tags = Structure(self.sheet(opened="*")).tags
        menus = [json.loads(a["value"]) for n, a in tags if n == "option" and a.get("value", "").startswith("{")]
        (own,) = [each for each in menus if each.get("path") == f"{tones}/{second}/envelope" and each["value"]]
        self.edit(own)
        self.type(f"{tones}/{second}/envelope/decay_ms", "650", selected="layer:mid")
        source = self.head().stack.layer("mid").source
        self.assertEqual((source.tones[0].into[0].index, source.tones[1].envelope.decay_ms), (2.5, 650.0))
        refused = self.edit({"op": "set", "path": f"{tones}/{second}/into", "value": [{"wave": first}]}, status=422)
        self.assertIn("come later", str(refused))

    def test_what_a_tone_really_gives_is_drawn_beside_its_harmonics(self):
        def line(stack):
            measures = measure(stack, loader({}), ENGINE)
            drawn = given_harmonics(measures, View(selected="layer:mid", mode="harmonics"))
            return np.array(
                [[float(v) for v in pair.split(",")] for pair in drawn.split('points="')[1].split('"')[0].split()]
            )

        sine = Tone(id="c", shape="sine")
        push = Tone(id="m", shape="sine", tuning="ratio", ratio_to_note=3.0, into=(Modulation(wave="c", index=2.0),))
        stack = self.head().stack
        plain, pushed = (
            line(
                stack.model_copy(
                    update={
                        "layers": tuple(
                            each.model_copy(update={"source": ToneSource(tones=tones)}) if each.id == "mid" else each
                            for each in stack.layers
                        )
                    }
                )
            )
            for tones in ((sine,), (push, sine))
        )
        view, note = View(), midi_to_hz(float(usual_pitch(stack)))
        for harmonic, there in ((1, True), (4, True), (7, True), (3, False)):
            near = np.abs(pushed[:, 1] - view.y(harmonic * float(note))) < 3.0
            louder = float(pushed[near, 0].max() - plain[near, 0].max())
            self.assertEqual(louder > 20.0, there and harmonic > 1, harmonic)

    def test_few_words_tell_what_a_step_does(self):
        text = self.sheet(opened="")
        for words in ("112–640 Hz", "9 dB, −4 dB", "1 point", "saw ×7 + square ×2"):
            self.assertIn(f">{words}</span>", text)

    def test_what_is_added_stands_behind_what_is_open(self):
        answer = self.edit(
            {"op": "add", "path": f"{MID}/path", "part": {"kind": "compressor"}, "after": f"{MID}/path/clip"}
        )
        path = self.head().stack.layer("mid").path
        self.assertEqual(path[[step.id for step in path].index("clip") + 1].kind, "compressor")
        self.assertEqual(answer["made"], f"{MID}/path/{path[2].id}")
        point = self.edit({"op": "add-point", "to": MID, "point": {"kind": "bell", "frequency_hz": 500.0}})["made"]
        self.assertRegex(point, f"^{MID}/path/eq/points/[a-z0-9]+$")
        copied = self.edit({"op": "copy-part", "path": f"{MID}/path/eq", "to": f"{MID}/path"})["made"]
        self.assertEqual(copied, f"{MID}/path/{self.head().stack.layer('mid').path[-1].id}")
        self.assertIsNone(self.edit({"op": "set", "path": f"{MID}/level_db", "value": -3.0})["made"])

    def test_a_mark_offers_movements_and_says_why_something_stands_still(self):
        text = self.sheet(opened=f"{MID}/place,~{MID}/level_db")
        offered = [json.loads(a["value"]) for _, a in Structure(text).tags if a.get("value", "").startswith("{")]
        moves = [edit for edit in offered if edit["op"] == "add-movement"]
        self.assertEqual({edit["path"] for edit in moves}, {f"{MID}/level_db"})
        self.edit(moves[1])
        self.edit({"op": "set", "path": f"{MID}/path/eq/phase", "value": "linear-phase"})
        point = f"{MID}/path/eq/points/dip"
        still = self.sheet(opened=f"{MID}/path/eq,{point},~{point}/gain_db")
        self.assertIn("It does not move: its EQ has a linear phase", still)

    def test_what_moves_shows_its_travel_and_has_a_line(self):
        self.edit({"op": "add-movement", "path": f"{MID}/level_db", "start": "ramp down", "id": "m"})
        text = self.sheet(opened=f"{MID}/place,movements/m")
        self.assertIn("movements/m", self.lines(text))
        (stretch,) = re.findall(r'class="travel-stretch" x="([0-9.]+)" width="([0-9.]+)"', text)
        # From -60 to 12 dB: from where it stands at -10.5 dB 12 dB down.
        self.assertAlmostEqual(float(stretch[0]), 1000 * (-22.5 + 60) / 72, delta=0.1)
        self.assertAlmostEqual(float(stretch[1]), 1000 * 12 / 72, delta=0.1)
        self.assertNotIn("travel-stretch", self.sheet("layer:sub", opened="*"))

    def test_a_voice_of_its_own_is_copied_to_another_layer(self):
        self.edit({"op": "set", "path": f"{MID}/voice", "value": {"glide_ms": 120.0}})
        text = self.sheet(opened=f"{MID}/source,{MID}/voice")
        self.choose(f"{MID}/voice/copy", "sub", selected="layer:mid")
        stack = self.head().stack
        self.assertIn("Play with the stack", text)
        self.assertEqual(stack.layer("sub").voice, stack.layer("mid").voice)
        self.assertEqual(stack.layer("sub").voice.glide_ms, 120.0)


class LevelsTest(WebCase):
    def test_levels_along_the_path_are_those_of_the_sound(self):
        self.edit(
            {"op": "add", "path": f"{MID}/path", "part": {"kind": "compressor", "id": "comp", "threshold_db": -30.0}}
        )
        self.edit({"op": "add-movement", "path": f"{MID}/pan", "start": "sine", "id": "m"})
        view = {"selected": "layer:mid"}
        answer = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "x", "view": view}).json()
        texts = answer["texts"]

        def db(text):
            return float(text.replace("−", "-"))

        stack = self.head().stack
        mid = rendered(stack)["mid"]
        level = 10.0 * np.log10(2.0 * np.mean(np.square(mid.astype(np.float64))))
        self.assertAlmostEqual(db(texts[f"level {MID}/duck"]), level, delta=0.06)
        self.assertGreater(db(texts[f"level {MID}/place"]), level)
        off = apply(stack, edit_from_data({"op": "set", "path": f"{MID}/path/comp/on", "value": False}))
        self.assertGreater(np.abs(rendered(off)["mid"]).max(), np.abs(mid).max())
        parts = answer["path"][f"{MID}/path/comp"]["reduction"]
        self.assertAlmostEqual(max(parts), float(texts[f"reduction {MID}/path/comp"].strip("↓")), places=5)
        self.assertGreater(max(parts), 3.0)
        (shares,) = answer["moving"].values()
        self.assertEqual(list(answer["moving"]), [f"{MID}/pan"])
        self.assertTrue(0.0 <= min(shares) < 0.6 < max(shares) <= 1.0)

    def test_a_duck_of_a_band_is_not_told_as_taken_from_the_whole_layer(self):
        def told():
            posted = {"client": "x", "view": {"selected": "layer:mid"}}
            return self.client.post(f"/stacks/{self.stack_id}/drawings", json=posted).json()["texts"]

        whole = told()[f"reduction {MID}/duck"]
        self.edit({"op": "set", "path": "duckers/duck/reach", "value": "below"})
        self.assertGreater(float(whole.strip("↓")), 5.0)
        self.assertEqual(told()[f"reduction {MID}/duck"], "↓0.0")

    def test_a_short_reduction_is_in_the_part_that_it_falls_into(self):
        values = np.zeros(1000, np.float32)
        values[337] = 6.04
        self.assertEqual(in_parts(values, 10), [0.0, 0.0, 0.0, 6.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0])


class WavesTest(unittest.TestCase):
    def test_the_harmonics_of_the_wave_that_is_open_are_pulled(self):
        stack = slipway().stack
        first, second = (tone.id for tone in stack.layer("mid").source.tones)
        for wave, shown in (
            ("", first),
            (f"{MID}/source/tones/{second}", second),
            ("layers/gone/source/tones/x", first),
        ):
            drawn = plan(stack, View(selected="layer:mid", mode="harmonics", wave=wave))["profile"]
            self.assertEqual(set(re.findall(r'data-path="([^"]*)"', drawn)), {f"{MID}/source/tones/{shown}"})


class LanesTest(unittest.TestCase):
    def setUp(self):
        edit = {"op": "add-movement", "path": f"{MID}/level_db", "start": "ramp down", "id": "m"}
        self.stack = apply(slipway().stack, edit_from_data(edit))
        self.view = View(selected="layer:mid", strip=240.0, passage=900.0)

    def lane(self, stack=None, view=None):
        return plan(stack or self.stack, view or self.view)["strip"]

    def test_what_is_selected_has_its_movements_in_lanes(self):
        names = [lane.name for lane in lanes_of(self.stack, self.view)]
        self.assertEqual(names, ["waves", "ducks", "movements/m"])
        self.assertEqual(len(lanes_of(self.stack, View(selected="layer:sub"))), 2)
        pulled = self.view.model_copy(update={"lanes": {"waves": 1.0, "ducks": 1.0, "movements/m": 6.0}})
        last = lanes_of(self.stack, pulled)[-1]
        self.assertAlmostEqual(last.bottom - last.top, 180.0)
        self.assertAlmostEqual(last.bottom, 240.0)

    def test_every_repetition_is_drawn_and_can_be_pulled(self):
        drawn = self.lane()
        rounds = rounds_of(self.stack, self.stack.movements[0], f"{MID}/level_db")
        self.assertEqual(len(rounds), len(self.stack.pattern))
        told = re.search(r'data-rounds="([^"]*)"', drawn).group(1).split()
        self.assertEqual(len(told), len(rounds))
        # Each beginning has its point; ends that the next note cuts off have none.
        self.assertEqual(len(re.findall(r'data-drag="course" data-movement="m" data-place="0"', drawn)), len(rounds))
        one = self.view.model_copy(update={"first_beat": 4.0, "last_beat": 8.0})
        self.assertLess(len(re.search(r'data-rounds="([^"]*)"', self.lane(view=one)).group(1).split()), len(rounds))

    def test_steps_are_swept_and_a_followed_sound_is_only_seen(self):
        steps = apply(self.stack, edit_from_data({"op": "shape-movement", "movement": "m", "start": "steps"}))
        drawn = self.lane(steps)
        self.assertIn('data-kind="steps" data-count="8"', drawn)
        self.assertIn('class="sweep"', drawn)
        follow = apply(self.stack, edit_from_data({"op": "shape-movement", "movement": "m", "start": "follow"}))
        self.assertNotIn('data-drag="course"', self.lane(follow))

    def test_an_open_step_that_takes_gain_has_a_lane(self):
        stack = apply(
            self.stack, edit_from_data({"op": "add", "path": f"{MID}/path", "part": {"kind": "compressor", "id": "c"}})
        )
        for opened, wanted in (
            (f"{MID}/path/c", True),
            (f"{MID}/path/eq", False),
            ("bus/limiter", False),
            ("nonsense/x", False),
        ):
            view = self.view.model_copy(update={"open": opened})
            self.assertEqual(opened in [lane.name for lane in lanes_of(stack, view)], wanted, opened)


if __name__ == "__main__":
    unittest.main()
