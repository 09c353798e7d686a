"""The web application over its HTTP interface."""

import html.parser
import json
import re
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock
from urllib.parse import quote

import numpy as np
from hypothesis import HealthCheck, given, settings, strategies
from starlette.testclient import TestClient

from apilado import cli
from apilado.core.formats.bundles import write_bundle
from apilado.core.formats.midi_files import write_midi
from apilado.core.measure.loudness import measure_loudness
from apilado.core.render.audition import Audition
from apilado.core.render.graph import build, clock_of
from apilado.demo.shelf import fill_if_empty
from apilado.demo.stacks import rope_walk, slipway
from apilado.errors import ApiladoError
from apilado.web.app import create_app
from apilado.web.security import Doors, is_loopback
from tests.support import TemporaryWorkspace, sine, wav

HOST = "http://127.0.0.1:8765"
WEB = Path(__file__).parents[2] / "apilado" / "web"


class WebCase(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())
        fill_if_empty(self.workspace)
        self.client = TestClient(create_app(self.workspace), base_url=HOST)
        self.addCleanup(self.client.close)
        self.stack_id = {item.stack.name: item.id for item in self.workspace.stacks.listed()}["Slipway"]

    def head(self):
        return self.workspace.stacks.head(self.stack_id)

    def edit(self, edit, *, status=200, base=None, gesture=None, view=None):
        posted = {"edit": edit, "base": base or self.head().id, "gesture": gesture, "view": view or {}}
        answer = self.client.post(f"/stacks/{self.stack_id}/edits", json=posted)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()


class Structure(html.parser.HTMLParser):
    """Every tag with its attributes; raises on nothing, so that tests ask."""

    def __init__(self, text):
        super().__init__()
        self.tags = []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))


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
            for _, a in Structure(self.client.get(f"/stacks/{self.stack_id}/sheet?selected=layer:mid").text).tags
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
        self.assertEqual(len(self.workspace.stacks.listed()), 3)
        removed = self.client.post(f"/stacks/{self.stack_id}/delete")
        self.assertIn("off the shelf", removed.text)
        self.assertNotIn("This stack cannot be read", removed.text)
        fill_if_empty(self.workspace)
        self.assertEqual(len(self.workspace.stacks.listed()), 3)

    def test_missing_things_are_told(self):
        page = self.client.get("/stacks/999", headers={"accept": "text/html"})
        self.assertEqual(page.status_code, 404)
        self.assertIn("There is no stack 999", page.text)
        self.assertEqual(self.client.get("/stacks/999/revision").json(), {"error": "There is no stack 999"})


class SecurityTest(WebCase):
    def test_other_hosts_are_refused(self):
        for host in ("evil.example", "127.0.0.1:9999", "localhost", "127.0.0.1.evil.example:8765"):
            self.assertEqual(self.client.get("/", headers={"host": host}).status_code, 403, host)
        for host in ("localhost:8765", "[::1]:8765"):
            self.assertEqual(self.client.get("/", headers={"host": host}).status_code, 200, host)

    def test_cross_site_posts_are_refused(self):
        for headers in ({"origin": "http://evil.example"}, {"sec-fetch-site": "cross-site"}, {"origin": "null"}):
            answer = self.client.post(f"/stacks/{self.stack_id}/delete", headers=headers)
            self.assertEqual(answer.status_code, 403, headers)
        self.assertEqual(len(self.workspace.stacks.listed()), 3)
        self.assertEqual(
            self.client.post(f"/stacks/{self.stack_id}/duplicate", headers={"origin": HOST}).status_code, 200
        )

    def test_headers_of_every_answer(self):
        for path in ("/", "/static/css/paper.css", "/stacks/999"):
            sent = self.client.get(path).headers
            policy = sent["content-security-policy"]
            self.assertIn("script-src 'self';", policy)
            self.assertNotIn("unsafe", policy)
            self.assertEqual(sent["x-content-type-options"], "nosniff")

    def test_a_huge_body_is_refused_before_it_is_read(self):
        answer = self.client.post("/import", headers={"content-length": str(10**12)}, content=b"")
        self.assertEqual(answer.status_code, 413)

    def test_a_body_that_does_not_say_how_long_it_is_is_counted(self):
        sent = []

        def endless():
            for _ in range(200):
                sent.append(1)
                yield b"x" * 2**20

        answer = self.client.post(f"/stacks/{self.stack_id}/edits", content=endless())
        self.assertEqual(answer.status_code, 413)
        self.assertIn("the most is 8 MiB", answer.text)
        self.assertIn("script-src", answer.headers["content-security-policy"])

    def test_every_answer_carries_the_headers(self):
        def broken(*_):
            raise RuntimeError("broken on purpose")

        client = TestClient(create_app(self.workspace), base_url=HOST, raise_server_exceptions=False)
        answers = [
            client.get("/", headers={"host": "evil.example"}),
            client.get("/stacks/999"),
            client.get("/nowhere"),
            client.post("/import", headers={"origin": "http://["}),
        ]
        with mock.patch.object(self.workspace.stacks, "shelved", broken), self.assertLogs("apilado.web", "ERROR"):
            answers.append(client.get("/"))
        self.assertEqual([answer.status_code for answer in answers], [403, 404, 404, 403, 500])
        self.assertIn("nothing was changed", answers[-1].text)
        self.assertNotIn("broken on purpose", answers[-1].text)
        for answer in answers:
            self.assertIn("script-src 'self'", answer.headers["content-security-policy"])
            self.assertEqual(answer.headers["x-content-type-options"], "nosniff")

    def test_hosts_compare_without_case(self):
        self.assertEqual(self.client.get("/", headers={"host": "LocalHost:8765"}).status_code, 200)

    def test_beyond_loopback_the_key_opens(self):
        doors = Doors("0.0.0.0", 8765, ("Bench.local",), "a-long-key")
        client = TestClient(create_app(self.workspace, doors), base_url="http://bench.local:8765")
        for path in ("/", f"/stacks/{self.stack_id}", "/static/css/paper.css", "/?key=wrong", "/?key="):
            answer = client.get(path)
            self.assertEqual(answer.status_code, 401, path)
            self.assertIn("needs its key", answer.text)
        self.assertEqual(client.post(f"/stacks/{self.stack_id}/delete").status_code, 401)
        opened = client.get("/?key=a-long-key", follow_redirects=False)
        self.assertEqual((opened.status_code, opened.headers["location"]), (303, "/"))
        cookie = opened.headers["set-cookie"]
        for word in ("apilado-8765=a-long-key", "HttpOnly", "SameSite=strict"):
            self.assertIn(word, cookie)
        self.assertEqual(client.get("/").status_code, 200)
        self.assertEqual(client.get("/", headers={"host": "evil.example:8765"}).status_code, 403)

    def test_who_is_asked_for_a_key(self):
        for host, local in (
            ("127.0.0.1", True),
            ("localhost", True),
            ("::1", True),
            ("127.8.0.1", True),
            ("0.0.0.0", False),
            ("192.168.1.20", False),
        ):
            self.assertEqual(is_loopback(host), local, host)
            self.assertEqual(cli.key_for(host) == "", local, host)
        with self.assertRaisesRegex(ApiladoError, "--allow-host"):
            cli.check_doors("0.0.0.0", ())
        cli.check_doors("0.0.0.0", ("bench.local",))
        self.assertIn("http://bench.local:80/?key=", cli.address_of(Doors("0.0.0.0", 80, ("bench.local",), "k")))


class HardUseTest(WebCase):
    """What has no business to be asked is answered with a sentence, never with a fault of ours."""

    def test_paths_that_lead_into_numbers(self):
        for path in (
            "kick/hits/0",
            "layers/sub/source/tones/0/harmonics/0",
            "duckers/duck/silent_bars/0",
            "layers/²/name",
        ):
            for op in ("set", "field"):
                answer = self.client.post(
                    f"/stacks/{self.stack_id}/edits",
                    json={"edit": {"op": op, "path": path, "value": 1.0}, "base": 0, "view": {}},
                )
                self.assertIn(answer.status_code, (200, 422), (path, answer.text))

    def test_numbers_that_are_none(self):
        for path, value in (
            ("layers/mid/span", "1e400,2"),
            ("layers/mid/span", "nan,2"),
            ("crossovers/-1/frequency_hz", 100),
            ("crossovers/99999999999999999999/frequency_hz", 100),
            ("crossovers/nan/frequency_hz", 100),
            ("layers/mid/level_db", "inf"),
            ("note:0.5:29/pitch", "1e999"),
            ("hit:kick:0/beat", "nan"),
            ("duckers/duck/amounts/mid", "1e400"),
            ("duckers/duck/silent_bars", "1,nan"),
            ("kick/hits", "0,1e309"),
        ):
            told = self.edit({"op": "field", "path": path, "value": value}, status=422)
            self.assertTrue(told["error"], (path, value))

    def test_texts_that_are_none(self):
        head = self.head().id
        for edit in (
            '{"op": "set", "path": "name", "value": "\\ud800"}',
            '{"op": "field", "path": "layers/\\udfff/name", "value": "x"}',
            '{"op": "set", "path": "layers/mid/name", "value": {"\\ud800": 1}}',
        ):
            answer = self.client.post(
                f"/stacks/{self.stack_id}/edits",
                content=f'{{"edit": {edit}, "base": 0, "view": {{}}}}'.encode(),
                headers={"content-type": "application/json"},
            )
            self.assertEqual(answer.status_code, 422, answer.text)
        self.assertEqual(self.head().id, head)

    def test_stacks_beyond_all_numbers(self):
        for number in (0, -5, 2**63, 10**40):
            for path in ("", "/revision", "/layers", "/loop", "/export/json", "/export/raw"):
                self.assertEqual(self.client.get(f"/stacks/{number}{path}").status_code, 404, (number, path))

    def test_audio_that_is_not_here_cannot_be_named(self):
        for path, value in (
            ("kick/sound", {"kind": "sample", "asset": "a" * 64, "file_name": "k.wav"}),
            ("layers/mid/source", {"kind": "take", "asset": "b" * 64, "file_name": "t.wav"}),
            ("reference", {"asset": "c" * 64, "file_name": "r.wav"}),
        ):
            told = self.edit({"op": "set", "path": path, "value": value}, status=422)
            self.assertIn("there is no audio", told["error"])

    def test_edits_do_not_wait_behind_heavy_views(self):
        go_on = threading.Event()
        self.addCleanup(go_on.set)

        def held(measures, **given):
            go_on.wait(120.0)
            return []

        url = f"/stacks/{self.stack_id}"
        with self.client, ThreadPoolExecutor(61) as pool, mock.patch("apilado.web.routes.bench.make_room", held):
            rooms = [pool.submit(self.client.get, f"{url}/room?client={number}") for number in range(60)]
            edit = {"op": "set", "path": "layers/mid/level_db", "value": -7.0}
            posted = {"edit": edit, "base": 0, "view": {}}
            answer = pool.submit(self.client.post, f"{url}/edits", json=posted).result(timeout=60.0)
            self.assertEqual(answer.status_code, 200, answer.text)
            self.assertFalse(any(room.done() for room in rooms))
            go_on.set()
            self.assertEqual({room.result().status_code for room in rooms} - {204}, {200})

    def test_a_kick_that_starts_behind_its_end_is_silent_and_can_be_put_right(self):
        sound = {"kind": "sample", "file_name": "k.wav"}
        sound["asset"] = self.workspace.assets.add(wav(sine(60.0, 0.2)), "k.wav").sha256
        self.edit({"op": "set", "path": "kick/sound", "value": sound})
        self.edit({"op": "field", "path": "kick/sound/start_ms", "value": 5000})
        self.edit({"op": "add", "path": "kick/eq", "part": {"kind": "bell", "gain_db": 6.0}})
        self.edit({"op": "field", "path": "kick/clip_db", "value": 9.0})
        self.assertEqual(self.client.get(f"/stacks/{self.stack_id}/loop").status_code, 200)
        self.assertEqual(self.client.get(f"/stacks/{self.stack_id}/card").status_code, 200)
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected=kick")
        self.assertIn('data-path="kick/sound/start_ms"', sheet.text)
        drawn = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}})
        self.assertEqual(drawn.status_code, 200)
        self.edit({"op": "field", "path": "kick/sound/start_ms", "value": 0})

    @settings(max_examples=150, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(
        strategies.sampled_from(
            (
                "name",
                "layers",
                "layers/mid",
                "layers/mid/eq/0",
                "crossovers/0/frequency_hz",
                "pattern",
                "kick/hits",
                "kick/hits/0",
                "duckers/duck/shape",
                "bus/limiter",
                "limits",
                "pairs",
                "triggers",
                "x",
                "",
                "/",
                "a/b/c",
            )
        ),
        strategies.recursive(
            strategies.none()
            | strategies.booleans()
            | strategies.floats()
            | strategies.integers()
            | strategies.text(max_size=8),
            lambda inner: (
                strategies.lists(inner, max_size=3)
                | strategies.dictionaries(strategies.text(max_size=6), inner, max_size=3)
            ),
            max_leaves=6,
        ),
        strategies.sampled_from(
            (
                "set",
                "field",
                "add",
                "remove",
                "move",
                "harmonic",
                "limit",
                "copy-point",
                "share",
                "move-crossover",
                "split-layer",
                "merge-layers",
                "put-sub-under",
                "add-layer",
                "remove-layer",
                "set-source",
                "note",
                "hit",
                "several",
                "?",
            )
        ),
    )
    def test_any_edit_is_done_or_refused(self, path, value, op):
        edit = {
            "op": op,
            "path": path,
            "value": value,
            "part": value,
            "index": value,
            "layer": value,
            "frequency_hz": value,
        }
        text = json.dumps({"edit": edit, "base": 0, "view": {}})
        answer = self.client.post(
            f"/stacks/{self.stack_id}/edits",
            content=text.encode("utf-8", "surrogatepass"),
            headers={"content-type": "application/json"},
        )
        self.assertIn(answer.status_code, (200, 422, 400), (edit, answer.text))

    @settings(max_examples=150, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(
        strategies.sampled_from(
            (
                "/stacks/{}",
                "/stacks/{}/loop",
                "/stacks/{}/sheet",
                "/stacks/{}/export/{}",
                "/stacks/{}/card",
                "/deliveries/{}",
                "/deliveries/{}/file",
                "/stacks/{}/hits/{}",
                "/static/{}",
                "/{}",
            )
        ),
        strategies.text(alphabet=strategies.characters(exclude_categories=["Cs", "Cc"]), max_size=12),
        strategies.sampled_from(("GET", "POST", "PUT", "HEAD", "DELETE")),
    )
    def test_any_address_is_answered(self, route, word, method):
        path = route.replace("{}", quote(word, safe=""))
        answer = self.client.request(method, path, params={"selected": word, "item": word, "overdo": word})
        self.assertLess(answer.status_code, 500, (method, path))


class EditsTest(WebCase):
    def test_an_edit_answers_with_the_plan_and_the_values(self):
        told = self.edit({"op": "move-crossover", "index": 0, "frequency_hz": 150.0})
        self.assertEqual(set(told["plan"]), {"pile", "profile", "passage", "strip"})
        self.assertIn("150 Hz", told["plan"]["pile"])
        self.assertEqual(told["values"], {"crossovers/0/frequency_hz": "150"})
        self.assertFalse(told["controls"])
        self.assertEqual(told["undo"], "Crossover 1 to 150 Hz")

    def test_fields(self):
        cases = (
            ("layers/mid/level_db", -3.5, lambda s: s.layer("mid").level_db == -3.5),
            ("layers/mid/mute", True, lambda s: s.layer("mid").mute),
            ("layers/mid/span", "1,2", lambda s: s.layer("mid").span.last == 2),
            ("layers/mid/polarity", "inverted", lambda s: s.layer("mid").polarity == "inverted"),
            ("layers/mid/treatments/0/oversampling", "8", lambda s: s.layer("mid").treatments[0].oversampling == 8),
            (
                "layers/mid/source/tones/0/harmonics",
                "1, , 0.5",
                lambda s: s.layer("mid").source.tones[0].harmonics == (1.0, None, 0.5),
            ),
            ("layers/sub/source!kind", "layer", lambda s: s.layer("sub").source.layer == "mid"),
            (
                "crossovers/0/frequency_hz",
                9000.0,
                lambda s: abs(s.crossovers[0].frequency_hz - 640 / 2 ** (1 / 3)) < 0.01,
            ),
            ("crossovers/1/slope_db_per_octave", "48", lambda s: s.crossovers[1].slope_db_per_octave == 48),
            ("sample_rate", "44100", lambda s: s.sample_rate == 44100),
            ("note:0.5:29/pitch", 31, lambda s: s.pattern[0].pitch == 31),
            ("hit:kick:0/beat", 0.25, lambda s: s.kick.hits[0] == 0.25),
            ("name", "Slip", lambda s: s.name == "Slip"),
        )
        for path, value, holds in cases:
            with self.subTest(path=path):
                self.edit({"op": "field", "path": path, "value": value})
                self.assertTrue(holds(self.head().stack))
        triggers = {"op": "add", "path": "triggers", "part": {"id": "ghost", "name": "Ghost", "hits": [0.0]}}
        self.edit(triggers)
        self.edit({"op": "field", "path": "triggers/ghost/hits", "value": "0, 1.5"})
        self.assertEqual(self.head().stack.triggers[0].hits, (0.0, 1.5))

    def test_refused_fields_change_nothing_and_say_why(self):
        before = self.head()
        for path, value, words in (
            ("layers/mid/level_db", 400, "level of mid runs from −60 to 12 dB; 400 was not taken"),
            ("layers/mid/level_db", "loud", "'loud' is not a number"),
            ("layers/mid/source!kind", "take", "a take needs its audio"),
            ("layers/mid/source!kind", "organ", "a source is one of"),
            ("layers/none/level_db", 1, "there is nothing at"),
            ("note:9:9/pitch", 1, "this note is not there any more"),
            ("hit:9.9/beat", 1, "this hit is not there any more"),
            ("crossovers/0/frequency_hz", None, "is not a number"),
            ("note:0.5:29/pitch", 4000, "pitch"),
        ):
            with self.subTest(path=path):
                told = self.edit({"op": "field", "path": path, "value": value}, status=422)
                self.assertIn(words.lower(), told["error"].lower())
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

    def test_undo_and_redo(self):
        self.edit({"op": "set", "path": "tempo_bpm", "value": 100.0})
        told = self.client.post(f"/stacks/{self.stack_id}/undo", json={"view": {}}).json()
        self.assertEqual((told["tempo_bpm"], told["undo"]), (126.0, None))
        told = self.client.post(f"/stacks/{self.stack_id}/redo", json={"view": {}}).json()
        self.assertEqual((told["tempo_bpm"], told["redo"]), (100.0, None))

    def test_what_is_new_is_selected(self):
        self.assertEqual(self.edit({"op": "add-layer"})["select"], "layer:layer")
        for path, selected in (("duckers", "duck:new"), ("triggers", "trigger:new")):
            self.assertEqual(self.edit({"op": "add", "path": path, "part": {"id": "new"}})["select"], selected)
        self.assertIsNone(self.edit({"op": "set", "path": "layers/mid/level_db", "value": -3.0})["select"])

    def test_harmonics_are_drawn_and_pulled(self):
        view = {"selected": "layer:mid", "mode": "harmonics"}
        told = self.edit(
            {"op": "harmonic", "path": "layers/mid/source/tones/0", "number": 2, "amplitude": 0.0}, view=view
        )
        self.assertIn('data-number="2"', told["plan"]["profile"])
        self.assertEqual(self.head().stack.layer("mid").source.tones[0].harmonics, (None, 0.0))


class SoundTest(WebCase):
    def test_the_loop_is_the_render_to_the_bit(self):
        answer = self.client.get(f"/stacks/{self.stack_id}/loop?client=a")
        stack = self.head().stack
        expected = self.workspace.engine.run([build(stack, clock_of(stack, looped=True), self.workspace.load).output])[
            0
        ]
        found = np.frombuffer(answer.content, "<f4").reshape(2, -1)
        np.testing.assert_array_equal(found, expected)
        self.assertEqual(int(answer.headers["x-frames"]), expected.shape[1])
        self.assertEqual(int(answer.headers["x-revision"]), self.head().id)

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
            answer = self.client.get(f"{url}/loop", params={"client": "a", "alone": alone})
            np.testing.assert_array_equal(np.frombuffer(answer.content, "<f4").reshape(2, -1), output)
            posted = {"client": "a", "view": {"alone": alone.split(",")}}
            told = self.client.post(f"{url}/drawings", json=posted).json()
            loudness = measure_loudness(output, rate_hz=clock.rate_hz, looped=True).integrated_lkfs
            self.assertTrue(told["texts"]["listening"].endswith(f" · −{-loudness:.1f} LUFS"), told["texts"])
            whole = self.client.post(f"{url}/drawings", json={"client": "a", "view": {}}).json()
            self.assertEqual((told["meter"], told["soundings"]), (whole["meter"], whole["soundings"]))
            self.assertEqual(whole["texts"]["listening"], "")
            rows = Structure(self.client.get(f"{url}/layers", params={"alone": alone}).text).tags
            pressed = {a["data-alone"] for _, a in rows if "data-alone" in a and a["aria-pressed"] == "true"}
            self.assertEqual(pressed, set(alone.split(",")))
        self.assertEqual(self.head().id, revision)
        told = self.client.get(f"{url}/loop", params={"alone": ",".join(map(str, range(99)))})
        self.assertEqual(told.status_code, 422)
        self.assertIn("What is to be heard alone is not valid", told.text)


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
            ("sub", lambda s: s.layer("sub").source.kind == "take"),
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

    def test_a_new_source_asks_what_those_play_that_took_the_old_one(self):
        before = self.head()
        files, url = {"file": ("my <take>.wav", wav(sine(80.0, 0.3)))}, f"/stacks/{self.stack_id}/audio"
        dialog = self.client.post(url, data={"target": "mid"}, files=files).json()["dialog"]
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
        told = self.client.post(url, data={"target": "mid"}, files=files).json()
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
        form = {"extent": "loop", "file_format": "wav", "bits": "16", "rate_hz": "44100", "mix": "on"}
        text = self.client.post(f"/stacks/{self.stack_id}/deliver", data=form).text
        job = re.search(r"/deliveries/([0-9a-f]+)", text)[1]
        for _ in range(300):
            text = self.client.get(f"/deliveries/{job}").text
            if "Save the ZIP" in text:
                break
        self.assertTrue(self.client.get(f"/deliveries/{job}/file").content.startswith(b"PK"))
        bad = self.client.post(
            f"/stacks/{self.stack_id}/deliver", data={**form, "bits": "7"}, headers={"hx-request": "true"}
        )
        self.assertEqual(bad.status_code, 422)
        self.assertEqual(self.client.get("/deliveries/none").status_code, 404)
