"""Sections on the bench: made and pulled on their strip, changed in, given back; and bars that alone are heard."""

import numpy as np

from tests.browser.page import BrowserCase
from tests.browser.test_listening import places_of

STRIP_Y = 9


class SectionsTest(BrowserCase):
    def setUp(self):
        for name in self.stacks:
            self.addCleanup(self.undo_all, name)

    def along(self, page, first, last, *, shift=False):
        """Drags over the strip of the Passage from one bar (counted from 1, of four) into another."""
        box = page.locator("#passage").bounding_box()
        places = [box["x"] + (bar - 0.5) * box["width"] / 4 for bar in (first, last)]
        if shift:
            page.keyboard.down("Shift")
        page.mouse.move(places[0], box["y"] + STRIP_Y)
        page.mouse.down()
        page.mouse.move(places[1], box["y"] + STRIP_Y, steps=5)
        page.mouse.up()
        if shift:
            page.keyboard.up("Shift")

    def sections(self):
        return [(s["name"], s["first_bar"], s["last_bar"]) for s in self.document("Slipway")["sections"]]

    def changes(self):
        return {c["path"]: c["value"] for s in self.document("Slipway")["sections"] for c in s["changes"]}

    def test_one_is_made_changed_in_and_given_back(self):
        page = self.bench("Slipway")
        self.along(page, 3, 4)
        page.wait_for_selector("#in-section.is-chosen")
        self.assertEqual(self.sections(), [("section 1", 3, 4)])
        page.wait_for_selector("#sheet [data-section='Section'] input[data-path$='/name']")
        self.assertIn("section 1", page.inner_text("#in-section"))
        # A change goes into it alone, and carries a mark.
        page.click("#layers [data-path='layers/high/mute']")
        self.until(
            page,
            "document.querySelector(\"#layers [data-path='layers/high/mute']\").matches('.is-otherwise[aria-pressed=true]')",
        )
        self.settled(page)
        self.assertEqual(self.changes(), {"layers/high/mute": True})
        self.assertFalse(self.document("Slipway")["layers"][-1]["mute"])
        self.assertIn("In section 1: mute high", page.get_attribute("#undo", "title"))
        page.click("#layers .row-name >> text=mid")
        self.unfold(page, "layers/mid/place")
        field = page.locator("#sheet input[type=number][data-path='layers/mid/level_db']")
        before = field.input_value()
        field.fill("-20")
        field.press("Enter")
        page.wait_for_selector("#sheet .as-whole")
        self.assertEqual(self.changes()["layers/mid/level_db"], -20.0)
        page.click("#sheet .as-whole")
        self.until(
            page,
            "value => document.querySelector(\"#sheet input[type=number][data-path='layers/mid/level_db']\").value === value",
            before,
        )
        self.assertEqual(list(self.changes()), ["layers/high/mute"])
        # The whole piece again: the values are its own, and what is otherwise somewhere says so.
        page.keyboard.press("Escape")
        page.wait_for_selector("#in-section", state="hidden")
        self.until(
            page,
            "document.querySelector(\"#layers [data-path='layers/high/mute']\").getAttribute('aria-pressed') === 'false'",
        )
        page.wait_for_selector("#layers .toggle.is-otherwise[data-path='layers/high/mute']")
        self.assertEqual(self.complaints, [])

    def test_pulled_named_and_removed_by_hand_and_by_key(self):
        page = self.bench("Slipway")
        page.click("#section-add")
        page.wait_for_selector("#in-section.is-chosen")
        self.assertEqual(self.sections(), [("section 1", 1, 1)])
        self.settled(page)
        width = page.locator("#passage").bounding_box()["width"]
        self.drag(page, "#passage .section-end[data-part=last]", 0.3 * width, 0)
        self.settled(page)
        self.assertEqual(self.sections(), [("section 1", 1, 2)])
        self.drag(page, "#passage .section-mark .section-block", 0.25 * width, 0)
        self.settled(page)
        self.assertEqual(self.sections(), [("section 1", 2, 3)])
        page.fill("#sheet input[data-path$='/name']", "fill")
        page.keyboard.press("Enter")
        self.until(page, "document.getElementById('in-section').textContent.includes('fill')")
        page.focus("#passage .section-mark")
        page.keyboard.press("Shift+ArrowLeft")
        self.settled(page)
        self.assertEqual(self.sections(), [("fill", 2, 2)])
        page.focus("#passage .section-mark")
        page.keyboard.press("Delete")
        page.wait_for_selector("#in-section", state="hidden")
        self.assertEqual(self.sections(), [])
        page.keyboard.press("Control+z")
        self.until(page, "document.querySelector('#passage .section-mark') !== null")
        self.assertEqual(self.sections(), [("fill", 2, 2)])
        self.assertEqual(self.complaints, [])

    def test_from_its_menu_a_press_each(self):
        page = self.bench("Slipway")
        self.along(page, 3, 4)
        page.wait_for_selector("#sheet button:has-text('Sub alone')")
        page.click("#sheet button:has-text('Sub alone')")
        self.settled(page)
        self.assertEqual(self.changes(), {"layers/mid/mute": True, "layers/high/mute": True})
        page.click("#sheet button:has-text('All as the whole')")
        self.settled(page)
        self.assertEqual(self.changes(), {})
        page.click("#sheet button:has-text('Sub out for the last bar')")
        self.settled(page)
        self.assertEqual([(first, last) for _, first, last in self.sections()], [(3, 3), (4, 4)])
        self.assertEqual(self.changes(), {"layers/sub/mute": True})
        page.wait_for_selector("#sheet button:has-text('Fill: notes twice as quick')")
        page.click("#sheet button:has-text('Fill: notes twice as quick')")
        self.settled(page)
        self.assertTrue(any(section["notes"] for section in self.document("Slipway")["sections"]))
        page.select_option("#sheet select[data-menu]", label="level of mid")
        self.settled(page)
        movement = self.document("Slipway")["movements"][-1]
        self.assertEqual((movement["begins"], movement["on"]), ("section", False))
        self.assertEqual(self.complaints, [])

    def test_only_some_bars_are_heard_and_nothing_of_it_is_kept(self):
        page = self.bench("Slipway")
        self.play(page)
        revision = self.server.plan(self.stacks["Slipway"])["revision"]
        self.along(page, 2, 2, shift=True)
        page.wait_for_selector("#in-section:not([hidden])")
        self.assertIn("Heard: only bar 2", page.inner_text("#in-section"))
        loop = self.loop("Slipway")
        bar = loop.shape[1] // 4
        first, end = (int(share * loop.shape[1] + 0.5) for share in (0.25, 0.5))
        self.listen(page, bar)
        page.evaluate("takeHeard()")
        self.listen(page, 3 * bar)
        heard = self.heard(page)
        # Whatever is heard between two turns is the bar, from its first frame to its last, again and again.
        short = loop[:, first:end]
        best = 0
        for start in places_of(heard[0, : bar // 2], short[0]):
            index = (start + np.arange(heard.shape[1])) % short.shape[1]
            same = np.all(np.abs(heard - short[:, index]) < 1e-6, axis=0)
            best = max(best, float(np.mean(same)))
        self.assertGreater(best, 0.97)
        page.click("#hear-bars")
        page.wait_for_selector("#in-section", state="hidden")
        self.listen(page, bar)
        page.evaluate("takeHeard()")
        self.listen(page, 3 * bar)
        heard = self.heard(page)
        starts = places_of(heard[0], loop[0])
        near = [np.abs(heard - loop[:, (s + np.arange(heard.shape[1])) % loop.shape[1]]).max() for s in starts]
        self.assertLess(min(near), 1e-6)
        self.assertEqual(self.server.plan(self.stacks["Slipway"])["revision"], revision)
        self.assertEqual(self.complaints, [])


if __name__ == "__main__":
    import unittest

    unittest.main()
