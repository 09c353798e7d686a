"""Movements in their lanes while the loop plays; the path on one screen; the bench by keyboard alone."""

import unittest

from tests.browser.test_carving import CarvingCase

FITS = "document.querySelector('.sheet-panel').scrollHeight <= document.querySelector('.sheet-panel').clientHeight"
MOST_PRESSES = 40
SIZES = ((1280, 800), (1680, 1000), (1024, 700), (2560, 1440))


class MovementsTest(CarvingCase):
    def moved(self, page, start):
        """A movement of the level of mid, made as it is made by hand; its id."""
        page.keyboard.press("2")
        self.unfold(page, "layers/mid/place")
        page.click("#sheet [data-mark='layers/mid/level_db']")
        page.select_option("#sheet .move-offer select", label=f"new: {start}")
        page.wait_for_selector("#strip .move-lane")
        self.settled(page)
        (movement,) = self.document("Slipway")["movements"]
        return movement

    def undone(self, page, before):
        """Whether one undo gives back the document as it was."""
        page.keyboard.press("Escape")
        page.click("#undo")
        self.settled(page)
        return self.document("Slipway") == before

    def test_a_movement_is_pulled_in_its_lane_and_heard(self):
        page = self.bench("Slipway")
        self.play(page)
        made = self.moved(page, "ramp down")
        page.wait_for_selector(f"#sheet .line.is-open[data-line='movements/{made['id']}']")
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        before = self.document("Slipway")
        # Any repetition can be pulled: the third has the same point.
        third = page.locator("#strip .course-point[data-place='0'] .grip-area").nth(2).bounding_box()
        x, y = third["x"] + third["width"] / 2, third["y"] + third["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x, y + 14, steps=6)
        page.mouse.up()
        self.settled(page)
        point = self.document("Slipway")["movements"][0]["shape"]["points"][0]
        self.assertLess(point["value"], 0.85)
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.assertTrue(self.undone(page, before))
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.assertEqual(self.complaints, [])

    def test_points_are_added_bent_and_removed(self):
        page = self.bench("Slipway")
        self.moved(page, "ramp down")
        page.click("[data-zoom=bar]")
        self.settled(page)

        def points():
            return self.document("Slipway")["movements"][0]["shape"]["points"]

        self.drag(page, "#strip .bend-point .grip-area", 0, -8)
        self.settled(page)
        self.assertGreater(points()[0]["bend"], 0.1)
        box = page.locator("#strip .move-lane .lane-ground").bounding_box()
        start = page.locator("#strip .course-point[data-place='0'] .grip-area").first.bounding_box()
        page.mouse.dblclick(start["x"] + 40, box["y"] + box["height"] - 8)
        self.until(page, "document.querySelector('#strip [data-drag=course][data-place=\"2\"]') !== null")
        self.assertEqual(len(points()), 3)
        page.locator("#strip .course-point[data-place='1'][tabindex]").first.focus()
        page.keyboard.press("ArrowUp")
        self.settled(page)
        page.keyboard.press("Delete")
        self.settled(page)
        self.assertEqual(len(points()), 2)
        self.assertEqual(self.complaints, [])

    def test_steps_are_drawn_with_one_sweep_and_copied_to_another_layer(self):
        page = self.bench("Slipway")
        self.play(page)
        made = self.moved(page, "steps")
        before = self.document("Slipway")
        box = page.locator("#strip .sweep").bounding_box()
        bar = box["width"] / 4
        page.mouse.move(box["x"] + bar + 6, box["y"] + box["height"] - 6)
        page.mouse.down()
        page.mouse.move(box["x"] + 2 * bar - 6, box["y"] + 6, steps=12)
        page.mouse.up()
        self.settled(page)
        values = self.document("Slipway")["movements"][0]["shape"]["values"]
        self.assertEqual(values, sorted(values))
        self.assertLess(values[0], 0.3)
        self.assertGreater(values[-1], 0.7)
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        drawn = self.document("Slipway")
        self.unfold(page, f"movements/{made['id']}")
        page.select_option(f"#sheet [id='f-movements/{made['id']}/copy']", label="high")
        self.settled(page)
        movements = self.document("Slipway")["movements"]
        self.assertEqual(
            [each["targets"][0]["path"] for each in movements], ["layers/mid/level_db", "layers/high/level_db"]
        )
        self.assertEqual(movements[1]["shape"], movements[0]["shape"])
        self.assertTrue(self.undone(page, drawn))
        self.assertTrue(self.undone(page, before))
        self.assertEqual(self.complaints, [])

    def test_travel_is_pulled_on_the_slider(self):
        page = self.bench("Slipway")
        made = self.moved(page, "sine")
        self.unfold(page, "layers/mid/place")
        self.settled(page)  # a line that is opened draws the sheet anew
        page.locator("#sheet [data-travel]").evaluate("end => end.scrollIntoView({ block: 'center' })")
        self.drag(page, "#sheet [data-travel]", -20, 0)
        self.settled(page)
        travel = self.document("Slipway")["movements"][0]["targets"][0]["travel"]
        self.assertLess(travel, made["targets"][0]["travel"] - 3.0)


class PathTest(CarvingCase):
    def rich(self):
        """A layer with four tones, four treatments and four EQ points."""
        stack = self.stacks["Slipway"]
        adds = [("source/tones", {"shape": shape}) for shape in ("square", "sine")]
        adds += [("path", {"kind": kind}) for kind in ("compressor", "saturation", "limiter")]
        adds += [("path/eq/points", {"kind": kind}) for kind in ("high-pass", "bell", "high-shelf")]
        for path, part in adds:
            edit = {"op": "add", "path": f"layers/mid/{path}", "part": part}
            self.server.ask(f"/stacks/{stack}/edits", {"edit": edit, "base": 0, "view": {}})
        layer = self.document("Slipway")["layers"][1]
        self.assertEqual(len(layer["source"]["tones"]), 4)
        self.assertEqual(len(layer["path"]), 6)
        return layer

    def test_a_rich_layer_fits_one_screen_with_any_step_open(self):
        layer = self.rich()
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#sheet [data-line='layers/mid/path/clip']")
        tops = page.locator("#sheet .line.is-top").evaluate_all("lines => lines.map((line) => line.dataset.line)")
        self.assertEqual(len(tops), 10)
        inner = [f"layers/mid/source/tones/{tone['id']}" for tone in layer["source"]["tones"]]
        eq = next(step for step in layer["path"] if step["kind"] == "eq")
        inner += [f"layers/mid/path/{eq['id']}/points/{point['id']}" for point in eq["points"]]
        for line in tops:
            for shut in page.locator("#sheet .line.is-top.is-open > .line-head .line-name").all()[::-1]:
                if shut.get_attribute("data-open") != line:
                    shut.click()
                    page.wait_for_timeout(150)
            if page.locator(f"#sheet .line.is-open[data-line='{line}']").count() == 0:
                page.click(f"#sheet [data-open='{line}'].line-name")
                page.wait_for_selector(f"#sheet .line.is-open[data-line='{line}']")
            self.assertTrue(page.evaluate(FITS), line)
            for part in inner:
                if part.startswith(f"{line}/") and line != "layers/mid":
                    page.click(f"#sheet [data-open='{part}'].line-name")
                    page.wait_for_selector(f"#sheet .line.is-open[data-line='{part}']")
                    self.assertTrue(page.evaluate(FITS), part)
        self.assertEqual(self.complaints, [])

    def test_steps_are_put_into_another_order_by_hand_and_by_key(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")

        def order():
            return [step["kind"] for step in self.document("Slipway")["layers"][1]["path"]]

        self.assertEqual(order(), ["split", "soft-clip", "eq"])
        name = "#sheet [data-open='layers/mid/path/clip'].line-name"
        page.focus(name)
        page.keyboard.press("Alt+ArrowUp")
        self.settled(page)
        self.assertEqual(order(), ["soft-clip", "split", "eq"])
        self.until(page, "document.activeElement.dataset.open === 'layers/mid/path/clip'")
        last = page.locator("#sheet [data-line='layers/mid/path/eq'] .line-head").bounding_box()
        head = page.locator("#sheet [data-line='layers/mid/path/clip'] .line-words").bounding_box()
        page.mouse.move(head["x"] + 5, head["y"] + 8)
        page.mouse.down()
        page.mouse.move(head["x"] + 5, last["y"] + last["height"] - 2, steps=6)
        page.mouse.up()
        self.settled(page)
        self.assertEqual(order(), ["split", "eq", "soft-clip"])
        self.assertEqual(self.complaints, [])

    def test_by_keyboard_alone_in_forty_presses(self):
        page = self.bench("Slipway")
        presses = []

        def press(*keys):
            for key in keys:
                page.keyboard.press(key)
                presses.append(key)

        press("2", "a", "b", "e", "l", "l", "Enter")
        self.until(page, "document.activeElement?.dataset?.drag === 'point'")
        self.settled(page)
        points = self.document("Slipway")["layers"][1]["path"][2]["points"]
        self.assertEqual((len(points), points[1]["gain_db"]), (2, 0.0))
        press("Shift+ArrowRight")
        self.settled(page)
        self.assertEqual(self.document("Slipway")["layers"][1]["path"][2]["points"][1]["gain_db"], 3.0)
        border = self.document("Slipway")["crossovers"][0]["frequency_hz"]
        press("i")
        self.until(page, "document.activeElement?.dataset?.drag === 'crossover'")
        press("ArrowUp")
        self.settled(page)
        moved = [each["frequency_hz"] for each in self.document("Slipway")["crossovers"]]
        self.assertNotEqual(moved, [border, 640.0])
        press("Space")
        self.until(page, "heard.length > 4")
        press("Control+z")
        self.settled(page)
        self.assertEqual(self.document("Slipway")["crossovers"][0]["frequency_hz"], border)
        self.assertLessEqual(len(presses), MOST_PRESSES)
        self.assertEqual(self.complaints, [])

    def test_lines_that_are_opened_stay_open_over_a_reload_and_pins_keep_them(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        self.unfold(page, "layers/mid/path/clip")
        page.click("#sheet [data-pin='layers/mid/path/clip']")
        self.unfold(page, "layers/mid/path/eq")
        page.reload()
        for line in ("layers/mid/path/clip", "layers/mid/path/eq"):
            page.wait_for_selector(f"#sheet .line.is-open[data-line='{line}']")
        page.click("#sheet [data-open='layers/mid/place'].line-name")
        page.wait_for_selector("#sheet .line.is-open[data-line='layers/mid/place']")
        self.assertEqual(page.locator("#sheet .line.is-open[data-line='layers/mid/path/eq']").count(), 0)
        self.assertEqual(page.locator("#sheet .line.is-open[data-line='layers/mid/path/clip']").count(), 1)

    def test_borders_are_pulled_and_remembered(self):
        page = self.bench("Slipway")
        before = page.locator("#strip").bounding_box()["height"]
        self.drag(page, "[data-border=strip]", 0, -60)
        after = page.locator("#strip").bounding_box()["height"]
        self.assertAlmostEqual(after - before, 60, delta=2)
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        self.assertAlmostEqual(page.locator("#strip").bounding_box()["height"], after, delta=1)

    def test_axe_finds_nothing_serious_in_paths_and_lanes(self):
        for dark in (False, True):
            page = self.bench("Slipway", dark=dark)
            page.keyboard.press("2")
            self.unfold(page, "layers/mid/place")
            page.click("#sheet [data-mark='layers/mid/level_db']")
            page.select_option("#sheet .move-offer select", label="new: steps")
            page.wait_for_selector("#strip .move-lane")
            self.settled(page)
            self.unfold(page, "layers/mid/path/eq", "layers/mid/path/eq/points/dip")
            self.accessible(page, dark)
            self.undo_all("Slipway")


if __name__ == "__main__":
    unittest.main()
