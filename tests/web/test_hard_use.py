"""The web application under attack: foreign pages, strangers, hostile values, full pools."""

import asyncio
import contextlib
import json
import socket
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from unittest import mock
from urllib.parse import quote

from hypothesis import HealthCheck, given, settings, strategies
from starlette.testclient import TestClient

from apilado.commands import serving
from apilado.demo.starts import starts
from apilado.errors import ApiladoError
from apilado.web.app import create_app
from apilado.web.routes.heavy import MOST_AT_ONCE
from apilado.web.security import Doors, is_loopback
from tests.support import sine, wav
from tests.web.case import HOST, WebCase


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
        self.assertEqual(len(self.workspace.stacks.listed()), len(starts()))
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
            self.assertEqual(serving.key_for(host) == "", local, host)
        with self.assertRaisesRegex(ApiladoError, "--allow-host"):
            serving.check_doors("0.0.0.0", ())
        serving.check_doors("0.0.0.0", ("bench.local",))
        self.assertIn("http://bench.local:80/?key=", serving.address_of(Doors("0.0.0.0", 80, ("bench.local",), "k")))


class SmallPartsTest(unittest.TestCase):
    def test_small_parts_of_an_answer_are_sent_at_once(self):
        async def sent_at_once():
            found = asyncio.get_running_loop().create_future()

            def accepted(_, writer):
                found.set_result(writer.get_extra_info("socket").getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY))
                writer.close()

            listener = serving.listening("127.0.0.1", 0)
            async with await asyncio.start_server(accepted, sock=listener):
                _, writer = await asyncio.open_connection(*listener.getsockname())
                writer.close()
                return await found

        with ThreadPoolExecutor(1) as pool:  # Playwright may have a loop in this thread
            self.assertTrue(pool.submit(asyncio.run, sent_at_once()).result())


class HardUseTest(WebCase):
    """What has no business to be asked is answered with a sentence, never with a fault of ours."""

    def test_paths_that_lead_into_numbers(self):
        for path in (
            "kick/hits/0",
            "layers/sub/source/tones/wave/harmonics/0",
            "duckers/duck/silent_bars/0",
            "layers/²/name",
        ):
            for op in ("set", "harmonic"):
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
            ("pattern/@0.5:29/pitch", "1e999"),
            ("pattern/@nan:29/pitch", 3),
            ("kick/hits/@0", "nan"),
            ("duckers/duck/amounts/mid", "1e400"),
            ("duckers/duck/silent_bars", "1,nan"),
            ("kick/hits", "0,1e309"),
        ):
            told = self.edit({"op": "set", "path": path, "value": value}, status=422)
            self.assertTrue(told["error"], (path, value))

    def test_texts_that_are_none(self):
        head = self.head().id
        for edit in (
            '{"op": "set", "path": "name", "value": "\\ud800"}',
            '{"op": "set", "path": "layers/\\udfff/name", "value": "x"}',
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
            for path in ("", "/revision", "/layers", "/casts", "/export/json", "/export/raw"):
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
        go_on, changed = threading.Event(), threading.Condition()
        counts = {"asked": 0, "inside": 0}

        def count(name):
            with changed:
                counts[name] += 1
                changed.notify_all()

        def held(measures, **given):
            count("inside")
            go_on.wait(120.0)
            return []

        async def counted(scope, receive, send):
            if scope.get("path", "").endswith("/room"):
                count("asked")
            await self.client.app(scope, receive, send)

        url = f"/stacks/{self.stack_id}"
        client = TestClient(counted, base_url=HOST)
        with (
            client,
            ThreadPoolExecutor(61) as pool,
            mock.patch("apilado.web.routes.bench.make_room", held),
            contextlib.ExitStack() as ending,
        ):
            ending.callback(go_on.set)  # before the pool waits for those that are held
            rooms = [pool.submit(client.get, f"{url}/room?client={number}") for number in range(60)]
            with changed:
                there = changed.wait_for(lambda: counts["asked"] == 60 and counts["inside"] >= MOST_AT_ONCE, 120.0)
            self.assertTrue(there, counts)
            edit = {"op": "set", "path": "layers/mid/level_db", "value": -7.0}
            posted = {"edit": edit, "base": 0, "view": {}}
            answer = pool.submit(client.post, f"{url}/edits", json=posted).result(timeout=60.0)
            self.assertEqual(answer.status_code, 200, answer.text)
            self.assertEqual(counts["inside"], MOST_AT_ONCE)  # the others wait, or were overtaken by the edit
            go_on.set()
            self.assertLessEqual({room.result().status_code for room in rooms}, {200, 204})

    def test_a_kick_that_starts_behind_its_end_is_silent_and_can_be_put_right(self):
        sound = {"kind": "sample", "file_name": "k.wav"}
        sound["asset"] = self.workspace.assets.add(wav(sine(60.0, 0.2)), "k.wav").sha256
        self.edit({"op": "set", "path": "kick/sound", "value": sound})
        self.edit({"op": "set", "path": "kick/sound/start_ms", "value": 5000})
        self.edit({"op": "add", "path": "kick/eq/points", "part": {"kind": "bell", "gain_db": 6.0}})
        self.edit({"op": "set", "path": "kick/clip_db", "value": 9.0})
        self.loop()
        self.assertEqual(self.client.get(f"/stacks/{self.stack_id}/card").status_code, 200)
        sheet = self.client.get(f"/stacks/{self.stack_id}/sheet?selected=kick&opened=*")
        self.assertIn('data-path="kick/sound/start_ms"', sheet.text)
        drawn = self.client.post(f"/stacks/{self.stack_id}/drawings", json={"client": "a", "view": {}})
        self.assertEqual(drawn.status_code, 200)
        self.edit({"op": "set", "path": "kick/sound/start_ms", "value": 0})

    @settings(max_examples=150, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(
        strategies.sampled_from(
            (
                "name",
                "layers",
                "layers/mid",
                "layers/mid/path/eq/points/dip",
                "crossovers/lower/frequency_hz",
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
                "sub-in-place-of",
                "remove-crossover",
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
            "crossover": value,
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
                "/stacks/{}/casts",
                "/stacks/{}/casts/{}/remove",
                "/stacks/{}/elsewhere",
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
