"""The space in the browser: one note is thrown into it; cabinets are walked through."""

import itertools

import numpy as np

from apilado.core.dsp.cabinets import BOXES
from tests.browser.page import BrowserCase

HIGH = "layers/high"


class SpaceTest(BrowserCase):
    def test_one_note_is_thrown_into_the_space_and_heard_in_it(self):
        page = self.bench("Slipway")
        self.assertEqual(page.locator("#layers li[data-select='space']").count(), 0)
        page.click("#layers li[data-select='layer:high'] .row-name")
        self.unfold(page, f"{HIGH}/place")  # nothing is sent yet: it stands among where the layer does
        page.click(f"#sheet [data-mark='{HIGH}/send']")
        page.select_option("#sheet .move-offer select", label="new: fall")
        self.settled(page)
        (movement,) = self.document("Slipway")["movements"]
        self.assertEqual(movement["targets"][0]["path"], f"{HIGH}/send")
        line = f"movements/{movement['id']}"
        self.unfold(page, line)
        page.select_option(f"#sheet select[data-path='{line}/begins']", "once")
        self.settled(page)
        # The first note is thrown: there is a row for the space now, and nothing is sent in the rest of the piece.
        page.wait_for_selector("#layers li[data-select='space']")
        page.keyboard.press("Escape")
        page.click("#layers li[data-select='space'] .row-name")
        self.unfold(page, "space/path/room")
        self.until(page, "document.querySelector('.filter-curve') !== null")  # its low and high cut
        self.settled(page)
        self.play(page)
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        room = self.loop("Slipway", alone=["space"])
        beat = round(48000 * 60.0 / self.document("Slipway")["tempo_bpm"])
        thrown, later = (float(np.sqrt(np.mean(part**2))) for part in (room[:, : 2 * beat], room[:, 10 * beat :]))
        self.assertGreater(thrown, 1e-4)
        self.assertLess(later, 0.02 * thrown)
        page.click("#layers li[data-select='space'] [data-alone]")
        self.settled(page)
        self.assertTrue(self.hears(page, room))
        self.assertEqual(self.complaints, [])

    def test_cabinets_are_walked_through_and_each_is_heard(self):
        page = self.bench("Slipway")
        page.click("#layers li[data-select='layer:mid'] .row-name")
        page.keyboard.press("a")
        page.wait_for_selector("#sheet .add-menu[open] [data-find]:focus")
        page.keyboard.type("cabin")
        page.keyboard.press("Enter")
        self.until(page, "document.querySelector('#undo').title.includes('abinet')")
        step = next(each for each in self.document("Slipway")["layers"][1]["path"] if each.get("kind") == "cabinet")
        path = f"layers/mid/path/{step['id']}"
        response = f"{path}/responses/{step['responses'][0]['id']}"
        self.unfold(page, path, response)
        self.play(page)
        drawn, loops = set(), []
        for box in (*BOXES,)[::2]:
            page.select_option(f"#sheet select[data-path='{response}/box']", box)
            self.until(page, "document.querySelector('#bench').getAttribute('aria-busy') === 'false'")
            loop = self.loop("Slipway")
            self.assertTrue(self.hears(page, loop), box)
            loops.append(loop)
            drawn.add(page.get_attribute(".filter-curve", "points"))
        self.assertEqual(len(drawn), len(BOXES) // 2)
        for one, other in itertools.pairwise(loops):
            self.assertGreater(float(np.sqrt(np.mean((one - other) ** 2))), 1e-3)
        self.assertEqual(self.complaints, [])
