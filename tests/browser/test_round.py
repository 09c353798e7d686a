"""Round again, as a user does it: bounce, crush, slice, find again in another stack, hand over."""

import io
import json
import zipfile

import numpy as np
import soundfile

from tests.browser.page import BrowserCase
from tests.support import sine, wav


class RoundTest(BrowserCase):
    def setUp(self):
        for name in self.stacks:
            self.addCleanup(self.undo_all, name)

    def menu(self, page, choice):
        page.click("#files summary")
        page.click(f"#files >> text={choice}")

    def bounced(self, page, of, then):
        self.menu(page, "Bounce …")
        page.wait_for_selector("#dialog[open] form")
        page.select_option("#b-of", of)
        page.select_option("#b-then", then)
        page.click("#dialog button[type=submit]")

    def test_it_goes_round(self):
        page = self.bench("Slipway")
        before = len(self.document("Slipway")["layers"])
        self.bounced(page, "stack", "")
        self.noticed(page, "‘Slipway mix’ is in the Quarry.")
        self.menu(page, "Crush and tuck under")
        self.noticed(page, "‘crushed’ lies 14 dB under the bass")
        self.settled(page)
        crushed = self.document("Slipway")["layers"][-1]
        self.assertEqual((len(self.document("Slipway")["layers"]), crushed["name"]), (before + 1, "crushed"))
        page.wait_for_selector(f"#layers li.is-selected[data-select='layer:{crushed['id']}']")
        self.bounced(page, "layer:mid", "sliced")
        self.noticed(page, "slices, one after the other on the notes of the pattern")
        sliced = self.document("Slipway")["layers"][-1]
        self.assertTrue(sliced["source"]["sliced"])
        # In another stack, by a word, with the keyboard.
        page.goto(f"{self.server.url}/stacks/{self.stacks['Rope Walk']}")
        page.wait_for_selector("html[data-ready=yes]")
        page.click("#quarry-open")
        page.fill("#quarry-view [name=words]", "mix")
        row = page.locator("#quarry-view .quarry-row:has-text('Slipway mix')")
        row.wait_for()
        self.until(page, "document.querySelectorAll('#quarry-view .quarry-row').length === 1")
        row.focus()
        page.keyboard.down(" ")  # held, it is heard alone in the loop
        page.wait_for_selector("#quarry-view [data-hear][aria-pressed=true]")
        page.wait_for_selector("#you-hear >> text=only Slipway mix")
        page.keyboard.up(" ")
        page.wait_for_selector("#you-hear >> text=the whole")
        page.keyboard.press("Enter")
        page.click("#quarry-view [data-put-in=laid]")
        self.noticed(page, "stretched from 126 to 103.7 bpm; tuned from F minor to A minor, +4 semitones")
        source = self.document("Rope Walk")["layers"][-1]["source"]
        self.assertEqual((source["own_bpm"], source["tune_cents"]), (126.0, 400.0))
        # And handed over.
        self.menu(page, "Deliver sound …")
        page.wait_for_selector("#plan [data-file]")
        page.select_option("[name=bits]", "32f")
        page.fill("[name=names]", "{part}")
        page.wait_for_selector("#plan [data-name='mix.wav']")
        page.click("#write")
        with page.expect_download() as download:
            page.click("#earlier li:first-child a:has-text('Save the ZIP')")
        self.assertIn("The stems sum to what goes into the bus", page.inner_text("#deliver-state"))
        path = self.folder / "round.zip"
        download.value.save_as(path)
        with zipfile.ZipFile(path) as archive:
            audio, _ = soundfile.read(io.BytesIO(archive.read("Rope-Walk/mix.wav")), always_2d=True)
            report = json.loads(archive.read("Rope-Walk/measures.json"))
        np.testing.assert_allclose(audio.T, self.loop("Rope Walk"), atol=1e-6)
        self.assertLess(report["sum_check"]["stems_against_bus_input_dbfs"], -100.0)
        page.click("#earlier li:first-child [data-remove]")
        self.until(page, "document.querySelectorAll('#earlier li').length === 0")
        self.assertEqual(self.complaints, [])

    def test_a_layer_is_frozen_and_thaws_under_the_hand(self):
        page = self.bench("Slipway")
        page.click("#layers li[data-select='layer:mid'] .row-name")
        self.unfold(page, "layers/mid")
        page.click("#sheet button:has-text('Freeze')")
        self.noticed(page, "‘mid’ is frozen")
        page.wait_for_selector("#layers li.is-frozen[data-select='layer:mid']")
        page.wait_for_selector("#sheet button:has-text('Thaw')")
        self.play(page)
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.server.ask(f"/stacks/{self.stacks['Slipway']}/plan", {"view": {}})
        self.unfold(page, "layers/mid/source")
        page.fill("#sheet input[type=number][data-path='layers/mid/transpose']", "2")
        page.keyboard.press("Enter")
        self.noticed(page, "‘mid’ is thawed")
        page.wait_for_selector("#layers li:not(.is-frozen)[data-select='layer:mid']")
        self.settled(page)
        self.assertTrue(self.hears(page, self.loop("Slipway")))

    def test_parts_are_kept_and_put_into_what_is_chosen(self):
        page = self.bench("Foghorn")
        page.click("#layers li[data-select='layer:growl'] .row-name")
        self.unfold(page, "layers/growl")
        page.click("#sheet button:text-is('Keep its chain')")
        self.noticed(page, "Kept in the Quarry, among the parts, as ‘chain of growl’")
        steps = len(self.document("Slipway")["bus"]["path"])
        page.goto(f"{self.server.url}/stacks/{self.stacks['Slipway']}")
        page.wait_for_selector("html[data-ready=yes]")
        page.keyboard.press("b")
        page.click("#quarry-open")
        page.select_option("#quarry-view [name=what]", "parts")
        page.click("#quarry-view .part-row:has-text('chain') [data-put-part], #quarry-view [data-put-part]")
        self.noticed(page, "at the end of the path of bus")
        self.assertGreater(len(self.document("Slipway")["bus"]["path"]), steps)
        self.assertEqual(self.server.plan(self.stacks["Slipway"])["undo"], "Put in chain of growl")


class QuarryPageTest(BrowserCase):
    def test_files_are_brought_heard_found_and_put_away(self):
        folder = self.folder / "pier" / "deep"
        folder.mkdir(parents=True)
        for number in range(3):
            (folder / f"pile {number}.wav").write_bytes(wav(sine(45.0 + 5 * number, 0.5)))
        (folder / "broken.wav").write_bytes(b"RIFF")
        page = self.open("/quarry")
        page.wait_for_selector("html[data-ready=yes]")
        page.set_input_files("#bring-folder", self.folder / "pier")
        self.noticed(page, "3 brought, 1 refused.")
        self.assertIn("'pier/deep/broken.wav'", page.inner_text("#notices .refused"))
        page.fill("[name=words]", "pile")
        self.until(page, "document.querySelectorAll('.quarry-row').length === 3")
        self.until(page, "document.querySelectorAll('.quarry-row .spectrum-body').length === 3")
        page.locator(".quarry-row").first.focus()
        page.keyboard.press("ArrowDown")
        page.wait_for_selector("[data-chosen] input[value='pile 1']")
        page.keyboard.press(" ")
        self.until(page, "document.getElementById('quarry').dataset.playing !== '0'")
        self.until(page, "document.getElementById('quarry').dataset.playing === '0'")  # it was played to its end
        page.fill("#sound-tags", "wet Stone")
        page.keyboard.press("Enter")
        page.locator("#sound-tags").blur()
        page.wait_for_selector(".quarry-row small:has-text('wet stone')")
        page.focus(".quarry-row[aria-current=true]")
        page.keyboard.press("Delete")
        self.noticed(page, "‘pile 1’ is removed from the list.")
        self.until(page, "document.querySelectorAll('.quarry-row').length === 2")
        page.click("#notices button:has-text('Put back')")
        self.until(page, "document.querySelectorAll('.quarry-row').length === 3")
        self.assertEqual([said for said in self.complaints if "422" not in said], [])


class RoundAccessTest(BrowserCase):
    def test_axe_finds_nothing_serious_in_the_quarry_and_deliver(self):
        deliver = f"/stacks/{self.stacks['Slipway']}/deliver"
        for path, dark, shown in (
            ("/quarry", False, ".spectrum-body"),
            (deliver, True, "#plan [data-file]"),
            (deliver, False, "#plan [data-file]"),
        ):
            page = self.open(path, dark=dark)
            page.locator(shown).first.wait_for()
            if path == "/quarry":
                page.locator(".quarry-name").first.click()
                page.wait_for_selector("[data-chosen] .quarry-facts")
            self.accessible(page, (path, dark))
