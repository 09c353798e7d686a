"""The bench as a designer uses it."""

import base64
import json
import zipfile

from apilado.core.formats.midi_files import write_midi
from apilado.core.notes import Note
from tests.browser.page import BrowserCase
from tests.support import noise, sine, wav


class EditingTest(BrowserCase):
    def setUp(self):
        self.addCleanup(self.undo_all, "Slipway")

    def test_a_crossover_is_dragged_in_any_panel_as_one_step(self):
        page = self.bench("Slipway")
        for panel in ("pile", "profile", "passage"):
            before = self.document("Slipway")["crossovers"][0]["frequency_hz"]
            self.drag(page, f"#{panel} .border[data-key='crossover:lower'] .grip", 0, -20, at_x=60)
            self.settled(page)
            after = self.document("Slipway")["crossovers"][0]["frequency_hz"]
            self.assertGreater(after, before * 1.2)
            self.assertIn(f"{after:.0f} Hz", page.text_content("#pile .plan"))
            page.keyboard.press("Control+z")
            self.until(page, "document.getElementById('undo').disabled")
            self.assertEqual(self.document("Slipway")["crossovers"][0]["frequency_hz"], before)
        self.assertEqual(self.complaints, [])

    def test_the_profile_adds_pulls_and_removes_points(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#profile .eq-point")
        box = page.locator("#profile").bounding_box()
        page.mouse.dblclick(box["x"] + box["width"] * 0.7, box["y"] + box["height"] * 0.2)
        self.until(page, "document.querySelectorAll('#profile .eq-point').length === 2")
        new = self.document("Slipway")["layers"][1]["path"][2]["points"][1]
        path = f"layers/mid/path/eq/points/{new['id']}"
        self.assertGreater(new["gain_db"], 5.0)
        self.assertAlmostEqual(new["frequency_hz"], 20 * 1000**0.8, delta=200)
        self.drag(page, f"#profile .eq-point[data-path='{path}'] .grip-area", -80, 30)
        self.settled(page)
        for _ in range(400):  # on a busy machine the last edit of a drag may come after all that it has to wait for
            pulled = self.document("Slipway")["layers"][1]["path"][2]["points"][1]
            shown = page.input_value(f"#sheet input[type=number][data-path='{path}/gain_db']")
            if abs(float(shown) - pulled["gain_db"]) < 5e-4 and pulled["gain_db"] < new["gain_db"] - 6:
                break
            page.wait_for_timeout(50)
        self.assertLess(pulled["gain_db"], new["gain_db"] - 6)
        self.assertLess(pulled["frequency_hz"], new["frequency_hz"])
        self.assertAlmostEqual(float(shown), pulled["gain_db"], places=3)
        page.locator(f"#profile .eq-point[data-path='{path}']").focus()
        page.keyboard.press("Delete")
        self.until(page, "document.querySelectorAll('#profile .eq-point').length === 1")

    def test_what_is_set_in_a_sheet_is_not_drawn_over_by_one_of_before(self):
        self.addCleanup(self.undo_all, "Slipway")
        page = self.bench("Slipway")
        switch = "#sheet input[type=checkbox][data-path='duckers/duck/on']"
        page.keyboard.press("d")
        page.wait_for_selector(switch)
        self.settled(page)
        held = []

        def sheet(route):
            if held:
                route.continue_()
            else:
                held.append((route, route.fetch().text()))

        page.context.route("**/sheet?**", sheet)
        page.fill("#sheet input[type=number][data-path='duckers/duck/shape/release_ms']", "91")
        page.keyboard.press("Enter")
        for _ in range(500):  # what is measured anew is told in it
            if held:
                break
            page.wait_for_timeout(20)
        page.locator(switch).focus()
        page.evaluate(
            'window.seen = []; new MutationObserver(() => seen.push(document.querySelector("'
            + switch
            + "\").checked)).observe(document.getElementById('sheet'), { childList: true })"
        )
        page.keyboard.press("Space")
        self.until(page, "document.querySelector('#undo').title.includes('off')")
        route, before = held[0]
        route.fulfill(body=before, content_type="text/html")
        self.settled(page)
        self.until(page, "seen.length > 0")
        self.assertEqual(page.evaluate("seen"), [False] * page.evaluate("seen.length"))
        self.assertFalse(page.is_checked(switch))

    def test_what_waits_for_a_press_gets_its_turn_however_soon_the_next_one_comes(self):
        page = self.bench("Slipway")
        told = page.evaluate("""async () => {
          const { handsOff } = await import("/static/js/redraw.js");
          const fire = (kind, place) => document.getElementById(place).dispatchEvent(new PointerEvent(kind, { bubbles: true }));
          const rest = () => new Promise((resolve) => { setTimeout(resolve, 100); });
          const told = [];
          for (const next of ["sheet", "pile"]) {
            let turns = 0;
            fire("pointerdown", "sheet");
            handsOff("sheet").then(() => { turns += 1; });
            fire("pointerup", "sheet");
            fire("pointerdown", next); // before the page has come to the end of the first
            handsOff("sheet").then(() => { turns += 1; });
            await rest();
            told.push(turns);
            fire("pointerup", next);
            await rest();
            told.push(turns);
          }
          return told;
        }""")
        self.assertEqual(told, [0, 2, 2, 2])

    def test_a_point_that_is_added_before_the_sheet_is_there_is_open_in_it(self):
        page = self.bench("Slipway")
        held, late = [], True

        def sheet(route):
            if late:
                held.append(route)
            else:
                route.continue_()

        page.context.route("**/sheet?**", sheet)
        page.keyboard.press("2")
        page.wait_for_selector("#profile .eq-point")
        box = page.locator("#profile").bounding_box()
        page.mouse.dblclick(box["x"] + box["width"] * 0.7, box["y"] + box["height"] * 0.2)
        self.until(page, "document.querySelectorAll('#profile .eq-point').length === 2")
        new = self.document("Slipway")["layers"][1]["path"][2]["points"][1]["id"]
        late = False
        for route in held:
            route.continue_()
        page.wait_for_selector(f"#sheet input[type=number][data-path='layers/mid/path/eq/points/{new}/gain_db']")

    def test_notes_are_drawn_tuned_lengthened_and_removed(self):
        page = self.bench("Slipway")
        count = len(self.document("Slipway")["pattern"])
        box = page.locator("#passage").bounding_box()
        page.mouse.dblclick(box["x"] + box["width"] * 2.1 / 16, box["y"] + box["height"] * 0.6)
        self.until(page, f"document.querySelectorAll('#passage .note').length === {count + 1}")
        page.wait_for_selector("#sheet >> text=Remove note")
        made = next(note for note in self.document("Slipway")["pattern"] if note["start_beats"] == 2.0)
        key = f"note:2:{made['pitch']}"
        self.drag(page, f"#passage [data-key='{key}'] .note-bar", 0, 60)
        self.settled(page)
        lower = next(note for note in self.document("Slipway")["pattern"] if note["start_beats"] == 2.0)
        self.assertLess(lower["pitch"], made["pitch"] - 5)
        self.drag(page, f"#passage [data-key='note:2:{lower['pitch']}'] .note-end", 40, 0)
        self.settled(page)
        longer = next(note for note in self.document("Slipway")["pattern"] if note["start_beats"] == 2.0)
        self.assertGreater(longer["length_beats"], lower["length_beats"] + 0.5)
        page.fill("#sheet input[data-path$='/pitch']", "E2")
        page.keyboard.press("Enter")
        page.wait_for_selector("#passage [data-key='note:2:40']")
        page.locator("#passage [data-key='note:2:40']").focus()
        page.keyboard.press("ArrowUp")
        page.wait_for_selector("#passage [data-key='note:2:41']:focus")
        page.keyboard.press("Delete")
        self.until(page, f"document.querySelectorAll('#passage .note').length === {count}")
        self.assertEqual(self.complaints, [])

    def test_hits_are_added_moved_and_removed(self):
        page = self.bench("Slipway")
        box = page.locator("#strip").bounding_box()
        page.mouse.dblclick(box["x"] + box["width"] * 2.5 / 16, box["y"] + 60)
        page.wait_for_selector("#strip [data-key='hit:kick:2.5']")
        self.drag(page, "#strip [data-key='hit:kick:2.5'] .grip", box["width"] * 0.25 / 16, 0)
        page.wait_for_selector("#strip [data-key='hit:kick:2.75']")
        page.locator("#strip [data-key='hit:kick:2.75']").focus()
        page.keyboard.press("Delete")
        self.until(page, "document.querySelectorAll('#strip [data-hit]').length === 16")

    def test_harmonics_are_pulled(self):
        page = self.bench("Slipway")
        page.keyboard.press("1")
        page.click("[data-mode=harmonics]")
        page.wait_for_selector("#profile .harmonic")
        before = self.document("Slipway")["layers"][0]["source"]["tones"][0]["harmonics"]
        self.drag(page, "#profile [data-key='harmonic:2'] .harmonic-end", -40, 0)
        self.settled(page)
        after = self.document("Slipway")["layers"][0]["source"]["tones"][0]["harmonics"]
        self.assertLess(after[1], before[1])
        self.assertEqual(after[0], before[0])

    def test_everything_outlives_a_reload(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#profile .eq-point")
        page.fill("#sheet input[type=number][data-path='layers/mid/level_db']", "-20")
        page.keyboard.press("Enter")
        self.settled(page)
        page.reload()
        page.wait_for_selector("#sheet input[type=number][data-path='layers/mid/level_db']")
        self.assertEqual(page.input_value("#sheet input[type=number][data-path='layers/mid/level_db']"), "-20")
        page.click("#undo")
        self.until(
            page,
            "document.querySelector(\"#sheet input[type=number][data-path='layers/mid/level_db']\").value === '-10.5'",
        )
        page.click("#redo")
        self.until(
            page,
            "document.querySelector(\"#sheet input[type=number][data-path='layers/mid/level_db']\").value === '-20'",
        )

    def test_a_slider_is_one_step_and_resets_to_its_default(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        slider = page.locator("#sheet input[type=range][data-path='layers/mid/width']")
        slider.focus()
        for _ in range(4):
            page.keyboard.press("ArrowRight")
        self.settled(page)
        self.assertAlmostEqual(self.document("Slipway")["layers"][1]["width"], 0.39, places=6)
        page.keyboard.press("Delete")
        self.until(
            page, "document.querySelector(\"#sheet input[type=number][data-path='layers/mid/width']\").value === '1'"
        )

    def test_refusals_are_told_and_leave_the_page_right(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        page.wait_for_selector("#profile .eq-point")
        page.fill("#sheet input[type=number][data-path='layers/mid/level_db']", "77")
        page.keyboard.press("Enter")
        page.wait_for_selector(".notice.is-fault >> text=77")
        self.until(
            page,
            "document.querySelector(\"#sheet input[type=number][data-path='layers/mid/level_db']\").value === '-10.5'",
        )

    def test_a_server_that_was_away_is_told_and_what_it_did_not_keep(self):
        page = self.bench("Slipway")
        page.keyboard.press("2")
        field = "#sheet .field input.number[data-path='layers/mid/level_db']"
        page.wait_for_selector(field)
        kept = page.input_value(field)
        page.context.set_offline(True)
        page.fill(field, "-31")
        page.press(field, "Enter")
        page.wait_for_selector(".notice.is-fault >> text=The server cannot be reached")
        self.assertEqual(page.input_value(field), "-31")
        page.context.set_offline(False)
        self.noticed(page, "Connected again. Not saved: your last change.")
        self.until(page, f"document.querySelector(\"{field}\").value === '{kept}'")
        self.assertEqual(str(self.document("Slipway")["layers"][1]["level_db"]).removesuffix(".0"), kept)

    def test_keyboard_alone(self):
        page = self.bench("Slipway")
        page.keyboard.press("?")
        page.wait_for_selector("#help-dialog[open]")
        page.keyboard.press("Escape")
        page.keyboard.press("3")
        page.wait_for_selector("#layers .is-selected >> text=high")
        page.keyboard.press("m")
        page.wait_for_selector("#layers .is-muted >> text=high")
        page.keyboard.press("m")
        page.keyboard.press("k")
        page.wait_for_selector("#layers .is-selected >> text=kick")
        page.wait_for_selector("#sheet [data-open='kick/sound']")
        page.locator("#pile .border[data-key='crossover:lower']").focus()
        page.keyboard.press("ArrowUp")
        page.keyboard.press("ArrowUp")
        self.settled(page)
        self.assertAlmostEqual(
            self.document("Slipway")["crossovers"][0]["frequency_hz"], 112 * 2 ** (2 / 24), delta=0.3
        )
        self.assertEqual(page.evaluate("document.activeElement.dataset.key"), "crossover:lower")

    def test_two_tabs(self):
        page, other = self.bench("Slipway"), self.bench("Slipway")
        other.keyboard.press("2")
        other.wait_for_selector("#profile .eq-point")
        other.fill("#sheet input[type=number][data-path='layers/mid/level_db']", "-15")
        other.keyboard.press("Enter")
        self.noticed(page, "changed in another tab")
        level = "#layers input[type=number][data-path='layers/mid/level_db']"
        self.until(page, "level => document.querySelector(level).value === '-15'", level)

    def test_zoom_to_a_hit_and_back(self):
        page = self.bench("Slipway")
        whole = page.locator("#strip [data-hit]").count()
        page.click("[data-zoom=hit]")
        self.until(page, "document.querySelector('#strip [data-hit]').getBoundingClientRect().x > 0")
        self.settled(page)
        first, second = (page.locator("#strip [data-hit]").nth(i).bounding_box()["x"] for i in (0, 1))
        self.assertGreater(second - first, 400)
        page.click("[data-zoom=all]")
        self.settled(page)
        self.assertEqual(page.locator("#strip [data-hit]").count(), whole)

    def test_panels_share_the_axis_at_any_size(self):
        page = self.bench("Slipway")
        for size in ((1280, 800), (1680, 1000), (1100, 700)):
            page.set_viewport_size({"width": size[0], "height": size[1]})
            page.wait_for_timeout(500)
            lines = [
                page.locator(f"#{name} .border[data-key='crossover:upper'] .border-line").bounding_box()["y"]
                for name in ("pile", "profile", "passage")
            ]
            self.assertLess(max(lines) - min(lines), 0.6)
            self.assertEqual(page.evaluate("document.documentElement.scrollWidth"), size[0])


class FilesTest(BrowserCase):
    def test_own_bass_and_kick_in_stems_out(self):
        page = self.open("/")
        page.fill("#new-name", "Tide Mill")
        page.click("button:has-text('New stack')")
        page.wait_for_selector("html[data-ready=yes]")
        kick, bass, midi = (self.folder / name for name in ("kick.wav", "bass.wav", "notes.mid"))
        kick.write_bytes(wav(sine(60.0, 0.2)))
        bass.write_bytes(wav(sine(110.0, 1.5)))
        midi.write_bytes(
            write_midi(
                [Note(start_beats=b, length_beats=0.5, pitch=33) for b in range(8)],
                tempo_bpm=98.0,
                beats_per_bar=4,
                name="x",
            )
        )
        self.bring(page, "#layers-panel [data-upload=new]", bass)
        page.wait_for_selector("#layers .row-name >> text=bass")
        page.click("#layers [data-select=kick] .row-name")
        self.unfold(page, "kick/sound")
        page.wait_for_selector("#sheet [data-upload=kick]", state="attached")
        self.settled(page)
        with page.expect_file_chooser() as chooser:
            page.click("#sheet label:has([data-upload=kick])")
        chooser.value.set_files(kick)
        page.wait_for_selector("#sheet >> text=File: kick.wav")
        page.click("#sheet [data-select=piece]")
        self.settled(page)
        self.bring(page, "#sheet [data-upload=midi]", midi)
        page.click("dialog >> text=Use them at 98 bpm")
        self.until(page, "document.querySelector('#head').textContent.includes('98 bpm')")
        page.click("#files summary")
        page.click("text=Deliver sound")
        page.wait_for_selector("html[data-ready] #plan [data-file]")
        page.select_option("select[name=bits]", "16")
        page.fill("[name=names]", "{part}")
        page.click("#write")
        with page.expect_download() as saved:
            page.click("#earlier >> text=Save the ZIP")
        with zipfile.ZipFile(saved.value.path()) as archive:
            names = [name.split("/")[1] for name in archive.namelist()]
            measures = json.loads(archive.read("Tide-Mill/measures.json"))
        self.assertEqual(
            names,
            [
                "mix.wav",
                "bass.wav",
                "kick.wav",
                "layer-01-sub.wav",
                "layer-02-mid.wav",
                "layer-03-high.wav",
                "layer-04-bass.wav",
                "measures.json",
            ],
        )
        self.assertEqual(measures["name"], "Tide Mill")
        self.assertEqual(self.complaints, [])

    def drop(self, page, path, selector):
        """A file dropped on an element, as from a folder's window."""
        page.evaluate(
            """([encoded, name, selector]) => {
              const held = new DataTransfer();
              held.items.add(new File([Uint8Array.from(atob(encoded), (c) => c.charCodeAt(0))], name));
              for (const kind of ["dragover", "drop"]) {
                const event = new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: held });
                document.querySelector(selector).dispatchEvent(event);
              }
            }""",
            [base64.b64encode(path.read_bytes()).decode(), path.name, selector],
        )

    def test_files_that_are_dropped(self):
        page = self.bench("Rope Walk")
        rope, quiet, notes = (self.folder / name for name in ("rope.wav", "quiet.wav", "line.mid"))
        rope.write_bytes(wav(sine(55.0, 0.5)))
        quiet.write_bytes(wav(sine(55.0, 0.5, amplitude=0.0)))
        notes.write_bytes(write_midi([Note(pitch=40)], tempo_bpm=90.0, beats_per_bar=4, name="x"))
        self.drop(page, rope, "#layers li[data-select=kick] .row-name")
        self.noticed(page, "Kick plays rope.wav.")
        self.drop(page, quiet, "#profile")
        self.noticed(page, "There is only silence in it.")
        page.wait_for_selector("#layers .row-name >> text=quiet")
        self.drop(page, notes, "#passage")
        page.wait_for_selector("dialog >> text=Use these notes")
        self.assertEqual(page.locator(".is-dropped-on").count(), 0)
        shelf = self.open("/")
        bundle = self.folder / "dropped.apilado"
        bundle.write_bytes(self.server.ask(f"/stacks/{self.stacks['Slipway']}/export/bundle"))
        self.drop(shelf, bundle, "main")
        shelf.wait_for_selector("text=is on the shelf")
        self.assertEqual(self.complaints, [])

    def test_ones_own_recording_in_three_bands_takes_six_presses(self):
        page = self.open("/")
        rope = self.folder / "own.wav"
        rope.write_bytes(wav(noise(48000), 48000))
        presses = []

        def press(selector):
            page.click(selector)
            presses.append(selector)

        press("button:has-text('New stack')")
        page.wait_for_selector("#layers li[data-select='layer:mid']")
        press("#layers li[data-select='layer:mid'] .row-name")
        with page.expect_file_chooser() as chosen:
            press("#sheet label:has([data-upload='layers/mid'])")
        chosen.value.set_files(rope)
        press("dialog[open] button:has-text('too')")
        self.until(page, "document.querySelector('#undo').title.includes('own.wav')")
        press("#layers li[data-select='layer:sub'] .row-name")
        page.wait_for_selector("#layers li.is-selected[data-select='layer:sub']")
        page.select_option("#sheet select[data-path='layers/sub/source/kind']", "layer")
        presses.append("the source of sub")
        stack = int(page.url.rsplit("/", 1)[1])
        kinds = ["layer", "take", "layer"]
        page.wait_for_selector("#undo:not([disabled])")
        self.until(
            page,
            "document.querySelector('#sheet .line-words').closest('#sheet').textContent.includes('mid, as its source')",
        )
        self.assertEqual([layer["source"]["kind"] for layer in self.layers_of(stack)], kinds)
        self.assertEqual([layer["span"]["first"] for layer in self.layers_of(stack)], [0, 1, 2])
        self.assertLessEqual(len(presses), 6)

    def layers_of(self, stack):
        return json.loads(self.server.ask(f"/stacks/{stack}/export/json"))["layers"]

    def test_a_broken_file_is_named_and_changes_nothing(self):
        page = self.bench("Rope Walk")
        before = self.document("Rope Walk")
        broken = self.folder / "broken.wav"
        broken.write_bytes(wav(sine(60.0, 0.2))[:1000])
        self.bring(page, "#layers-panel [data-upload=new]", broken)
        page.wait_for_selector(".notice.is-fault >> text='broken.wav' is cut short")
        self.assertEqual(self.document("Rope Walk"), before)

    def test_shelf_import_rename_delete_restore(self):
        page = self.open("/")
        bundle = self.folder / "slip.apilado"
        bundle.write_bytes(self.server.ask(f"/stacks/{self.stacks['Slipway']}/export/bundle"))
        count = page.locator(".card-item").count()
        page.set_input_files("#import-file", bundle)
        page.wait_for_selector("text=is on the shelf")
        self.assertEqual(page.locator(".card-item").count(), count + 1)
        card = page.locator(".card-item").first
        card.locator("summary").click()
        card.locator("input[name=name]").fill("Dry Dock")
        card.locator("button:has-text('Rename')").click()
        page.wait_for_selector(".card-name >> text=Dry Dock")
        card = page.locator(".card-item").first
        card.locator("summary").click()
        card.locator("button:has-text('Delete')").click()
        page.click("text=Put it back")
        page.wait_for_selector(".card-name >> text=Dry Dock")
        bad = self.folder / "bad.apilado"
        bad.write_bytes(b"PK\x03\x04nothing")
        page.set_input_files("#import-file", bad)
        self.noticed(page, "is not a bundle that can be read")


class AccessibilityTest(BrowserCase):
    def test_axe_finds_nothing_serious(self):
        gate, slip = (f"/stacks/{self.stacks[name]}" for name in ("Lock Gate", "Slipway"))
        for dark, paths in ((False, ("/", gate, slip)), (True, ("/", slip))):
            for path in paths:
                page = self.open(path, dark=dark)
                if path == "/":
                    page.wait_for_selector(".card-counts:not(.is-waiting)")
                else:
                    page.wait_for_selector("#soundings .soundings-head")
                if path.endswith(str(self.stacks["Slipway"])):
                    page.keyboard.press("u")
                    page.wait_for_selector("#sheet .cycle-drawing")
                    page.keyboard.press("l")
                    page.wait_for_selector("#plumb-view .plumb-pair")
                self.accessible(page, (path, dark))
