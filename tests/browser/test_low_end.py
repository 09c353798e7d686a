"""The low end through the interface: borders, sub, mono, Plumb; while the loop plays."""

import json
import random
import re

from tests.browser.page import MENDING_MS, BrowserCase, follows


class LowEndCase(BrowserCase):
    name = "Slipway"

    def setUp(self):
        self.addCleanup(self.undo_all, self.name)


class BordersTest(LowEndCase):
    def test_a_crossover_is_added_in_the_pile_and_removed_with_a_key(self):
        page = self.bench("Slipway")
        box = page.locator("#pile").bounding_box()
        page.mouse.dblclick(box["x"] + 150, box["y"] + box["height"] * 0.25)
        self.until(page, "document.querySelectorAll('#pile .border').length === 3")
        data = self.document("Slipway")
        self.assertEqual(data["layers"][2]["span"], {"first": 2, "last": 3})
        new = f"#pile .border[data-key='crossover:{data['crossovers'][2]['id']}']"
        page.locator(new).focus()
        page.keyboard.press("Delete")
        page.wait_for_selector(new, state="detached")
        self.assertEqual(self.document("Slipway")["layers"][2]["span"], {"first": 2, "last": 2})
        self.assertEqual(self.complaints, [])

    def test_a_layer_is_cut_in_the_profile_and_merged_again(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.click("[data-mode=split]")
        area = page.locator("#profile .cut-area").bounding_box()
        page.mouse.click(area["x"] + 60, area["y"] + area["height"] / 2)
        page.wait_for_selector("#layers .row-name >> text=upper mid")
        self.assertEqual(len(self.document("Slipway")["crossovers"]), 3)
        page.click("#layers li[data-select='layer:mid'] .row-name")
        self.unfold(page, "layers/mid")
        page.click("#sheet button:has-text('Merge with upper mid')")
        page.wait_for_selector("#layers .row-name >> text=upper mid", state="detached")
        self.assertEqual(len(self.document("Slipway")["crossovers"]), 2)
        self.assertEqual(self.complaints, [])

    def test_linear_phase_and_overlap_say_what_they_cost(self):
        page = self.bench("Slipway")
        page.keyboard.press("p")
        page.select_option("#sheet select[data-path='crossovers/upper/kind']", "linear-phase")
        page.wait_for_selector("#sheet >> text=taps; rings")
        page.fill("#sheet input[type=number][data-path='crossovers/upper/overlap_octaves']", "0.6")
        page.keyboard.press("Enter")
        page.wait_for_selector("#soundings .sounding >> text=leave a bump", state="attached")
        self.remedied(page, ":has-text('leave a bump')").click()
        page.wait_for_selector("#soundings .sounding >> text=leave a bump", state="detached")
        self.assertEqual(self.document("Slipway")["crossovers"][1]["overlap_octaves"], 0.0)


class SubTest(LowEndCase):
    def test_the_workshop(self):
        page = self.bench("Slipway")
        page.keyboard.press("u")
        page.wait_for_selector("#sheet .cycle-drawing")
        page.click("#sheet button:has-text('Sine, full')")
        lowering = r"/third harmonic [23]\.\d % of the first, lowering its peak/"
        self.until(page, f"{lowering}.test(document.querySelector('#sheet').textContent)")
        self.assertEqual(self.document("Slipway")["layers"][0]["source"]["tones"][0]["harmonics"][2], 0.111)
        page.click("#sheet button:has-text('Set it')")
        self.settled(page)
        border = self.document("Slipway")["crossovers"][0]["frequency_hz"]
        self.assertNotEqual(border, 112.0)
        page.locator("#sheet .shifts tr:has-text('+2') button").click()
        page.wait_for_selector("#head >> text=G minor")
        page.locator("#sheet [data-section=Under] button:has-text('high')").click()
        self.until(page, "document.querySelectorAll('#layers li[data-select^=\"layer:\"]').length === 4")
        self.assertEqual(self.document("Slipway")["layers"][0]["name"], "sub 2")
        self.assertEqual(self.complaints, [])

    def test_what_is_selected_in_a_field_stays_selected_when_the_sheet_is_drawn_anew(self):
        page = self.bench("Slipway")
        page.route("**/drawings", lambda route: None)  # they wait
        page.keyboard.press("b")  # its sheet is drawn, and again with what is measured
        page.wait_for_selector("#sheet >> text=Summed to mono")
        self.unfold(page, "bus/place")
        field = "#sheet input[type=number][data-path='bus/mono_below_hz']"
        page.wait_for_selector(field)
        # In one breath, finding it too: it may be drawn anew at any moment.
        page.evaluate(
            "field => { window.before = document.querySelector(field); before.focus(); before.select(); }", field
        )
        page.unroute("**/drawings")  # and come
        self.until(page, "!before.isConnected")
        page.keyboard.type("300")
        page.keyboard.press("Enter")
        self.settled(page)
        self.assertEqual(self.document("Slipway")["bus"]["mono_below_hz"], 300)

    def test_mono_border_and_limits(self):
        page = self.bench("Slipway")
        page.keyboard.press("b")
        page.wait_for_selector("#sheet >> text=Summed to mono")
        self.unfold(page, "bus/place")
        page.fill("#sheet input[type=number][data-path='bus/mono_below_hz']", "300")
        page.keyboard.press("Enter")
        page.wait_for_selector("#pile .mono-line", state="attached")
        page.wait_for_selector("#pile .width-after", state="attached")
        page.wait_for_selector("#soundings >> text=Below 300 Hz the bass is mono", state="attached")
        page.click("#soundings .fine-soundings > summary")
        item = page.locator("#soundings .sounding[data-id='small-speaker']")
        item.locator("summary.sounding-line").click()
        item.locator(".limit summary").click()
        item.locator("[name=look]").fill("5")
        item.locator("[name=reason]").fill("the ferry's horn speakers")
        item.locator("[data-limit]").click()
        page.wait_for_selector(
            "#soundings .sounding.is-look[data-id='small-speaker'] >> text=changed", state="attached"
        )
        self.assertEqual(self.document("Slipway")["limits"]["small-speaker"]["reason"], "the ferry's horn speakers")


class PlumbTest(LowEndCase):
    def test_it_promises_and_keeps(self):
        page = self.bench("Slipway")
        page.keyboard.press("3")
        self.unfold(page, "layers/high/place")
        page.select_option("#sheet select[data-path='layers/high/polarity']", "inverted")
        page.wait_for_selector("#soundings .sounding.is-fault strong:text-is('Plumb')")
        page.keyboard.press("Escape")
        page.click("#plumb-open")
        page.wait_for_selector("#plumb-view .plumb-pair >> nth=1")
        before = self.rows(page)
        self.assertTrue(all(now < 0.0 and promised > 1.0 for now, promised in before.values()), before)
        page.click("#plumb-view button:has-text('Plumb the stack')")
        page.wait_for_selector("#plumb-view button:has-text('Plumb the stack')", state="detached")
        self.assertEqual(self.document("Slipway")["layers"][2]["polarity"], "normal")
        for note, (kept,) in self.rows(page).items():
            if note in before:
                self.assertAlmostEqual(kept, before[note][1], delta=0.5, msg=note)
        page.keyboard.press("l")
        self.assertTrue(page.is_hidden("#plumb-view"))
        self.assertEqual(self.complaints, [])

    @staticmethod
    def rows(page):
        """(gain now, gain promised if there is one) of the second pair, by note; alike notes once."""
        found = {}
        for text in page.locator("#plumb-view .plumb-pair >> nth=1 >> .plumb-table tr").all_inner_texts()[1:]:
            note, _, _, _, *gains = text.split("\t")
            numbers = [float(gain.split()[0].replace("−", "-")) for gain in gains if "dB" in gain]
            found.setdefault(note, tuple(numbers))
        return found


class PlayingTest(LowEndCase):
    def test_edits_of_the_low_end_are_heard_while_the_views_are_open(self):
        page = self.bench("Slipway")
        self.play(page)
        for view, line, path, value in (
            ("b", "bus/place", "bus/mono_below_hz", "250"),
            ("1", "layers/sub/source", "layers/sub/source/drop_semitones", "7"),
        ):
            page.keyboard.press(view)
            self.unfold(page, line)
            page.wait_for_selector(f"#sheet input[type=number][data-path='{path}']")
            page.click("#plumb-open")
            page.fill(f"#sheet input[type=number][data-path='{path}']", value)
            page.keyboard.press("Enter")
            self.settled(page)
            self.listen(page, 14400)
            page.evaluate("takeHeard()")
            self.listen(page, 33600)
            heard, loop = self.heard(page), self.loop("Slipway")
            self.assertTrue(follows(heard, loop), path)
            page.click("#plumb-view [data-view-close]")
        self.assertEqual(self.complaints, [])


class FixAllTest(LowEndCase):
    name = "Lock Gate"

    def test_all_faults_go_and_the_command_line_says_the_same(self):
        page = self.bench("Lock Gate")
        kinds = page.locator("#soundings .sounding.is-fault").evaluate_all("all => all.map((one) => one.dataset.id)")
        self.assertGreaterEqual(len(set(kinds)), 10)
        self.assertEqual(self.checked("Lock Gate")[0], 1)
        self.fix_all(page)
        self.assertEqual(self.checked("Lock Gate"), (0, []))
        self.assertGreaterEqual(len(self.planned), 5)
        self.assertEqual(self.complaints, [])
        page.click("#undo")  # one step
        self.settled(page)
        self.assertGreaterEqual(page.locator("#soundings .sounding.is-fault").count(), len(set(kinds)))


FLAWS = (
    {"op": "set", "path": "kick/level_db", "value": -24.0},
    {"op": "set", "path": "bus/level_db", "value": 9.0},
    {"op": "set", "path": "bus/mono_below_hz", "value": 0.0},
    {"op": "set", "path": "layers/{sub}/mono", "value": False},
    {"op": "set", "path": "layers/{upper}/polarity", "value": "inverted"},
    {"op": "set", "path": "layers/{upper}/delay_ms", "value": 4.0},
    {"op": "transpose", "semitones": -12},
    {"op": "add-point", "to": "layers/{upper}", "point": {"kind": "bell", "frequency_hz": 316.0, "gain_db": 14.0}},
    {"op": "add-point", "to": "layers/{upper}", "point": {"kind": "bell", "frequency_hz": 3000, "gain_db": 18, "q": 9}},
)


class FlawedTest(LowEndCase):
    """Three random flaws added to a demo stack: *Mend all* ends as it says."""

    def setUp(self):
        for name in self.stacks:
            self.addCleanup(self.undo_all, name)

    def test_what_the_plan_shows_is_what_is_measured_after_it(self):
        chance = random.Random(7)
        for name in ("Slipway", "Rope Walk"):
            with self.subTest(stack=name):
                layers = sorted(self.document(name)["layers"], key=lambda layer: layer["span"]["first"])
                for flaw in chance.sample(FLAWS, 3):
                    said = json.dumps(flaw).replace("{sub}", layers[0]["id"]).replace("{upper}", layers[-1]["id"])
                    base = self.server.plan(self.stacks[name])["revision"]
                    posted = {"edit": json.loads(said), "base": base, "view": {}}
                    self.server.ask(f"/stacks/{self.stacks[name]}/edits", posted)
                page = self.bench(name)
                page.click("#mend-all")
                page.wait_for_selector("#dialog button:has-text('Close')", timeout=MENDING_MS)
                summary = page.locator("#dialog p").first.inner_text()
                faults, looks = map(int, re.search(r"become (\d+) and (\d+)", summary).groups())
                loudness = float(re.search(r"→ (−?[\d.]+) LUFS", summary)[1].replace("−", "-"))
                step = page.locator("#dialog .mending-steps li").last
                last = step.inner_text().removeprefix(step.locator("strong").inner_text())
                promised = re.findall(r"(?:^|;|cost of|,) *([^;,→]+?) −?[\d.]+ [^;,→]*→ (−?[\d.]+)", last)
                page.locator("#dialog .btn-fix").click()
                self.settled(page)
                self.assertEqual(page.locator("#soundings .sounding.is-fault").count(), faults)
                self.assertEqual(page.locator("#soundings .sounding.is-look").count(), looks)
                meter = page.locator("#meter").inner_text()
                self.assertAlmostEqual(float(meter.split(" ")[0].replace("−", "-")), loudness, delta=0.3)
                self.assertTrue(promised, last)
                page.evaluate("document.querySelector('.fine-soundings')?.setAttribute('open', '')")
                for title, value in promised:
                    lines = page.locator(f"#soundings .sounding-line:has(strong:text-is('{title}')) .number")
                    shown = [float(text.split(" ")[0].replace("−", "-")) for text in lines.all_inner_texts()]
                    self.assertTrue(shown, (name, title, last))
                    wanted = float(value.replace("−", "-"))
                    self.assertLess(min(abs(each - wanted) for each in shown), 0.31, (name, title, value, shown))
                page.close()
        self.assertEqual(self.complaints, [])
