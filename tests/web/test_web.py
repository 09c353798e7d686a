"""The web application over its HTTP interface."""

import json
import re
import urllib.parse
from pathlib import Path
from unittest import mock

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.formats.bundles import write_bundle
from apilado.core.formats.midi_files import write_midi
from apilado.core.measure.loudness import measure_loudness
from apilado.core.render.audition import Audition
from apilado.core.render.graph import build, clock_of
from apilado.demo.shelf import fill_if_empty
from apilado.demo.stacks import rope_walk, slipway
from apilado.demo.starts import starts
from tests.support import points_in, sine, wav, without_ids
from tests.web.case import Structure, WebCase

WEB = Path(__file__).parents[2] / "apilado" / "web"


class PagesTest(WebCase):
    def test_every_page_and_fragment(self):
        for path in (
            "/",
            f"/stacks/{self.stack_id}",
            f"/stacks/{self.stack_id}/card",
            f"/stacks/{self.stack_id}/layers",
            f"/stacks/{self.stack_id}/deliver",
            *(
                f"/stacks/{self.stack_id}/sheet?selected={s}"
                for s in ("piece", "bus", "kick", "duck", "layer:mid", "layer:gone")
            ),
            f"/stacks/{self.stack_id}/sheet?selected=layer:mid&item=note:0.5:29",
            f"/stacks/{self.stack_id}/sheet?selected=layer:mid&item=hit:0",
        ):
            with self.subTest(path=path):
                answer = self.client.get(path)
                self.assertEqual(answer.status_code, 200, answer.text)
                for tag, attributes in Structure(answer.text).tags:
                    self.assertNotIn("style", attributes, tag)
                    self.assertFalse([name for name in attributes if name.startswith("on")], tag)

    def test_every_number_of_a_layer_is_in_its_sheet(self):
        from apilado.core.document.layer import Layer
        from apilado.core.parameters import parameters_of

        paths = {
            a.get("data-path")
            for _, a in Structure(
                self.client.get(f"/stacks/{self.stack_id}/sheet?selected=layer:mid&opened=*").text
            ).tags
        }
        rows = {a.get("data-path") for _, a in Structure(self.client.get(f"/stacks/{self.stack_id}/layers").text).tags}
        for parameter in parameters_of(Layer):
            self.assertIn(f"layers/mid/{parameter.name}", paths | rows)

    def test_no_page_asks_another_server_for_anything(self):
        for path in ("/", f"/stacks/{self.stack_id}"):
            for _, attributes in Structure(self.client.get(path).text).tags:
                for name in ("src", "href"):
                    self.assertFalse((attributes.get(name) or "").startswith(("http", "//")))
        for sheet in (WEB / "static" / "css").glob("*.css"):
            for url in re.findall(r"url\(([^)]*)\)", sheet.read_text()):
                self.assertTrue(url.strip("\"'").startswith("/static/"), url)
                self.assertEqual(self.client.get(url.strip("\"'")).status_code, 200, url)

    def test_names_are_escaped_everywhere(self):
        name = "<script>alert(1)</script>\"'&"
        self.edit({"op": "set", "path": "name", "value": name})
        self.edit({"op": "set", "path": "layers/mid/name", "value": name[:40]})
        answer = self.edit({"op": "set", "path": "tempo_bpm", "value": 100.0})
        drawn = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}}).json()
        answer.pop("texts")  # goes into the page as text, never as markup
        texts = [json.dumps(answer), json.dumps(drawn)] + [
            self.client.get(path).text
            for path in (
                "/",
                f"/stacks/{self.stack_id}",
                f"/stacks/{self.stack_id}/sheet?selected=layer:mid",
                f"/stacks/{self.stack_id}/layers",
                f"/stacks/{self.stack_id}/deliver",
            )
        ]
        for text in texts:
            self.assertNotIn("<script>alert", text)

    def test_a_stack_that_cannot_be_read_stands_beside_the_others(self):
        with self.workspace.database.transaction() as connection:
            head = connection.execute("SELECT head FROM stacks WHERE id = ?", (self.stack_id,)).fetchone()[0]
            connection.execute(
                "UPDATE revisions SET document = ? WHERE id = ?", ('{"name": "Broken <b>", "format": 1}', head)
            )
        shelf = self.client.get("/")
        self.assertEqual(shelf.status_code, 200)
        for words in ("Broken &lt;b&gt;", "This stack cannot be read", "Lock Gate", "Rope Walk"):
            self.assertIn(words, shelf.text)
        raw = self.client.get(f"/stacks/{self.stack_id}/export/raw")
        self.assertEqual(raw.json()["name"], "Broken <b>")
        other = next(item.id for item in self.workspace.stacks.listed())
        self.assertEqual(self.client.post(f"/stacks/{other}/duplicate").status_code, 200)
        self.assertEqual(len(self.workspace.stacks.listed()), len(starts()))
        removed = self.client.post(f"/stacks/{self.stack_id}/delete")
        self.assertIn("off the shelf", removed.text)
        self.assertNotIn("This stack cannot be read", removed.text)
        fill_if_empty(self.workspace)
        self.assertEqual(len(self.workspace.stacks.listed()), len(starts()))

    def test_missing_things_are_told(self):
        page = self.client.get("/stacks/999", headers={"accept": "text/html"})
        self.assertEqual(page.status_code, 404)
        self.assertIn("There is no stack 999", page.text)
        self.assertEqual(self.client.get("/stacks/999/revision").json(), {"error": "There is no stack 999"})


class EditsTest(WebCase):
    def test_an_edit_answers_with_the_plan_and_the_values(self):
        told = self.edit({"op": "move-crossover", "crossover": "lower", "frequency_hz": 150.0})
        self.assertEqual(set(told["plan"]), {"pile", "profile", "passage", "strip"})
        self.assertIn("150 Hz", told["plan"]["pile"])
        self.assertEqual(told["values"], {"crossovers/lower/frequency_hz": "150"})
        self.assertFalse(told["controls"])
        self.assertEqual(told["undo"], "Crossover 1 to 150 Hz")

    def test_fields(self):
        mid, piece, kick = "layer:mid", "piece", "kick"
        wave = "layers/mid/source/tones/wave"
        cases = (
            (mid, "layers/mid/level_db", "-3.5", lambda s: s.layer("mid").level_db == -3.5),
            (mid, "layers/mid/level_db", "−4,25", lambda s: s.layer("mid").level_db == -4.25),
            (mid, "layers/mid/mono", True, lambda s: s.layer("mid").mono),
            (mid, "layers/mid/polarity", "inverted", lambda s: s.layer("mid").polarity == "inverted"),
            (
                mid,
                "layers/mid/path/clip/oversampling",
                "8",
                lambda s: s.layer("mid").path[1].oversampling == 8,
            ),
            (mid, f"{wave}/copies", "3", lambda s: s.layer("mid").source.tones[0].copies == 3),
            (
                mid,
                f"{wave}/harmonics",
                "1, , 0.5",
                lambda s: s.layer("mid").source.tones[0].harmonics == (1.0, None, 0.5),
            ),
            (mid, f"{wave}/harmonics", "", lambda s: s.layer("mid").source.tones[0].harmonics == ()),
            ("layer:sub", "layers/sub/source/kind", "layer", lambda s: s.layer("sub").source.layer == "mid"),
            (piece, "crossovers/lower/frequency_hz", "9000", lambda s: abs(s.crossovers[0].frequency_hz - 508.0) < 0.1),
            (piece, "crossovers/upper/slope_db_per_octave", "48", lambda s: s.crossovers[1].slope_db_per_octave == 48),
            (piece, "sample_rate", "44100", lambda s: s.sample_rate == 44100),
            (piece, "bars", "5", lambda s: s.bars == 5 and s.kick.hits[-1] == 19.0),
            (piece, "name", "Slip", lambda s: s.name == "Slip"),
            (kick, "kick/hits", "1, 3.5", lambda s: s.kick.hits == (0.0, 2.5)),
        )
        for selected, path, value, holds in cases:
            with self.subTest(path=path):
                self.type(path, value, selected=selected)
                self.assertTrue(holds(self.head().stack))

    def test_fields_of_a_note_and_of_a_hit(self):
        told = self.type("pattern/@0.5:29/pitch", "G1", selected="piece", item="note:0.5:29")
        self.assertEqual((self.head().stack.pattern[0].pitch, told["item"]), (31, "note:0.5:31"))
        told = self.type("pattern/@0.5:31/start_beats", "1.25", selected="piece", item="note:0.5:31")
        self.assertEqual((self.head().stack.pattern[0].start_beats, told["item"]), (0.25, "note:0.25:31"))
        told = self.type("kick/hits/@1", "2.75", selected="piece", item="hit:kick:1")
        self.assertEqual((self.head().stack.kick.hits[:2], told["item"]), ((0.0, 1.75), "hit:kick:1.75"))
        last = self.type("pattern/@0.25:31/start_beats", "16", selected="piece", item="note:0.25:31")
        self.assertEqual(
            (
                next(n for n in self.head().stack.pattern if n.pitch == 31 and n.start_beats >= 15.0).start_beats,
                last["item"],
            ),
            (15.0, "note:15:31"),
        )

    def test_menus(self):
        self.choose("layers/mid/span", "112–20k Hz", selected="layer:mid")
        self.assertEqual(self.head().stack.layer("mid").span.last, 2)
        self.choose("layers/mid/path/eq/pair", "kick", selected="layer:mid")
        self.assertEqual(
            (self.head().stack.pairs[0].dip, self.head().stack.pairs[0].lift), ("layers/mid/path/eq", "kick/eq")
        )
        self.choose("layers/mid/path/eq/points/dip/copy", "kick", selected="layer:mid")
        self.assertEqual(
            without_ids(points_in(self.head().stack, "kick")), without_ids(points_in(self.head().stack, "layers/mid"))
        )

    def test_refused_fields_change_nothing_and_say_why(self):
        before = self.head()
        for path, value, words in (
            ("layers/mid/level_db", "400", "level of mid runs from −60 to 12 db; 400 was not taken"),
            ("layers/mid/level_db", 400, "level of mid runs from −60 to 12 db; 400 was not taken"),
            ("layers/mid/level_db", "loud", "level of mid takes a number, not 'loud'"),
            ("layers/mid/level_db", None, "level of mid takes a number, not 'none'"),
            ("layers/mid/mute", "loud", "mute of mid is on or off, not 'loud'"),
            ("layers/mid/polarity", "sideways", "polarity of mid is one of normal, inverted, not 'sideways'"),
            ("layers/mid/name", 3, "name of mid is a text, not '3'"),
            ("layers/mid/transpose", "1.5", "transpose of mid takes a whole number, not '1.5'"),
            ("layers/mid/source/kind", "take", "a take needs its audio"),
            ("layers/mid/source/kind", "organ", "a source is one of tone, sample, take, layer, not 'organ'"),
            ("layers/none/level_db", 1, "there is nothing at"),
            ("pattern/@9:9/pitch", 1, "there is nothing at"),
            ("kick/hits/@9.9", 1, "there is nothing at"),
            ("pattern/@0.5:29/pitch", "4000", "is no pitch"),
            ("pattern/@0.5:29/pitch", 200, "pitch of note f1 runs from 0 to 127; 200 was not taken"),
            ("pattern/@0.5:29/pitch", "C12", "pitches run from c-1 to g9; c12 was not taken"),
            ("pattern/@0.5:29/start_beats", "0", "beat of note f1 runs from 1 to 1025; 0 was not taken"),
            ("kick/hits/@0", "0.5", "runs from 1 to 1025; 0.5 was not taken"),
            ("kick/hits", "0, 1", "hits of kick runs from 1 to 1025; 0 was not taken"),
            ("kick/hits", "1, two", "hits of kick takes a number, not 'two'"),
            ("duckers/duck/silent_bars", "2,,3", "takes numbers with commas between them, not '2,,3'"),
        ):
            with self.subTest(path=path, value=value):
                told = self.edit({"op": "set", "path": path, "value": value}, status=422)
                self.assertIn(words, told["error"].lower())
        self.assertEqual(self.head(), before)

    def test_malformed_requests(self):
        for posted in ({}, {"edit": 3}, {"edit": {}, "base": "x", "view": {"height": -1}}):
            answer = self.client.post(f"/stacks/{self.stack_id}/edits", json=posted)
            self.assertEqual(answer.status_code, 422)
            self.assertIn("error", answer.json())

    def test_a_stale_page_catches_up_and_is_told(self):
        stale = self.head().id
        self.edit({"op": "set", "path": "tempo_bpm", "value": 100.0})
        told = self.edit({"op": "set", "path": "bars", "value": 2}, base=stale)
        self.assertIn("another tab", told["notice"])
        self.assertTrue(told["controls"])
        self.assertEqual((self.head().stack.tempo_bpm, self.head().stack.bars), (100.0, 2))

    def step(self, kind, client):
        answer = self.client.post(f"/stacks/{self.stack_id}/{kind}", json={"view": {}, "client": client})
        return answer.json()["notice"]

    def test_undo_of_what_another_page_did_is_told(self):
        posted = {"edit": {"op": "set", "path": "tempo_bpm", "value": 100.0}, "base": self.head().id, "view": {}}
        self.client.post(f"/stacks/{self.stack_id}/edits", json={**posted, "client": "theirs"})
        self.assertEqual(self.step("undo", "mine"), "Took back ‘Tempo: 100 bpm’, which was done in another tab.")
        self.assertEqual(self.step("redo", "mine"), "Did again ‘Tempo: 100 bpm’, which was done in another tab.")
        self.assertIsNone(self.step("undo", "theirs"))
        files = {"file": ("bass.wav", wav(sine(50.0, 0.5)))}
        self.client.post(f"/stacks/{self.stack_id}/audio", data={"target": "new", "client": "theirs"}, files=files)
        self.assertIn("which was done in another tab", self.step("undo", "mine"))
        self.assertIsNone(self.step("undo", "mine"))  # there is nothing left to take back

    def test_undo_and_redo(self):
        self.edit({"op": "set", "path": "tempo_bpm", "value": 100.0})
        told = self.client.post(f"/stacks/{self.stack_id}/undo", json={"view": {}}).json()
        self.assertEqual((told["tempo_bpm"], told["undo"]), (126.0, None))
        told = self.client.post(f"/stacks/{self.stack_id}/redo", json={"view": {}}).json()
        self.assertEqual((told["tempo_bpm"], told["redo"]), (100.0, None))

    def test_what_is_new_is_selected(self):
        self.assertEqual(self.edit({"op": "add-layer", "id": "mine"})["select"], "layer:mine")
        for path, selected in (("duckers", "duck:new"), ("triggers", "trigger:new")):
            self.assertEqual(self.edit({"op": "add", "path": path, "part": {"id": "new"}})["select"], selected)
        self.assertIsNone(self.edit({"op": "set", "path": "layers/mid/level_db", "value": -3.0})["select"])

    def test_harmonics_are_drawn_and_pulled(self):
        view = {"selected": "layer:mid", "mode": "harmonics"}
        told = self.edit(
            {"op": "harmonic", "path": "layers/mid/source/tones/wave", "number": 2, "amplitude": 0.0}, view=view
        )
        self.assertIn('data-number="2"', told["plan"]["profile"])
        self.assertEqual(self.head().stack.layer("mid").source.tones[0].harmonics, (None, 0.0))


class SoundTest(WebCase):
    def test_the_loop_is_the_render_to_the_bit(self):
        found, headers = self.loop()
        stack = self.head().stack
        expected = self.workspace.engine.run([build(stack, clock_of(stack, looped=True), self.workspace.load).output])[
            0
        ]
        np.testing.assert_array_equal(found, expected)
        self.assertEqual(int(headers["x-frames"]), expected.shape[1])
        self.assertEqual(int(headers["x-revision"]), self.head().id)

    def test_a_render_that_takes_long_is_told(self):
        self.assertNotIn("x-slow", self.loop()[1])
        self.edit({"op": "set", "path": "layers/high/delay_ms", "value": 0.5})
        with mock.patch("apilado.web.routes.sound.SLOW_S", 0.0), mock.patch("apilado.web.routes.sound.MOSTLY", 0.0):
            said = self.loop()[1]["x-slow"]
        self.assertEqual(urllib.parse.unquote(said), "rendered in 0 s, mostly for high")

    def test_measured_drawings(self):
        told = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}}).json()
        self.assertIn("stands", told["soundings"])
        self.assertIn("LUFS", told["meter"])
        for name in ("pile", "profile", "passage", "strip"):
            self.assertGreater(len(told["measured"][name]), 500)

    def test_a_muted_layer_is_an_empty_outline(self):
        self.edit({"op": "set", "path": "layers/mid/mute", "value": True})
        told = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}}).json()
        self.assertIn("tint-slate is-muted", told["measured"]["pile"])
        self.assertNotIn("tint-slate", told["measured"]["profile"])
        view = {"alone": ["layers/sub"]}
        told = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": view}).json()
        self.assertIn("tint-verdigris is-faded", told["measured"]["pile"])

    def test_what_is_heard_alone_is_the_listeners(self):
        stack, revision = self.head().stack, self.head().id
        url = f"/stacks/{self.stack_id}"
        for alone in ("layers/sub", "kick", "kick,layers/high"):
            audition = Audition(alone=tuple(alone.split(",")))
            clock = clock_of(stack, looped=True)
            output = self.workspace.engine.run([build(stack, clock, self.workspace.load, audition).output])[0]
            found, headers = self.loop(alone=alone.split(","))
            np.testing.assert_array_equal(found, output)
            posted = {"client": "a", "view": {"alone": alone.split(",")}}
            told = self.client.post(f"{url}/drawings", json=posted).json()
            loudness = measure_loudness(output, rate_hz=clock.rate_hz, looped=True).integrated_lkfs
            self.assertNotIn("x-levels", headers)  # the ear comes first
            levels = self.client.post(f"{url}/levels", json={"heard": {"alone": alone.split(",")}}).json()
            self.assertEqual(levels, {"loudness": loudness, "matches": [[0.0, False]]})
            self.assertEqual(
                self.hearing(alone=alone.split(","))[1], f"only {alone.replace('layers/', '').replace(',', ', ')}"
            )
            whole = self.client.post(f"{url}/drawings", json={"client": "a", "view": {}}).json()
            self.assertEqual((told["meter"], told["soundings"]), (whole["meter"], whole["soundings"]))
            self.assertEqual(self.hearing(), ["this stack", "the whole", "here"])
            heard = json.dumps({"alone": alone.split(",")})
            rows = Structure(self.client.get(f"{url}/layers", params={"heard": heard}).text).tags
            pressed = {a["data-alone"] for _, a in rows if "data-alone" in a and a["aria-pressed"] == "true"}
            self.assertEqual(pressed, set(alone.split(",")))
        self.assertEqual(self.head().id, revision)
        self.assertIn("alone", self.loop(alone=[*map(str, range(99))], status=422))
        told = self.client.get(f"{url}/layers", params={"heard": '{"alone": 3}'})
        self.assertEqual(told.status_code, 422)
        self.assertIn("What is to be heard is not valid", told.text)


class ShelfTest(WebCase):
    def test_new_rename_duplicate_delete_restore(self):
        made = self.client.post("/stacks", data={"name": "Quay"}, follow_redirects=False)
        self.assertEqual(made.status_code, 303)
        new = int(made.headers["location"].rsplit("/", 1)[1])
        self.assertIn("Breakwater", self.client.post(f"/stacks/{new}/rename", data={"name": "Breakwater"}).text)
        self.assertIn("Breakwater copy", self.client.post(f"/stacks/{new}/duplicate").text)
        gone = self.client.post(f"/stacks/{new}/delete").text
        self.assertIn(f"/stacks/{new}/restore", gone)
        self.assertNotIn(f'href="/stacks/{new}"', gone)
        self.assertIn(f'href="/stacks/{new}"', self.client.post(f"/stacks/{new}/restore").text)

    def test_an_empty_name_is_refused(self):
        answer = self.client.post(
            f"/stacks/{self.stack_id}/rename", data={"name": "  "}, headers={"hx-request": "true"}
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("name", answer.text)

    def test_an_empty_shelf_says_what_to_do(self):
        for listed in self.workspace.stacks.listed():
            self.workspace.stacks.delete(listed.id)
        self.assertIn("The shelf is empty", self.client.get("/").text)

    def test_import(self):
        files = {"file": ("rope.apilado", write_bundle(rope_walk()))}
        self.assertIn("is on the shelf", self.client.post("/import", files=files).text)
        bad = self.client.post("/import", files={"file": ("x.apilado", b"PK\x03\x04")}, headers={"hx-request": "true"})
        self.assertEqual(bad.status_code, 422)
        self.assertIn("is not a bundle", bad.text)


class FilesTest(WebCase):
    def test_audio_as_kick_take_and_new_layer(self):
        content = wav(sine(80.0, 0.3))
        for target, holds in (
            ("kick", lambda s: s.kick.sound.kind == "sample"),
            ("layers/sub", lambda s: s.layer("sub").source.kind == "take"),
            ("new", lambda s: s.layers[-1].name == "my take"),
        ):
            answer = self.client.post(
                f"/stacks/{self.stack_id}/audio", data={"target": target}, files={"file": ("my take.wav", content)}
            )
            self.assertEqual(answer.status_code, 200, answer.text)
            self.assertTrue(holds(self.head().stack), target)
        before = self.head()
        bad = self.client.post(
            f"/stacks/{self.stack_id}/audio", data={"target": "kick"}, files={"file": ("a.wav", content[:99])}
        )
        self.assertEqual(bad.status_code, 422)
        self.assertIn("'a.wav'", bad.json()["error"])
        self.assertEqual(self.head(), before)

    def test_a_layer_with_the_kicks_id_takes_its_own_recording(self):
        stack = self.head().stack
        stack = stack.model_copy(update={"layers": (*stack.layers, Layer(id="kick", name="kick"))})
        made = self.workspace.stacks.create(stack).stack_id
        files = {"file": ("k.wav", wav(sine(80.0, 0.3)))}
        answer = self.client.post(f"/stacks/{made}/audio", data={"target": "layers/kick"}, files=files)
        self.assertEqual(answer.status_code, 200, answer.text)
        after = self.workspace.stacks.head(made).stack
        self.assertEqual((after.layer("kick").source.kind, after.kick), ("take", stack.kick))

    def test_a_new_source_asks_what_those_play_that_took_the_old_one(self):
        before = self.head()
        files, url = {"file": ("my <take>.wav", wav(sine(80.0, 0.3)))}, f"/stacks/{self.stack_id}/audio"
        dialog = self.client.post(url, data={"target": "layers/mid"}, files=files).json()["dialog"]
        self.assertIn("‘high’ takes its sound from ‘mid’", dialog)
        self.assertNotIn("<take>", dialog)
        self.assertEqual(self.head(), before)
        keep, follow = [json.loads(a["data-edit"]) for _, a in Structure(dialog).tags if "data-edit" in a]
        told = self.edit(follow)
        self.assertEqual(told["undo"], "mid plays my <take>.wav")
        self.assertIn("high takes the new sound too", told["notice"])
        self.assertEqual(self.head().stack.layer("high").source.kind, "layer")
        self.client.post(f"/stacks/{self.stack_id}/undo", json={"view": {}})
        self.edit(keep)
        after = self.head().stack
        self.assertEqual(after.layer("high").source, before.stack.layer("mid").source)
        self.assertEqual(after.layer("mid").source.file_name, "my <take>.wav")
        told = self.client.post(url, data={"target": "layers/mid"}, files=files).json()
        self.assertEqual(told["told"], "mid plays my <take>.wav.")

    def test_midi_is_offered_then_taken(self):
        content = write_midi(slipway().stack.pattern[:4], tempo_bpm=99.0, beats_per_bar=4, name="x")
        page = self.client.post(f"/stacks/{self.stack_id}/midi", files={"file": ("x.mid", content)}).text
        self.assertIn("99 bpm", page)
        offers = [json.loads(a["data-edit"]) for _, a in Structure(page).tags if "data-edit" in a]
        self.edit(offers[1])
        self.assertEqual((len(self.head().stack.pattern), self.head().stack.tempo_bpm), (4, 99.0))

    def test_exports(self):
        for kind, start in (("bundle", b"PK"), ("json", b"{"), ("midi", b"MThd")):
            answer = self.client.get(f"/stacks/{self.stack_id}/export/{kind}")
            self.assertTrue(answer.content.startswith(start))
            self.assertIn("attachment", answer.headers["content-disposition"])
        self.assertEqual(self.client.get(f"/stacks/{self.stack_id}/export/exe").status_code, 404)

    def test_delivery_from_form_to_zip(self):
        here = f"/stacks/{self.stack_id}"
        self.assertIn('name="extent"', self.client.get(f"{here}/deliver").text)
        form = {
            "extent": "loop",
            "file_format": "wav",
            "bits": "16",
            "rate_hz": "44100",
            "mix": "on",
            "names": "a-{part}",
        }
        drawn = Structure(self.client.get(f"{here}/deliver/plan", params=form).text)
        self.assertEqual([a["data-name"] for _, a in drawn.tags if "data-file" in a], ["a-mix.wav"])
        job = self.client.post(f"{here}/deliver", data=form).json()
        self.assertEqual((job["state"], job["title"]), ("running", "Deliver 1 file"))
        done = self.client.app.state.jobs.wait(job["id"])
        self.assertEqual(done.kept.state, "done")
        self.assertTrue(self.client.get(f"/deliveries/{job['id']}/file").content.startswith(b"PK"))
        self.assertIn("Save the ZIP", self.client.get(f"{here}/deliveries").text)
        # The choices are there the next time.
        self.assertIn('value="a-{part}"', self.client.get(f"{here}/deliver").text)
        self.assertEqual(self.client.post(f"/jobs/{job['id']}/remove").json()["state"], "done")
        self.assertEqual(self.client.get(f"/deliveries/{job['id']}/file").status_code, 404)

    def test_what_cannot_be_delivered(self):
        here = f"/stacks/{self.stack_id}"
        for change, said in (
            ({"bits": "7"}, "bits"),
            ({"file_format": "flac", "bits": "32f"}, "FLAC holds 16 or 24 bits"),
            ({"names": "{nobody}"}, "no field {nobody}"),
            ({"names": "same"}, "two files would be called 'same.wav'"),
            ({"mix": "", "bass": ""}, "nothing to write"),
            ({"level": "peak", "peak_db": "9"}, "peak_db"),
        ):
            form = {"extent": "loop", "mix": "on", "bass": "on", **change}
            form = {name: value for name, value in form.items() if value}
            with self.subTest(said):
                refused = self.client.post(f"{here}/deliver", data=form)
                self.assertEqual(
                    (refused.status_code, said.lower() in refused.json()["error"].lower()), (422, True), refused.text
                )
        self.assertIn("no field", self.client.get(f"{here}/deliver/plan", params={"mix": "on", "names": "{x}"}).text)
        self.assertEqual(self.client.get("/deliveries/none/file").status_code, 422)
        self.assertEqual(self.client.get("/deliveries/7/file").status_code, 404)

    def test_presets_of_a_delivery(self):
        options = {"extent": "one-pass", "mix": "on", "level": "loudness", "loudness_lufs": "-16", "names": "{part}"}
        kept = self.client.post("/presets", json={"name": " quay ", "options": options}).json()
        self.assertEqual(
            (kept["name"], kept["options"]["loudness_lufs"], kept["options"]["bass"]), ("quay", -16.0, False)
        )
        self.assertIn(">quay</option>", self.client.get(f"/stacks/{self.stack_id}/deliver").text)
        self.assertEqual(self.client.post("/presets/remove", json={"name": "quay"}).status_code, 200)
        self.assertEqual(self.client.post("/presets/remove", json={"name": "quay"}).status_code, 404)
        self.assertEqual(self.client.post("/presets", json={"name": " ", "options": {}}).status_code, 422)
