"""Carving, drums, ducks and balance over HTTP: fragments, fields, uploads, the overdone loop."""

import json

import numpy as np

from apilado.core.document.edits import apply, edit_from_data
from apilado.core.document.overdo import overdone
from apilado.core.formats.midi_files import write_midi
from apilado.core.notes import Note
from apilado.web.sheets.drums import PATTERNS, pattern_hits, rotated
from tests.core.measure.test_drums import drum_loop
from tests.support import ENGINE, graph_of, noise, rendered, sine, wav
from tests.web.case import Structure, WebCase


class CarvingWebCase(WebCase):
    def sheet(self, selected, item=""):
        answer = self.client.get(
            f"/stacks/{self.stack_id}/sheet", params={"selected": selected, "item": item, "opened": "*"}
        )
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.text

    def offers(self, text):
        return [json.loads(a["data-edit"]) for _, a in Structure(text).tags if "data-edit" in a]

    def field(self, path, value, **options):
        return self.edit({"op": "set", "path": path, "value": value}, **options)


class SheetsTest(CarvingWebCase):
    def test_every_button_of_every_sheet_is_an_edit_that_fits(self):
        self.edit(
            {
                "op": "add",
                "path": "triggers",
                "part": {"id": "snare", "name": "snare <b>", "hits": [1.0, 3.0], "mute": False},
            }
        )
        self.edit({"op": "add", "path": "pairs", "part": {"id": "p", "dip": "layers/mid/path/eq", "lift": "kick/eq"}})
        self.edit(
            {"op": "add", "path": "duckers", "part": {"id": "second", "trigger": "snare", "shape": {"kind": "drawn"}}}
        )
        self.field("shared/on", True)
        self.edit({"op": "add", "path": "shared/path", "part": {"kind": "compressor"}})
        for selected in (
            "layer:mid",
            "sub",
            "kick",
            "trigger:snare",
            "duck",
            "duck:second",
            "bus",
            "shared",
            "balance",
            "piece",
        ):
            text = self.sheet(selected)
            self.assertNotIn("snare <b>", text)
            for offer in self.offers(text):
                if offer["op"] == "remove-layer":
                    continue  # refused where another layer takes its sound, with the reason
                with self.subTest(selected=selected, offer=offer):
                    apply(self.head().stack, edit_from_data(offer))

    def test_a_selection_that_is_gone_falls_back(self):
        self.assertIn("One hit", self.sheet("trigger:gone"))
        self.assertIn("Headroom won", self.sheet("duck:gone"))

    def test_the_sheet_of_the_duck_says_what_it_does_at_this_tempo(self):
        text = self.sheet("duck")
        self.assertIn("of the shortest gap of 476 ms", text)
        self.field("duckers/duck/shape/release_ms", 900)
        text = self.sheet("duck")
        self.assertIn("not back before the next hit", text)
        shorter = next(
            o
            for o in self.offers(text)
            if o["op"] == "set" and o["path"] == "duckers/duck/shape" and o["value"]["kind"] == "keyed"
        )
        self.edit(shorter)
        self.assertIn("is back in time", self.sheet("duck"))
        self.field("duckers/duck/on", False)
        self.assertIn("reduces nothing", self.sheet("duck"))

    def test_meters_follow_what_is_on(self):
        self.assertIn("Limiter", self.sheet("bus"))
        self.assertNotIn("Meters", self.sheet("shared"))
        answer = self.field("shared/on", True)
        self.assertTrue(answer["controls"])
        self.edit({"op": "add", "path": "shared/path", "part": {"kind": "compressor", "threshold_db": -30.0}})
        self.assertIn("Compressor 1", self.sheet("shared"))
        rows = self.client.get(f"/stacks/{self.stack_id}/layers").text
        self.assertIn('data-select="shared"', rows)

    def test_unused_parameters_are_not_shown(self):
        self.edit({"op": "set", "path": "duckers/duck/shape", "value": {"kind": "drawn"}})
        self.assertNotIn("shape/hold_beats", self.sheet("duck"))
        self.assertTrue(self.field("duckers/duck/shape/lengths", "beats")["controls"])
        text = self.sheet("duck")
        self.assertIn("shape/hold_beats", text)
        self.assertNotIn("shape/hold_ms", text)


class FieldsTest(CarvingWebCase):
    def test_fields_of_this_kind(self):
        for path, value, holds in (
            ("duckers/duck/silent_bars", "2, 4", lambda s: s.duckers[0].silent_bars == (2, 4)),
            ("duckers/duck/shape/kind", "drawn", lambda s: s.duckers[0].shape.kind == "drawn"),
            ("layers/mid/path/eq/phase", "linear-phase", lambda s: s.layer("mid").path[2].phase == "linear-phase"),
            ("kick/hits", "1, 3.5", lambda s: s.kick.hits == (0.0, 2.5)),
            ("kick/hits/@2.5", "4", lambda s: s.kick.hits == (0.0, 3.0)),
            ("target", "flat", lambda s: s.target == "flat"),
        ):
            with self.subTest(path=path):
                self.field(path, value)
                self.assertTrue(holds(self.head().stack))

    def alone(self, **heard):
        return self.client.post(f"/stacks/{self.stack_id}/plan", json={"view": heard}).json()

    def test_a_point_heard_alone_is_told_until_it_is_let_go(self):
        told = self.alone(point="layers/mid/path/eq/points/dip")
        self.assertEqual(self.hearing(point="layers/mid/path/eq/points/dip")[1], "only what bell 300 Hz of mid touches")
        self.assertEqual(
            [told["states"][name] for name in ("layer:mid", "layer:sub", "kick")], ["is-heard", "is-faded", "is-faded"]
        )
        told = self.alone()
        self.assertEqual(told["states"]["layer:sub"], "is-heard")

    def test_a_share_is_told_when_it_is_first_set_and_when_that_is_undone(self):
        self.type("duckers/duck/amounts/high", "0.3", selected="duck")
        self.assertEqual(self.head().stack.duckers[0].amounts["high"], 0.3)
        told = self.type("duckers/duck/amounts/sub", "0.5", selected="layer:sub")
        self.assertEqual(told["values"]["duckers/duck/amounts/sub"], "0.5")
        self.assertFalse(told["controls"])

    def test_refusals_name_the_fault(self):
        for path, value, words in (
            ("duckers/duck/amounts/sub", 3, "Share of Duck for sub runs from 0 to 1; 3 was not taken"),
            ("duckers/gone/amounts/sub", 1, "There is nothing at"),
            ("duckers/duck/silent_bars", "two", "takes a number, not 'two'"),
            ("duckers/duck/trigger", "ghost", "there is no trigger 'ghost'"),
        ):
            before = self.head()
            told = self.field(path, value, status=422)
            self.assertIn(words, told["error"])
            self.assertEqual(self.head(), before)

    def test_a_trigger_in_use_does_not_go(self):
        self.edit({"op": "add", "path": "triggers", "part": {"id": "ghost", "name": "ghost"}})
        self.field("duckers/duck/trigger", "ghost")
        told = self.edit({"op": "remove", "path": "triggers/ghost"}, status=422)
        self.assertIn("there is no trigger 'ghost'", told["error"])


class DrawingTest(CarvingWebCase):
    def plan(self, selected, **view):
        return self.client.post(f"/stacks/{self.stack_id}/plan", json={"view": {"selected": selected, **view}}).json()[
            "plan"
        ]

    def test_pairs_are_pulled_from_either_end(self):
        self.edit(
            {
                "op": "add",
                "path": "pairs",
                "part": {"id": "p", "dip": "layers/mid/path/eq", "lift": "kick/eq", "dip_db": 6.0, "lift_db": 2.0},
            }
        )
        for selected, end in (("layer:mid", "dip"), ("kick", "lift")):
            (tack,) = [a for _, a in Structure(self.plan(selected)["profile"]).tags if a.get("data-drag") == "pair"]
            self.assertEqual((tack["data-end"], tack["data-path"]), (end, "pairs/p"))
        self.assertNotIn('data-drag="pair"', self.plan("layer:high")["profile"])

    def test_hits_of_the_chosen_drum_can_be_moved(self):
        self.edit({"op": "add", "path": "triggers", "part": {"id": "snare", "name": "snare", "hits": [1.0]}})
        for selected, drum, count in (("piece", "kick", 16), ("trigger:snare", "snare", 1)):
            held = [a for _, a in Structure(self.plan(selected)["strip"]).tags if a.get("data-drag") == "hit"]
            self.assertEqual(({a["data-drum"] for a in held}, len(held)), ({drum}, count))

    def test_a_drawn_duck_has_handles_and_the_kick_its_sweep(self):
        self.assertNotIn('data-drag="duck"', self.plan("duck")["strip"])
        self.edit({"op": "set", "path": "duckers/duck/shape", "value": {"kind": "drawn"}})
        parts = [a["data-part"] for _, a in Structure(self.plan("duck")["strip"]).tags if a.get("data-drag") == "duck"]
        self.assertEqual(parts, ["hold", "release"])
        self.assertEqual(self.plan("kick")["passage"].count("kick-sweep"), 16)
        self.assertNotIn("kick-sweep", self.plan("piece")["passage"])

    def test_zoomed_to_a_hit_the_strip_shows_before_and_after(self):
        for last, holds in ((16.0, False), (1.0, True)):
            answer = self.client.post(
                f"/stacks/{self.stack_id}/drawings", json={"client": "t", "view": {"last_beat": last}}
            )
            strip = answer.json()["measured"]["strip"]
            self.assertEqual("bass-before" in strip, holds)
            self.assertEqual("the duck wins" in strip, holds)


class RoomTest(CarvingWebCase):
    def test_the_room_map_and_its_proposals(self):
        lock_gate = next(i.id for i in self.workspace.stacks.listed() if i.stack.name == "Lock Gate")
        text = self.client.get(f"/stacks/{lock_gate}/room").text
        self.assertIn("Who covers whom", text)
        offers = self.offers(text)
        self.assertEqual(offers[0]["op"], "several")
        self.assertGreaterEqual(len(offers), 3)
        self.assertLessEqual(len(offers[0]["edits"]), 4)
        self.assertIn("Nothing sounds", self.client.get(f"/stacks/{self.silent()}/room").text)

    def silent(self):
        from apilado.core.document.stack import Stack

        return self.workspace.stacks.create(Stack(name="Empty")).stack_id


class UploadsTest(CarvingWebCase):
    def upload(self, path, name, content, status=200, **data):
        answer = self.client.post(f"/stacks/{self.stack_id}/{path}", data=data, files={"file": (name, content)})
        self.assertEqual(answer.status_code, status, answer.text)
        return answer

    def test_hits_out_of_an_audio_loop(self):
        audio, hits = drum_loop(126.0, 48000, 5)
        text = self.upload("hits/kick", "drums.wav", wav(audio)).text
        offers = self.offers(text)
        self.assertIn("All onsets", text)
        low = next(o for o in offers if len(o["value"]) == 4)
        kicks = [seconds * 126 / 60 for seconds, kind in hits if kind == "kick"]
        np.testing.assert_allclose(low["value"], kicks, atol=0.005 * 126 / 60)
        snapped = [o for o in offers if o["value"] == [0.0, 2.5, 4.0, 6.75]]
        self.edit(snapped[0])
        self.assertEqual(self.head().stack.kick.hits, (0.0, 2.5, 4.0, 6.75))

    def test_hits_out_of_a_midi_file(self):
        notes = [
            Note(start_beats=b, length_beats=0.25, pitch=p)
            for p in (36, 38)
            for b in ((0.0, 2.0) if p == 36 else (1.0, 3.0))
        ]
        content = write_midi(notes, tempo_bpm=120.0, beats_per_bar=4, name="drums")
        offers = self.offers(self.upload("hits/kick", "d.mid", content).text)
        self.assertEqual([o["value"] for o in offers], [[0.0, 2.0], [1.0, 3.0]])

    def test_bad_files_are_named_and_change_nothing(self):
        before = self.head()
        for path, name, content, words in (
            ("hits/kick", "x.wav", b"RIFF", "'x.wav'"),
            ("hits/kick", "x.mid", b"MThd\x00", "'x.mid'"),
            ("hits/kick", "x.wav", b"", "'x.wav'"),
        ):
            self.assertIn(words, self.upload(path, name, content, status=422).json()["error"])
        self.upload("hits/gone", "x.wav", wav(sine(60.0, 0.2)), status=404)
        silent = self.upload("hits/kick", "s.wav", wav(np.zeros((2, 9600), np.float32))).text
        self.assertIn("No onsets", silent)
        self.assertEqual(self.head(), before)

    def test_a_trigger_takes_a_sound_and_a_piece_is_compared_with(self):
        self.edit({"op": "add", "path": "triggers", "part": {"id": "snare", "name": "snare"}})
        self.upload("audio", "snare.wav", wav(noise(4800)), target="snare")
        self.assertEqual(self.head().stack.triggers[0].sound.kind, "sample")
        self.upload("audio", "piece.wav", wav(noise(96000)), target="reference")
        self.assertEqual(self.head().stack.reference.file_name, "piece.wav")
        text = self.sheet("balance")
        self.assertIn("The mix against ‘piece.wav’", text)
        answer = self.client.post(
            f"/stacks/{self.stack_id}/drawings", json={"client": "t", "view": {"selected": "balance"}}
        )
        self.assertIn("piece-line", answer.json()["measured"]["profile"])
        bundle = self.client.get(f"/stacks/{self.stack_id}/export/bundle").content
        self.assertIn(self.head().stack.reference.asset.encode(), bundle)
        self.field("target", "finished piece")
        text = self.sheet("balance")
        self.assertIn("The bass against ‘finished piece’", text)
        self.edit(next(o for o in self.offers(text) if o["op"] == "several"))
        self.assertEqual((self.head().stack.reference, self.head().stack.target), (None, "clean lower mids"))
        self.assertNotIn("The mix against", self.sheet("balance"))
        self.assertIn("no finished piece", self.field("target", "finished piece", status=422)["error"])


class OverdoTest(CarvingWebCase):
    def test_what_a_step_adds_is_what_comes_out_less_what_goes_in(self):
        stack, address = self.head().stack, "layers/mid/path/clip"
        heard, _ = self.loop(only=address)
        passed = graph_of(stack).passed[address]
        before, after = ENGINE.run([passed.before, passed.after])
        gain = 10.0 ** (stack.layer("mid").level_db / 20.0)
        np.testing.assert_allclose(heard, gain * (after - before), atol=1e-6)
        self.assertGreater(float(np.abs(heard).max()), 0.01)
        self.edit({"op": "set", "path": f"{address}/on", "value": False})
        self.assertIn("nothing at 'layers/mid/path/clip' that is on", self.loop(only=address, status=404))

    def test_the_overdone_loop_is_rendered_and_nothing_is_edited(self):
        before = self.head()
        heard, _ = self.loop(overdo="duckers/duck")
        np.testing.assert_array_equal(heard, rendered(overdone(before.stack, "duckers/duck"))["output"])
        self.assertEqual(self.head(), before)
        self.loop(overdo="duckers/gone", status=404)


class PreviewTest(CarvingWebCase):
    def test_an_edit_is_heard_before_it_is_made(self):
        before = self.head()
        edit = {"op": "set", "path": "layers/mid/level_db", "value": -30.0}
        heard, _ = self.loop(trial=edit)
        np.testing.assert_array_equal(heard, rendered(apply(before.stack, edit_from_data(edit)))["output"])
        self.assertEqual(self.head(), before)
        self.loop(trial={**edit, "value": 99.0}, status=422)

    def test_a_pair_is_made_from_the_sheet(self):
        self.choose("layers/mid/path/eq/pair", "kick", selected="layer:mid")
        (pair,) = self.head().stack.pairs
        self.assertEqual((pair.dip, pair.lift), ("layers/mid/path/eq", "kick/eq"))
        self.assertIn(f"pairs/{self.head().stack.pairs[0].id}/dip_db", self.sheet("kick"))

    def test_what_carve_pairs_hang_on_asks_before_it_goes(self):
        self.edit({"op": "add", "path": "triggers", "part": {"id": "snare", "name": "snare"}})
        # The EQ's switch and its removal; the removal of a trigger that has one end of a pair.
        for selected, controls in (("layer:mid", 2), ("trigger:snare", 1)):
            with self.subTest(selected=selected):
                self.assertFalse(self.asked(selected))
                self.edit({"op": "add-pair", "dip": "layers/mid", "lift": "triggers/snare"})
                asked = self.asked(selected)
                self.assertEqual(len(asked), controls)
                self.assertTrue(all("a carve pair with" in each for each in asked))
                self.edit({"op": "remove", "path": f"pairs/{self.head().stack.pairs[0].id}"})

    def asked(self, selected):
        return [a["data-asks"] for _, a in Structure(self.sheet(selected)).tags if "data-asks" in a]

    def test_a_second_eq_is_pulled_where_it_is_chosen(self):
        self.edit({"op": "add", "path": "layers/mid/path", "part": {"id": "second", "kind": "eq"}})
        pulls = [a["data-pull"] for _, a in Structure(self.sheet("layer:mid")).tags if "data-pull" in a]
        self.assertEqual(pulls, ["layers/mid/path/eq", "layers/mid/path/second"])
        for eq in ("", *pulls):
            view = {"selected": "layer:mid", "eq": eq}
            profile = self.client.post(f"/stacks/{self.stack_id}/plan", json={"view": view}).json()["plan"]["profile"]
            self.assertIn(f'data-eq="{eq or pulls[1]}"', profile)
            self.assertEqual(profile.count("eq-tack"), int(eq == pulls[0]))

    def test_the_profile_says_who_covers_the_chosen_layer(self):
        lock_gate = next(i.id for i in self.workspace.stacks.listed() if i.stack.name == "Lock Gate")
        for selected, holds in (("layer:spray", "gulls covers spray by"), ("piece", "of the drums")):
            answer = self.client.post(
                f"/stacks/{lock_gate}/drawings", json={"client": "t", "view": {"selected": selected}}
            )
            self.assertIn(holds, answer.json()["measured"]["profile"].replace("&#x27;", "'"))


class PatternsTest(CarvingWebCase):
    def test_patterns_fill_the_loop_and_rotate_round(self):
        self.assertEqual(pattern_hits("Every beat", 4.0), [0.0, 1.0, 2.0, 3.0])
        self.assertEqual(pattern_hits("Two and four", 8.0), [1.0, 3.0, 5.0, 7.0])
        self.assertEqual(pattern_hits("Dotted", 4.0), [0.0, 1.5, 3.0])
        for name in PATTERNS:
            hits = pattern_hits(name, 16.0)
            self.assertTrue(hits and max(hits) < 16.0, name)
        self.assertEqual(rotated((0.0, 2.5), -0.25, 4.0), [2.25, 3.75])


if __name__ == "__main__":
    import unittest

    unittest.main()
