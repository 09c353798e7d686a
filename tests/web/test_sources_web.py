"""Sources over HTTP and in the drawings: tables, filters, settings, recorded sound, notes that are tapped."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.movement import Movement, Target
from apilado.core.soundings.measures import measure
from apilado.demo.further import bollard, foghorn, sea_chest
from apilado.demo.starts import starts
from apilado.web.drawings.given_harmonics import given_harmonics
from apilado.web.drawings.plan import plan
from apilado.web.drawings.sound_lane import sound_wave
from apilado.web.drawings.view import View
from apilado.web.items import note_key, note_path
from apilado.web.sheets.movements import marks_of
from apilado.web.sheets.reach import Reach
from tests.support import ENGINE, loader, sine, wav
from tests.web.case import Structure, WebCase

MID = "layers/mid"


def drags(svg, kind):
    return [a for _, a in Structure(svg).tags if a.get("data-drag") == kind]


class RoutesTest(WebCase):
    def post_file(self, path, name, content, **data):
        return self.client.post(path, data=data, files={"file": (name, content)})

    def test_a_table_is_read_from_a_file_into_the_wave_that_asks_for_it(self):
        tone = f"{MID}/source/tones/{self.head().stack.layer('mid').source.tones[0].id}"
        self.edit({"op": "set", "path": f"{tone}/shape", "value": "table"})
        sheet = self.client.get(
            f"/stacks/{self.stack_id}/sheet", params={"selected": "layer:mid", "opened": f"{MID}/source,{tone}"}
        ).text
        self.assertIn("it sounds as a sine", sheet)
        self.assertIn(tone, [a.get("data-upload") for _, a in Structure(sheet).tags])
        cycles = np.concatenate([sine(100.0, 0.01) * share for share in (0.2, 0.6, 1.0)], axis=1)
        answer = self.post_file(f"/stacks/{self.stack_id}/audio", "waves.wav", wav(cycles), target=tone)
        self.assertEqual(answer.status_code, 200, answer.text)
        recorded = self.head().stack.layer("mid").source.tones[0].recorded
        self.assertEqual((recorded.file_name, recorded.cycle_frames), ("waves.wav", 480))

    def slider(self, path, selected, item=""):
        """(lowest, highest) of the slider of a value, and the highest that may be typed."""
        asked = {"selected": selected, "item": item, "opened": "*"}
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet", params=asked).text
        found = {a["type"]: a for _, a in Structure(sheet).tags if a.get("data-path") == path and "type" in a}
        return float(found["range"]["min"]), float(found["range"]["max"]), float(found["number"]["max"])

    def test_sliders_go_over_the_piece_and_the_file_and_as_far_as_a_value_has_gone(self):
        note = self.head().stack.pattern[0]
        path, item = note_path(note), note_key(note)
        self.assertEqual(self.slider(f"{path}/start_beats", "piece", item), (1.0, 17.0, 1025.0))
        self.edit({"op": "set", "path": f"{path}/length_beats", "value": 20.0})
        self.assertEqual(self.slider(f"{path}/length_beats", "piece", item)[1], 1 / 64 + 20.0)
        self.stack_id = {each.stack.name: each.id for each in self.workspace.stacks.listed()}["Sea Chest"]
        source = "layers/pipe/source"
        self.assertEqual(self.slider(f"{source}/start_ms", "layer:pipe"), (0.0, 1600.0, 600000.0))
        held = Movement(id="m", name="m", targets=(Target(id="t", path=f"{source}/hold_at_ms", travel=800.0),))
        self.edit({"op": "set", "path": f"{source}/hold_at_ms", "value": 400.0})
        reach = Reach(self.head().stack.model_copy(update={"movements": (held,)}), self.workspace.assets.seconds_of)
        mark = marks_of(reach, [f"{source}/hold_at_ms"], frozenset())[f"{source}/hold_at_ms"]
        self.assertEqual((mark.movers[0].begin, mark.movers[0].end), (0.25, 0.75))

    def test_settings_are_kept_and_taken(self):
        source = f"{MID}/source"
        self.edit({"op": "keep-setting", "path": source})
        kept = self.head().stack.layer("mid").source.settings[0]
        tone = self.head().stack.layer("mid").source.tones[0]
        self.edit({"op": "set", "path": f"{source}/tones/{tone.id}/octave", "value": 2})
        self.edit({"op": "take-setting", "path": f"{source}/settings/{kept.id}"})
        self.assertEqual(self.head().stack.layer("mid").source.tones[0].octave, tone.octave)
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet", params={"selected": "layer:mid", "opened": "*"}).text
        self.assertIn("Keep a setting", sheet)
        self.assertIn("Set the waves to it", sheet)

    def test_a_note_is_tapped_and_what_cannot_be_is_refused(self):
        answer = self.client.get(f"/stacks/{self.stack_id}/tap", params={"pitch": 33, "layer": "sub", "seconds": 0.3})
        sound = np.frombuffer(answer.content, "<f4").reshape(2, -1)
        self.assertEqual(int(answer.headers["x-frames"]), sound.shape[1])
        self.assertAlmostEqual(sound.shape[1] / int(answer.headers["x-rate"]), 0.3, delta=0.001)
        self.assertGreater(np.abs(sound).max(), 0.05)
        self.assertGreater(float(answer.headers["x-release-ms"]), 0.0)
        for asked in ({"pitch": 200}, {"pitch": 33, "seconds": 900}, {"pitch": 33, "layer": "gone"}, {}):
            refused = self.client.get(f"/stacks/{self.stack_id}/tap", params=asked)
            self.assertGreaterEqual(refused.status_code, 400, asked)
            self.assertTrue(refused.json(), asked)

    def test_what_is_not_there_is_not_looked_for(self):
        for what, within in (("root", MID), ("notes", MID), ("roots", MID), ("notes", "layers/gone")):
            answer = self.client.post(f"/stacks/{self.stack_id}/find", data={"what": what, "within": within})
            self.assertEqual(answer.status_code, 404, (what, within))

    def test_stacks_begin_with_files_and_starts(self):
        answer = self.post_file("/begin/recording", "quay.wav", wav(0.5 * sine(55.0, 1.0)))
        self.assertRegex(answer.json()["url"], r"^/stacks/\d+$")
        self.assertIn("1 note read", answer.json()["told"])
        before = len(self.workspace.stacks.listed())
        torn = self.post_file("/begin/recording", "torn.wav", b"RIFF")
        self.assertEqual(torn.status_code, 422, torn.text)
        self.assertIn("torn.wav", torn.json()["error"])
        self.assertEqual(self.client.post("/begin/start", data={"start": "Anchor"}).status_code, 404)
        self.assertEqual(len(self.workspace.stacks.listed()), before)
        shelf = self.client.get("/").text
        for start in starts():
            self.assertIn(start.words, shelf)


class DrawnTest(unittest.TestCase):
    def test_a_filter_that_is_open_has_a_handle_and_its_travel(self):
        stack = foghorn().stack
        lid = "layers/growl/source/filters/lid"
        drawn = plan(stack, View(selected="layer:growl", open=lid))["profile"]
        (handle,) = drags(drawn, "filter")
        self.assertEqual((handle["data-up"], handle["data-sideways"]), ("cutoff_hz", "resonance"))
        self.assertEqual(float(handle["data-frequency"]), 5200.0)
        self.assertNotIn("filter-travel", drawn)
        mouth = plan(stack, View(selected="layer:growl", open="layers/growl/source/filters/mouth"))["profile"]
        self.assertEqual(drags(mouth, "filter")[0]["data-sideways"], "vowel")
        snapping = plan(bollard().stack, View(selected="layer:click", open="layers/click/source/filters/snap"))
        self.assertIn("filter-travel", snapping["profile"])
        self.assertEqual(
            drags(plan(stack, View(selected="layer:growl", open="layers/growl/source"))["profile"], "filter"), []
        )

    def test_the_cycle_of_a_table_that_is_open_is_pulled(self):
        stack = bollard().stack
        cycle = "layers/click/source/tones/tap/table/mild"
        drawn = plan(stack, View(selected="layer:click", mode="harmonics", wave=cycle))["profile"]
        bars = drags(drawn, "harmonic")
        self.assertEqual({bar["data-path"] for bar in bars}, {cycle})
        self.assertEqual([float(bar["data-amplitude"]) for bar in bars[:3]], [1.0, 0.2, 0.1])

    def test_each_wave_is_drawn_by_itself_where_there_are_several(self):
        bundle = foghorn()
        measures = measure(bundle.stack, loader({}), ENGINE)
        drawn = given_harmonics(measures, View(selected="layer:growl", mode="harmonics"))
        self.assertEqual(drawn.count("of-a-wave"), 2)  # those that push others are not heard by themselves
        self.assertIn("wave-3", drawn)
        self.assertIn("wave-4", drawn)

    def test_what_is_cut_of_a_sound_lies_on_an_axis_of_its_own(self):
        bundle = sea_chest()
        view = View(selected="layer:chain", open="layers/chain/source", passage=500.0, strip=200.0)
        marks = drags(plan(bundle.stack, view, lambda sha: 0.75)["strip"], "cut")
        self.assertEqual([mark["data-name"] for mark in marks], ["slices_ms"] * 4 + ["start_ms", "end_ms"])
        self.assertEqual([float(mark["data-ms"]) for mark in marks], [0.0, 180.0, 340.0, 520.0, 0.0, 750.0])
        self.assertEqual(drags(plan(bundle.stack, view)["strip"], "cut"), [])
        shorter = apply(bundle.stack, SetValue(path="layers/chain/source/end_ms", value=600.0))
        off = [
            a for _, a in Structure(plan(shorter, view, lambda sha: 0.75)["strip"]).tags if a.get("class") == "cut-off"
        ]
        self.assertAlmostEqual(float(off[1]["x"]), 400.0, places=1)
        self.assertAlmostEqual(float(off[1]["width"]), 100.0, places=1)

    def test_its_wave_is_drawn(self):
        bundle = sea_chest()
        load = loader({asset.sha256: asset.content for asset in bundle.assets})
        measures = measure(bundle.stack, load, ENGINE)
        self.assertIn("sound-wave", sound_wave(measures, View(selected="layer:pipe", open="layers/pipe/source")))
        self.assertEqual(sound_wave(measures, View(selected="layer:sub", open="layers/sub/source")), "")

    def test_the_held_loop_is_shown_from_where_it_begins(self):
        view = View(selected="layer:pipe", open="layers/pipe/source/filters/lid", passage=500.0, strip=200.0)
        drawn = plan(sea_chest().stack, view, lambda sha: 1.6)["strip"]
        (held,) = [a for _, a in Structure(drawn).tags if a.get("class") == "cut-held"]
        self.assertAlmostEqual(float(held["x"]), 500.0 * 0.18 / 1.6, places=1)
