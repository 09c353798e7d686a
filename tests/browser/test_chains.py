"""Steps with chains of their own, and curves that are pulled, in the browser."""

from tests.browser.page import BrowserCase


class ChainsTest(BrowserCase):
    def setUp(self):
        self.addCleanup(self.undo_all, "Slipway")

    def add(self, page, words):
        """Adds a step to the selected layer, by the keyboard alone."""
        page.keyboard.press("a")
        page.wait_for_selector("#sheet .add-menu[open] [data-find]:focus")
        page.keyboard.type(words)
        page.keyboard.press("Enter")

    def step(self, kind):
        """The step of a kind on the path of the mid."""
        return next(step for step in self.document("Slipway")["layers"][1]["path"] if step["kind"] == kind)

    def test_a_parallel_copy_of_the_mid_is_crushed_in_bands_and_tucked_under(self):
        page = self.bench("Slipway")
        self.play(page)
        page.keyboard.press("2")
        page.wait_for_selector("#sheet [data-line='layers/mid/path/clip']")
        self.settled(page)
        self.add(page, "parallel")
        page.wait_for_selector("#sheet .line.is-open.is-top .line-name:has-text('Parallel chain')")
        self.settled(page)
        here = f"layers/mid/path/{self.step('aside')['id']}"
        inner = page.locator(f"#sheet [data-line='{here}'] .line-body .add-menu")
        inner.locator("summary").click()
        page.wait_for_selector("#sheet .add-menu[open] [data-find]:focus")
        page.keyboard.type("multi")
        page.keyboard.press("Enter")
        press = page.locator(f"#sheet [data-line^='{here}/path/'].is-open .line-name:has-text('Multiband')")
        press.wait_for()
        # Its gain has a lane, its bands have borders in the Profile.
        page.wait_for_selector("#profile .inner-border", state="attached")
        self.settled(page)
        page.wait_for_selector("#strip .reduction.of-band", state="attached")
        level = page.locator(f"#sheet input.number[data-path='{here}/level_db']")
        level.fill("-20")
        level.press("Enter")
        self.settled(page)
        step = self.step("aside")
        self.assertEqual((step["level_db"], [inner["kind"] for inner in step["path"]]), (-20.0, ["multiband"]))
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        adds = page.locator(f"#sheet [data-adds='{here}']")
        adds.hover()
        page.mouse.down()
        wanted = self.loop("Slipway", only=here)
        self.assertGreater(float(abs(wanted).max()), 1e-3)
        self.assertLess(float(abs(wanted).max()), 0.5 * float(abs(self.loop("Slipway")).max()))
        self.assertTrue(self.hears(page, wanted))
        page.mouse.up()
        self.assertTrue(self.hears(page, self.loop("Slipway")))
        self.assertEqual(self.complaints, [])

    def test_borders_of_bands_are_pulled_and_moved_by_keys_and_a_chain_is_copied(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#sheet [data-line='layers/mid/path/clip']")
        self.settled(page)
        self.add(page, "bands")
        page.wait_for_selector("#profile .inner-border")
        self.settled(page)
        before = [band["from_hz"] for band in self.step("bands")["bands"]]
        self.assertEqual(before, [30.0, 250.0, 2000.0])
        self.drag(page, "#profile .inner-border .grip", 0, -40)
        self.settled(page)
        pulled = [band["from_hz"] for band in self.step("bands")["bands"]]
        self.assertGreater(pulled[1], 300.0)
        self.assertEqual((pulled[0], pulled[2]), (30.0, 2000.0))
        page.keyboard.press("Control+z")
        self.settled(page)
        self.assertEqual([band["from_hz"] for band in self.step("bands")["bands"]], before)
        page.locator("#profile .inner-border").nth(1).focus()
        page.keyboard.press("ArrowUp")
        self.settled(page)
        self.assertAlmostEqual(self.step("bands")["bands"][2]["from_hz"], 2000.0 * 2 ** (1 / 24), delta=0.2)
        # A step in the first band, by the menu of that band; then the band's chain goes to another.
        here = f"layers/mid/path/{self.step('bands')['id']}"
        low, _, high = (band["id"] for band in self.step("bands")["bands"])
        self.unfold(page, here, f"{here}/bands/{low}")
        page.locator(f"#sheet [data-line='{here}/bands/{low}'] .add-menu > summary").click()
        page.wait_for_selector("#sheet .add-menu[open] [data-find]:focus")
        page.keyboard.type("tape")
        page.keyboard.press("Enter")
        page.wait_for_selector(f"#sheet [data-line^='{here}/bands/{low}/path/']")
        self.settled(page)
        self.unfold(page, f"{here}/bands/{low}")
        menu = page.locator(
            f"#sheet [data-line='{here}/bands/{low}'] select:has(option:has-text('band 3 of bands'))"
        ).first
        menu.select_option(label=next(text for text in menu.locator("option").all_inner_texts() if "band 3 of" in text))
        self.settled(page)
        chains = {band["id"]: [step["kind"] for step in band["path"]] for band in self.step("bands")["bands"]}
        self.assertEqual((chains[low], chains[high]), (["tape"], ["tape"]))
        self.assertEqual(self.complaints, [])

    def test_a_sheet_that_comes_late_leaves_what_was_chosen_for_the_profile(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#sheet [data-line='layers/mid/path/clip']")
        self.settled(page)
        held = []

        def late(route):
            held.append(route)

        page.route("**/sheet?*", late)
        with page.expect_request("**/sheet?*"):
            page.click("#sheet [data-open='layers/mid/path/clip'].line-name")
        page.wait_for_selector("[data-mode=curve][aria-pressed=true]")
        page.click("[data-mode=eq]")
        for route in held:
            route.continue_()
        page.unroute("**/sheet?*")
        page.wait_for_selector("#sheet .line.is-open[data-line='layers/mid/path/clip']")
        self.settled(page)
        self.assertEqual(page.get_attribute("[data-mode=curve]", "aria-pressed"), "false")
        self.assertEqual(self.complaints, [])

    def test_a_curve_is_pulled_and_its_points_come_and_go(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#sheet [data-line='layers/mid/path/clip']")
        self.settled(page)
        self.add(page, "drawn")
        page.wait_for_selector("#profile .curve-point")
        page.wait_for_selector("[data-mode=curve][aria-pressed=true]")
        self.settled(page)
        page.wait_for_selector("#profile .spread-in", state="attached")
        self.assertEqual(page.locator("#profile .border").count(), 0)
        points = [(p["input"], p["output"]) for p in self.step("drawn-curve")["points"]]
        self.drag(page, "#profile .curve-point >> nth=1", -30, 0)
        self.settled(page)
        now = [(p["input"], p["output"]) for p in self.step("drawn-curve")["points"]]
        self.assertLess(now[1][1], points[1][1] - 0.1)
        self.assertAlmostEqual(now[1][0], points[1][0], delta=0.03)
        self.assertEqual((now[0], now[2]), (points[0], points[2]))
        box = page.locator("#profile").bounding_box()
        page.mouse.dblclick(box["x"] + 0.8 * box["width"], box["y"] + 0.2 * box["height"])
        self.settled(page)
        added = self.step("drawn-curve")["points"][-1]
        self.assertAlmostEqual(added["input"], 0.3 / 0.46, delta=0.02)
        self.assertEqual(len(self.step("drawn-curve")["points"]), 4)
        page.locator("#profile .curve-point").nth(3).focus()
        page.keyboard.press("Delete")
        self.settled(page)
        self.assertEqual([(p["input"], p["output"]) for p in self.step("drawn-curve")["points"]], now)
        # A drive without points shows its curve, an EQ its own.
        self.unfold(page, "layers/mid/path/clip")
        page.wait_for_selector("#profile .curve-point", state="detached")
        page.wait_for_selector("#profile .transfer-curve")
        self.unfold(page, "layers/mid/path/eq")
        page.wait_for_selector("#profile .eq-curve", state="attached")
        self.assertEqual(self.complaints, [])
