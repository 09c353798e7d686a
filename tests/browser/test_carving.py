"""Carving and ducking through the interface, while the loop plays; the whole chain on every demo stack."""

import io
import json
import re
import tempfile
import zipfile
from pathlib import Path

import numpy as np
import soundfile

from tests.browser.page import BrowserCase
from tests.core.measure.test_drums import drum_loop
from tests.support import wav


class CarvingCase(BrowserCase):
    def setUp(self):
        for name in self.stacks:
            self.addCleanup(self.undo_all, name)

    def delivered_peak_db(self, page, name):
        """Peak of the mix in the files of a delivery, made on its page."""
        page.click("#files summary")
        page.click("#files a:has-text('Deliver')")
        page.wait_for_selector("html[data-ready]")
        page.select_option("[name=bits]", "32f")
        page.fill("[name=names]", "{part}")
        page.click("#write")
        page.wait_for_selector("#deliver-state:has-text('All files are written')")
        with page.expect_download() as download:
            page.click("#earlier li:first-child a:has-text('Save the ZIP')")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "delivery.zip"
            download.value.save_as(path)
            with zipfile.ZipFile(path) as archive:
                audio, _ = soundfile.read(
                    io.BytesIO(archive.read(next(n for n in archive.namelist() if n.endswith("/mix.wav"))))
                )
                told = json.loads(archive.read(next(n for n in archive.namelist() if n.endswith("measures.json"))))
        page.click("a:has-text('To the bench')")
        page.wait_for_selector("html[data-ready]")
        return 20 * np.log10(np.abs(audio).max()), told


class ChainTest(CarvingCase):
    def test_make_room_fit_and_check_end_without_a_fault(self):
        for name in ("Lock Gate", "Rope Walk"):
            with self.subTest(stack=name):
                page = self.bench(name)
                self.play(page)
                page.keyboard.press("r")
                page.wait_for_selector("#room-view[aria-busy=false] .room-words")
                if page.locator(".make-room").count():
                    share = float(re.search(r"(\d+) →", page.locator(".proposal").first.inner_text())[1])
                    self.assertGreater(share, 10)
                    page.click(".make-room")
                    self.settled(page)
                    self.until(
                        page,
                        "!document.querySelector('#room-view [data-edit]') || document.querySelector('#undo').title.includes('Make room')",
                    )
                page.keyboard.press("Escape")
                page.keyboard.press("d")
                page.click("#sheet .fit-duck")
                self.settled(page)
                self.assertEqual(self.document(name)["duckers"][0]["shape"]["kind"], "drawn")
                if name == "Rope Walk":
                    self.fix_all(page)
                    self.assertEqual(self.checked(name), (0, []))
                self.assertTrue(self.hears(page, self.loop(name)))
                page.keyboard.press("Space")
                if name == "Rope Walk":
                    self.headroom_is_what_the_files_say(page, name)
                self.assertEqual(self.complaints, [])

    def headroom_is_what_the_files_say(self, page, name):
        page.wait_for_selector("#headroom")
        shown = page.evaluate(
            "[...['before', 'after']].map((n) => Number(document.getElementById('headroom').dataset[n]))"
        )
        with_duck, told = self.delivered_peak_db(page, name)
        page.uncheck("#sheet [data-path='duckers/duck/on']")
        self.settled(page)
        without, _ = self.delivered_peak_db(page, name)
        page.keyboard.press("Control+z")
        self.settled(page)
        np.testing.assert_allclose(shown, [without, with_duck], atol=0.01)
        self.assertAlmostEqual(told["headroom"]["with_duck_dbfs"], with_duck, delta=0.02)
        self.assertAlmostEqual(told["headroom"]["without_duck_dbfs"], without, delta=0.02)


class WhilePlayingTest(CarvingCase):
    def test_overdoing_is_heard_while_it_is_held_and_no_longer(self):
        page = self.bench("Slipway")
        self.play(page)
        page.keyboard.press("d")
        page.wait_for_selector("#sheet [data-overdo]")
        self.settled(page)
        before = self.server.plan(self.stacks["Slipway"])["revision"]
        for way in ("key", "pointer"):
            page.evaluate("marks.length = 0")
            if way == "key":
                page.keyboard.down("o")
            else:
                page.locator("#sheet [data-overdo]").hover()
                page.mouse.down()
            page.wait_for_selector("#sheet [data-overdo][aria-pressed=true]")
            self.until(page, "marks.some((mark) => 'sounding' in mark)")
            self.assertTrue(self.hears(page, self.loop("Slipway", overdo="duckers/duck")), way)
            if way == "key":
                page.keyboard.up("o")
            else:
                page.mouse.up()
            self.assertTrue(self.hears(page, self.loop("Slipway")), way)
        self.assertEqual(self.server.plan(self.stacks["Slipway"])["revision"], before)
        self.assertEqual(self.complaints, [])

    def test_what_a_step_adds_and_the_sound_without_it_are_heard_while_they_are_held(self):
        page = self.bench("Slipway")
        self.play(page)
        page.keyboard.press("2")
        self.unfold(page, "layers/mid/path/clip")
        self.settled(page)
        before = self.server.plan(self.stacks["Slipway"])["revision"]
        adds = page.locator("#sheet [data-adds='layers/mid/path/clip']")
        adds.hover()
        page.mouse.down()
        self.assertTrue(self.hears(page, self.loop("Slipway", only="layers/mid/path/clip")))
        page.mouse.up()
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        without = page.locator("#sheet [data-without='layers/mid/path/clip']")
        without.focus()
        page.keyboard.down(" ")
        off = {"without": "layers/mid/path/clip"}
        self.assertTrue(self.hears(page, self.loop("Slipway", [{}], **off)))
        page.keyboard.up(" ")
        self.assertTrue(self.hears(page, self.loop("Slipway", [off])))  # as loud as it was without it
        page.keyboard.press("Escape")
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.assertEqual(self.server.plan(self.stacks["Slipway"])["revision"], before)
        self.assertEqual(self.complaints, [])

    def test_a_held_key_outlasts_an_edit_and_the_sheet_that_is_drawn_anew(self):
        page = self.bench("Slipway")
        self.play(page)
        page.keyboard.press("d")
        page.wait_for_selector("#sheet [data-overdo]")
        self.settled(page)
        page.keyboard.down("o")
        page.wait_for_selector("#sheet [data-overdo][aria-pressed=true]")
        self.assertTrue(self.hears(page, self.loop("Slipway", overdo="duckers/duck")))
        page.evaluate("document.querySelector('#sheet [data-overdo]').dataset.old = ''")
        added = {"op": "add", "path": "duckers", "part": {"id": "second", "shape": {"kind": "drawn"}}}
        self.server.ask(f"/stacks/{self.stacks['Slipway']}/edits", {"edit": added, "base": 0, "view": {}})
        page.wait_for_selector("#sheet [data-select='duck:second']")
        page.wait_for_selector("#sheet [data-overdo][aria-pressed=true]:not([data-old])")
        self.settled(page)
        self.assertTrue(self.hears(page, self.loop("Slipway", overdo="duckers/duck")))
        page.keyboard.up("o")
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.assertEqual(page.locator("[data-overdo][aria-pressed=true]").count(), 0)
        self.assertEqual(self.complaints, [])

    def test_a_pair_a_drawn_duck_and_a_listened_point_are_heard(self):
        page = self.bench("Slipway")
        self.play(page)
        self.server.ask(
            f"/stacks/{self.stacks['Slipway']}/edits",
            {
                "edit": {
                    "op": "add",
                    "path": "pairs",
                    "part": {"id": "p", "dip": "layers/mid/path/eq", "lift": "kick/eq", "frequency_hz": 150},
                },
                "base": 0,
                "view": {},
            },
        )
        page.wait_for_timeout(3000)  # the page notices what another one did
        page.keyboard.press("2")
        page.wait_for_selector("#profile [data-drag=pair]")
        self.drag(page, "#profile [data-drag=pair] .grip-area", -30, -20)
        self.settled(page)
        (pair,) = self.document("Slipway")["pairs"]
        self.assertGreater(pair["dip_db"], 5.0)
        self.assertAlmostEqual(pair["lift_db"] / pair["dip_db"], 0.5, delta=0.02)
        self.assertGreater(pair["frequency_hz"], 155.0)
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        page.keyboard.press("d")
        page.click("#sheet .fit-duck")
        page.wait_for_selector("#strip .duck-point")
        page.click("[data-zoom=hit]")
        self.settled(page)
        was = self.document("Slipway")["duckers"][0]["shape"]
        self.drag(page, "#strip .duck-point[data-part=release] .grip-area", 90, 0)
        self.settled(page)
        now = self.document("Slipway")["duckers"][0]["shape"]
        self.assertGreater(now["release_ms"], was["release_ms"] + 30)
        page.locator("#strip .duck-point[data-part=hold]").focus()
        page.keyboard.press("ArrowDown")
        self.settled(page)
        self.assertAlmostEqual(
            self.document("Slipway")["duckers"][0]["shape"]["depth_db"], was["depth_db"] + 0.5, places=5
        )
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        page.wait_for_selector("#passage .bass-before", state="attached")
        page.keyboard.press("2")
        self.unfold(page, "layers/mid/path/eq", "layers/mid/path/eq/points/dip")
        page.click("#sheet [data-listen='layers/mid/path/eq/points/dip']")
        self.settled(page)
        alone = self.loop("Slipway", point="layers/mid/path/eq/points/dip")
        self.assertTrue(self.hears(page, alone))
        page.reload()  # what is heard alone is this page's, and stays with it
        page.keyboard.press("Space")
        page.wait_for_selector("#play[aria-pressed=true]")
        self.assertTrue(self.hears(page, alone))
        page.click("#sheet [data-listen='layers/mid/path/eq/points/dip'][aria-pressed=true]")
        self.settled(page)
        page.click("#sheet [data-listen='layers/mid/path/eq/points/dip']")
        self.settled(page)
        page.locator("#sheet [data-edit]").filter(has_text="Remove").evaluate_all(
            "(all, path) => all.find((b) => JSON.parse(b.dataset.edit).path === path).click()",
            "layers/mid/path/eq/points/dip",
        )
        self.settled(page)
        page.wait_for_selector("#you-hear [data-word=what].is-plain", state="attached")
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        page.click("#undo")
        self.settled(page)
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.assertLess(np.abs(alone).max(), np.abs(self.loop("Slipway")).max())
        revision = self.server.stack(self.stacks["Slipway"])
        page.keyboard.press("k")
        page.keyboard.press("s")
        page.click("#layers [data-alone='layers/sub']")
        self.settled(page)
        page.wait_for_selector("#you-hear [data-word=what]:text('only kick, sub')")
        self.assertTrue(self.hears(page, self.loop("Slipway", alone=["kick", "layers/sub"])))
        self.assertEqual(self.server.stack(self.stacks["Slipway"]), revision)
        self.assertEqual(self.complaints, [])


class DrumsTest(CarvingCase):
    def test_a_trigger_its_hits_and_a_second_duck(self):
        page = self.bench("Slipway")
        page.keyboard.press("k")
        page.click("#sheet button:has-text('Add a trigger')")
        page.wait_for_selector("#strip :not([data-drum=kick])[data-drum]")
        self.settled(page)
        self.unfold(page, f"triggers/{self.document('Slipway')['triggers'][0]['id']}/hits")
        page.locator("#sheet details:has-text('Patterns') summary").last.click()
        page.click("#sheet button:has-text('Two and four')")
        self.settled(page)
        data = self.document("Slipway")
        self.assertEqual(data["triggers"][0]["hits"][:3], [1.0, 3.0, 5.0])
        self.assertEqual(page.locator("#strip .hit:not([data-drum=kick])[data-drum]").count(), 8)
        page.locator("#strip .hit:not([data-drum=kick])[data-drum]").first.focus()
        page.keyboard.press("ArrowRight")
        self.settled(page)
        self.assertEqual(self.document("Slipway")["triggers"][0]["hits"][0], 1.25)
        page.keyboard.press("d")
        page.click("#sheet button:has-text('Add a duck')")
        page.wait_for_selector("#sheet [data-path^='duckers/'][data-path$='/trigger']:not([data-path*='/duck/'])")
        self.settled(page)
        new = f"duckers/{self.document('Slipway')['duckers'][1]['id']}"
        page.select_option(f"#sheet [data-path='{new}/trigger']", data["triggers"][0]["id"])
        page.select_option(f"#sheet [data-path='{new}/reach']", "below")
        page.wait_for_selector(f"#sheet input[type=number][data-path='{new}/frequency_hz']")
        self.settled(page)
        self.assertEqual(self.document("Slipway")["duckers"][1]["reach"], "below")
        page.keyboard.press("Control+z")
        self.until(page, f"!document.querySelector(\"#sheet input[type=number][data-path='{new}/frequency_hz']\")")
        self.assertEqual(self.complaints, [])

    def test_hits_are_picked_out_of_an_audio_loop(self):
        audio, _ = drum_loop(126.0, 48000, 9)
        page = self.bench("Slipway")
        page.keyboard.press("k")
        self.unfold(page, "kick/hits")
        page.wait_for_selector("#sheet [data-upload='hits:kick']", state="attached")
        self.settled(page)
        with page.expect_file_chooser() as chooser:
            page.click("#sheet label:has([data-upload='hits:kick'])")
        # While the files are looked through the sheet is drawn anew.
        page.evaluate("document.getElementById('sheet').replaceChildren()")
        chooser.value.set_files({"name": "drums.wav", "mimeType": "audio/wav", "buffer": wav(audio)})
        page.wait_for_selector("#dialog[open] >> text=The low ones")
        page.locator("#dialog li:has-text('The low ones') button:has-text('on sixteenths')").click()
        self.settled(page)
        self.assertEqual(self.document("Slipway")["kick"]["hits"], [0.0, 2.5, 4.0, 6.75])
        self.assertEqual(self.complaints, [])


class AccessTest(CarvingCase):
    def test_axe_finds_nothing_serious_in_the_new_sheets(self):
        sheets = (
            ("r", "#room-view .room-words"),
            ("d", "#headroom"),
            ("k", "#sheet .cycle-drawing"),
            ("t", "#sheet .difference"),
            ("b", "#sheet .shifts"),
        )
        for dark in (False, True):
            page = self.bench("Lock Gate", dark=dark)
            for key, shown in sheets[:2] if dark else sheets:
                page.keyboard.press("Escape")
                page.keyboard.press(key)
                page.wait_for_selector(shown, state="attached")
                self.settled(page)
                self.accessible(page, (key, dark))


if __name__ == "__main__":
    import unittest

    unittest.main()
