"""What can be reached, whatever the window, the keys or the fingers."""

from tests.browser.page import BrowserCase

OUT_OF_REACH = """() => [...document.querySelectorAll("button, input, select, summary, a, svg.drawing")].filter((part) => {
  const box = part.getBoundingClientRect();
  if (!box.width || part.closest("dialog, .menu-sheet, details:not([open]) > :not(summary)")) return false;
  const scrolled = part.closest(".sheet-panel, .soundings-panel, .layers");
  return box.left < -1 || box.right > innerWidth + 1 || (!scrolled && (box.top < -1 || box.bottom > innerHeight + 1));
}).map((part) => part.outerHTML.slice(0, 120))"""

SHIFTED = "([start, bar]) => (start - document.querySelector('#passage .bar-line').getAttribute('x1') + bar) % bar"
"""How far the first line of a bar has gone from where it was, in pixels, whatever bar's line it is by now."""


class WindowTest(BrowserCase):
    def test_nothing_is_out_of_reach_in_a_small_window(self):
        # 1280x800 enlarged to 150 % leaves 853x533.
        for size in ((1024, 700), (853, 533)):
            page = self.bench("Lock Gate", size=size)
            for key in "12kubdtp":
                page.keyboard.press(key)
                self.settled(page)
                self.assertEqual(page.evaluate(OUT_OF_REACH), [], (size, key))
            self.assertEqual(
                page.evaluate(
                    "[scrollWidth > innerWidth, scrollHeight > innerHeight]".replace(
                        "scroll", "document.documentElement.scroll"
                    )
                ),
                [False, False],
                size,
            )
            page.context.close()

    def test_it_is_drawn_once_and_anew_when_the_window_has_another_size(self):
        page, plans = self.bench("Slipway"), []
        page.on("request", lambda request: plans.append(request.url) if request.url.endswith("/plan") else None)
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        page.wait_for_selector("#soundings:not(.is-stale) .soundings-head", state="attached")
        page.wait_for_timeout(300)  # what is asked for after a change of size is asked for after 60 ms
        self.assertEqual(len(plans), 1)
        with page.expect_request("**/plan"):
            page.set_viewport_size({"width": 1100, "height": 700})
        self.settled(page)
        self.assertEqual(len(plans), 2)

    def test_the_lower_row_grows_with_the_window(self):
        heights = []
        for size in ((1280, 800), (2560, 1440)):
            page = self.bench("Slipway", size=size)
            heights.append(page.locator("#strip").bounding_box()["height"])
            page.context.close()
        self.assertGreater(heights[1], 1.6 * heights[0])


class HelpTest(BrowserCase):
    def test_help_of_a_field_opens_by_key(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        mark = page.locator("#sheet .field:has([data-path='layers/mid/mono']) [data-help]")
        mark.focus()
        text = page.locator("#sheet .field:has([data-path='layers/mid/mono']) .field-help")
        self.assertFalse(text.is_visible())
        page.keyboard.press("Enter")
        self.assertTrue(text.is_visible())
        self.assertGreater(len(text.inner_text()), 10)
        self.assertEqual(mark.get_attribute("aria-expanded"), "true")
        self.assertFalse(self.document("Slipway")["layers"][1]["mono"])


class GesturesTest(BrowserCase):
    def setUp(self):
        self.addCleanup(self.undo_all, "Slipway")

    def shown(self, page):
        """The beats at both ends of the Passage."""
        return page.evaluate(
            "() => { const lines = [...document.querySelectorAll('#passage .bar-line')].map((l) => Number(l.getAttribute('x1')));"
            " return [lines[0], (lines[1] ?? 1e9) - lines[0]]; }"
        )

    def test_a_swipe_pans_and_a_pinch_zooms(self):
        page = self.bench("Slipway")
        box = page.locator("#passage").bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 200)
        _, bar = self.shown(page)
        pinch = "(e) => document.getElementById('passage').dispatchEvent(new WheelEvent('wheel', { cancelable: true, ...e }))"
        middle = box["x"] + box["width"] / 2
        page.evaluate(pinch, {"ctrlKey": True, "deltaY": -200, "clientX": middle})
        self.until(page, "document.querySelectorAll('#passage .bar-line').length < 5")
        _, wider = self.shown(page)
        self.assertAlmostEqual(wider, 2 * bar, delta=2)
        start, _ = self.shown(page)
        page.mouse.wheel(60, 0)
        self.until(page, f"([from, bar]) => Math.abs(({SHIFTED})([from, bar]) - 60) <= 2", [start, wider])

    def finger(self, page, *events):
        """Touches of the Passage: (kind, finger, x, y) with x and y from its corner."""
        for kind, finger, x, y in events:
            page.evaluate(
                """([kind, pointerId, x, y]) => {
                  const svg = document.getElementById("passage");
                  const box = svg.getBoundingClientRect();
                  const at = { clientX: box.left + x, clientY: box.top + y };
                  const target = document.elementFromPoint(at.clientX, at.clientY);
                  const options = { bubbles: true, cancelable: true, pointerType: "touch", pointerId, isPrimary: pointerId === 1, ...at };
                  (svg.contains(target) ? target : svg).dispatchEvent(new PointerEvent(kind, options));
                }""",
                [kind, finger, x, y],
            )

    def test_fingers_swipe_pinch_and_tap(self):
        page = self.bench("Slipway")
        _, bar = self.shown(page)
        down, move, up = "pointerdown", "pointermove", "pointerup"
        self.finger(
            page, (down, 1, 200, 100), (down, 2, 300, 100), (move, 2, 400, 100), (up, 2, 400, 100), (up, 1, 200, 100)
        )
        self.until(page, "document.querySelectorAll('#passage .bar-line').length < 5")
        start, wider = self.shown(page)
        self.assertAlmostEqual(wider, 2 * bar, delta=3)
        # A swipe moves the time, not the playhead; a tap moves the playhead; two taps add a note.
        position = page.inner_text("#position")
        self.finger(page, (down, 1, 300, 100), (move, 1, 280, 100), (move, 1, 260, 100), (up, 1, 260, 100))
        self.until(page, f"([from, bar]) => Math.abs(({SHIFTED})([from, bar]) - 40) <= 2", [start, wider])
        self.assertEqual(page.inner_text("#position"), position)
        self.finger(page, (down, 1, 350, 300), (up, 1, 350, 300))
        self.until(page, "position => document.getElementById('position').textContent !== position", position)
        count = len(self.document("Slipway")["pattern"])
        page.wait_for_timeout(400)
        self.finger(page, (down, 1, 350, 300), (up, 1, 350, 300), (down, 1, 352, 301), (up, 1, 352, 301))
        page.wait_for_selector("#sheet >> text=Remove note")
        self.assertEqual(len(self.document("Slipway")["pattern"]), count + 1)
        self.assertEqual(self.complaints, [])


class PullTest(BrowserCase):
    def setUp(self):
        self.addCleanup(self.undo_all, "Slipway")

    def test_a_point_is_held_at_the_end_of_its_own_range(self):
        # A tilt reaches 12 dB, a bell 24: pulled to the panel's edge, each stops at its own end.
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.keyboard.press("a")
        page.keyboard.type("tilt")
        page.keyboard.press("Enter")
        self.until(page, "document.querySelectorAll('#profile .eq-point').length === 2")
        new = self.document("Slipway")["layers"][1]["path"][2]["points"][1]
        tilt = f"#profile .eq-point[data-path='layers/mid/path/eq/points/{new['id']}'] .grip-area"
        self.settled(page)
        self.drag(page, tilt, -120, 0)
        self.settled(page)
        self.assertEqual(self.document("Slipway")["layers"][1]["path"][2]["points"][1]["gain_db"], -12.0)
        self.assertEqual(page.locator(".notice.is-fault").count(), 0)


class RefusedTest(BrowserCase):
    def test_a_refused_edit_takes_nothing_with_it_that_waits_behind_it(self):
        self.addCleanup(self.undo_all, "Slipway")
        page = self.bench("Slipway")
        page.keyboard.press("2")
        self.unfold(page, "layers/mid/place")
        waiting = []
        page.route("**/edits", lambda route: route.continue_() if waiting else waiting.append(route))
        page.fill("#sheet input[type=number][data-path='layers/mid/level_db']", "77")
        page.keyboard.press("Enter")
        page.click("#layers li[data-select='layer:mid'] [data-toggle][data-path$='/mute']")
        self.until(page, "document.querySelector('#bench').getAttribute('aria-busy') === 'true'")
        while len(waiting) < 1:
            page.wait_for_timeout(20)
        waiting[0].continue_()
        page.wait_for_selector(".notice.is-fault >> text=77 was not taken")
        self.settled(page)
        layer = self.document("Slipway")["layers"][1]
        self.assertEqual((layer["mute"], layer["level_db"]), (True, -10.5))


class BrokenWorkerTest(BrowserCase):
    def test_when_what_fetches_sound_dies_an_edit_ends_with_an_error(self):
        page = self.bench("Slipway")
        dying = "onmessage = ({ data }) => { if (data.order === 'edit') throw new Error('out of memory'); };"
        page.route("**/courier.js", lambda route: route.fulfill(body=dying, content_type="text/javascript"))
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        mute = "#layers li[data-select='layer:mid'] [data-toggle][data-path$='/mute']"
        for _ in range(2):  # the one that was under way, and one after that
            page.click(mute)
            page.wait_for_selector(".notice.is-fault >> text=Load the page again")
            page.evaluate("document.getElementById('notices').replaceChildren()")
        page.unroute("**/courier.js")
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        page.click(mute)
        self.settled(page)
        self.assertTrue(self.document("Slipway")["layers"][1]["mute"])
        self.undo_all("Slipway")


class NamedByPlaceTest(BrowserCase):
    """Notes and hits are called by where they are: under a hand they go on being the same."""

    def setUp(self):
        self.addCleanup(self.undo_all, "Slipway")

    def test_a_note_keeps_its_slider_under_keys_and_under_the_hand(self):
        page = self.bench("Slipway")
        was = [each["start_beats"] for each in self.document("Slipway")["pattern"]]
        slider = "#sheet input[type=range][data-field=start_beats]"
        page.click("#passage [data-key='note:0.5:29'] .note-bar")
        page.focus(slider)
        for _ in range(7):
            page.keyboard.press("ArrowRight")
        self.until(page, f"document.querySelector('{slider}').dataset.path === 'pattern/@2.25:29/start_beats'")
        self.settled(page)
        self.assertEqual([each["start_beats"] for each in self.document("Slipway")["pattern"]][:3], [1.5, 2.25, 2.5])
        self.undo_all("Slipway")
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        page.click("#passage [data-key='note:0.5:29'] .note-bar")
        at = page.locator(slider).evaluate("(slider) => (slider.value - slider.min) / (slider.max - slider.min)")
        self.drag(page, slider, 60, 0, steps=12, at_x=6 + at * (page.locator(slider).bounding_box()["width"] - 12))
        self.settled(page)
        self.assertEqual(self.complaints, [])
        now = [each["start_beats"] for each in self.document("Slipway")["pattern"]]
        self.assertEqual(len(set(was) - set(now)), 1)
        page.keyboard.press("Control+z")  # one step
        self.until(page, "document.getElementById('undo').disabled")
        self.assertEqual([each["start_beats"] for each in self.document("Slipway")["pattern"]], was)

    def test_every_press_of_a_key_counts_and_for_what_has_the_focus(self):
        page = self.bench("Slipway")
        page.focus("#passage [data-key='note:0.5:29']")
        for _ in range(5):
            page.keyboard.press("ArrowRight")
        page.wait_for_selector("#passage [data-key='note:1.75:29']:focus")
        page.focus("#passage [data-key='note:2.5:32']")
        page.keyboard.press("ArrowRight")
        page.wait_for_selector("#passage [data-key='note:2.75:32']:focus")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("Delete")
        self.settled(page)
        self.assertEqual(
            [(n["start_beats"], n["pitch"]) for n in self.document("Slipway")["pattern"]][:3],
            [(1.5, 29), (1.75, 29), (3.25, 29)],
        )
        self.assertEqual(self.complaints, [])

    def test_a_hit_is_drawn_past_others(self):
        page = self.bench("Slipway")
        hits = self.document("Slipway")["kick"]["hits"]
        boxes = [page.locator(f"#strip [data-key='hit:kick:{beat}']").bounding_box()["x"] for beat in (1, 2)]
        self.drag(page, "#strip [data-key='hit:kick:1']", 1.5 * (boxes[1] - boxes[0]), 0, steps=24)
        self.settled(page)
        self.assertEqual(self.document("Slipway")["kick"]["hits"], sorted({*hits, 2.5} - {1.0}))
        page.locator("#strip [data-key='hit:kick:2.5']").focus()
        for beat in ("2.75", "3.25"):
            page.keyboard.press("ArrowRight")
            page.wait_for_selector(f"#strip [data-key='hit:kick:{beat}']:focus")
        self.settled(page)
        self.assertEqual(self.document("Slipway")["kick"]["hits"], sorted({*hits, 3.25} - {1.0}))


class TabsTest(BrowserCase):
    def setUp(self):
        self.addCleanup(self.undo_all, "Slipway")

    def test_undo_says_what_another_tab_had_done(self):
        here, there = self.bench("Slipway"), self.bench("Slipway")
        there.keyboard.press("2")
        there.click("#layers li[data-select='layer:mid'] [data-toggle][data-path$='/mute']")
        self.settled(there)
        self.noticed(here, "changed in another tab")
        here.keyboard.press("Control+z")
        self.noticed(here, "which was done in another tab")
        self.assertFalse(self.document("Slipway")["layers"][1]["mute"])

    def test_a_reload_is_still_the_same_tab(self):
        page = self.bench("Slipway")
        page.click("#layers li[data-select='layer:mid'] [data-toggle][data-path$='/mute']")
        self.settled(page)
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        page.keyboard.press("Control+z")
        self.until(page, "document.getElementById('undo').disabled")
        self.assertEqual(page.locator(".notice").count(), 0)
