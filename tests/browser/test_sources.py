"""Sources in the browser: beginning with a recording, a pluck built by hand, notes that are tapped and read."""

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.notes import Note
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from tests.browser.page import BrowserCase
from tests.support import ENGINE, graph_of, plain_stack, wav

PLAYED = ((0.0, 33), (1.0, 36), (1.75, 33), (2.5, 40), (4.0, 31), (5.0, 33), (6.5, 38))
TEMPO = 100.0


def recording():
    """A bass that was played, 8 beats at 100 bpm."""
    notes = tuple(Note(start_beats=at, length_beats=0.45, pitch=pitch) for at, pitch in PLAYED)
    voice = Voice(mode="retrigger", envelope=Envelope(attack_ms=3.0, decay_ms=600.0, sustain=0.5, release_ms=30.0))
    layer = Layer(id="a", source=ToneSource(tones=(Tone(shape="saw"),)), voice=voice)
    (sound,) = ENGINE.run([graph_of(plain_stack(layers=(layer,), pattern=notes, tempo_bpm=TEMPO, bars=2)).sources["a"]])
    return wav(0.5 * sound)


class SourcesTest(BrowserCase):
    def listed(self, page):
        """A stack that was just made, by its number; under a name for what the tests look up by one."""
        stack = int(page.url.rsplit("/", 1)[1])
        self.stacks["new"] = stack
        return stack

    def test_from_a_recording_to_a_clean_sub_in_at_most_eight_presses(self):
        page = self.open("/")
        own = self.folder / "quay-bass.wav"
        own.write_bytes(recording())
        presses = []

        def press(selector):
            page.click(selector)
            presses.append(selector)

        press(".begin > summary")
        with page.expect_file_chooser() as chosen:
            press("label[for=begin-recording]")
        chosen.value.set_files(own)
        page.wait_for_url("**/stacks/*")
        page.wait_for_selector("html[data-ready=yes]")
        self.noticed(page, "7 notes read")
        self.listed(page)
        document = self.document("new")
        self.assertAlmostEqual(document["tempo_bpm"], TEMPO, delta=0.5)
        self.assertEqual([note["pitch"] for note in document["pattern"]], [pitch for _, pitch in PLAYED])
        found = np.array([note["start_beats"] for note in document["pattern"]])
        np.testing.assert_allclose(found, [at for at, _ in PLAYED], atol=0.05)
        kinds = [layer["source"]["kind"] for layer in document["layers"]]
        self.assertEqual(kinds, ["tone", "take", "layer"])
        self.assertEqual([layer["span"]["first"] for layer in document["layers"]], [0, 1, 2])
        self.assertTrue(document["layers"][0]["mono"])
        self.settled(page)
        press("#play")
        self.until(page, "document.querySelector('#play').getAttribute('aria-pressed') === 'true'")
        self.assertTrue(self.hears(page, self.loop("new")))
        self.assertLessEqual(len(presses), 8)
        self.assertEqual(self.complaints, [])

    def test_a_pluck_is_built_and_its_click_goes_where_its_handle_is_pulled(self):
        page = self.open("/")
        page.fill("#new-name", "Bitts")
        page.click("button:has-text('New stack')")
        page.wait_for_selector("html[data-ready=yes]")
        self.listed(page)
        page.click("#layers li[data-select='layer:mid'] .row-name")
        source = "layers/mid/source"
        self.unfold(page, source)
        page.click(f"#sheet .line[data-line='{source}'] button:has-text('Add a filter')")
        self.until(page, "document.querySelector('#undo').title.includes('filter')")
        (each,) = self.document("new")["layers"][1]["source"]["filters"]
        path = f"{source}/filters/{each['id']}"
        self.unfold(page, path)
        page.select_option(f"#sheet select[data-path='{path}/shape']", "high-pass")
        self.settled(page)
        page.click(f"#sheet [data-mark='{path}/cutoff_hz']")
        page.select_option(".move-offer select", label="new: fall")
        self.settled(page)
        page.wait_for_selector(".filter-travel", state="attached")
        self.play(page)
        before = self.loop("new", alone=["layers/mid"])
        self.drag(page, ".filter-point", 40, -120)
        self.settled(page)
        (pulled,) = self.document("new")["layers"][1]["source"]["filters"]
        self.assertGreater(pulled["cutoff_hz"], 2.0 * each["cutoff_hz"])
        self.assertGreater(pulled["resonance"], each["resonance"] + 0.1)
        self.until(page, "document.querySelector('#bench').getAttribute('aria-busy') === 'false'")
        self.assertTrue(self.hears(page, self.loop("new")))
        after = self.loop("new", alone=["layers/mid"])
        self.assertGreater(self.middle_hz(after), 1.3 * self.middle_hz(before))
        self.assertEqual(self.complaints, [])

    @staticmethod
    def middle_hz(loop):
        """Where the middle of a sound's power lies."""
        power = np.abs(np.fft.rfft(loop[0])) ** 2
        return float(np.sum(np.fft.rfftfreq(loop.shape[1], 1 / 48000) * power) / np.sum(power))

    def test_notes_are_tapped_with_keys_and_on_the_pile(self):
        page = self.bench("Slipway")
        page.evaluate(
            "window.taps = []; document.addEventListener('apilado:tapped', ({ detail }) => window.taps.push(detail))"
        )
        page.click("#tap")
        page.keyboard.down("m")  # else it mutes a layer
        self.until(page, "window.taps.some(({ part }) => part === 'whole')")
        page.keyboard.up("m")
        self.until(page, "window.taps.some(({ part }) => part === 'let go')")
        first = page.evaluate("window.taps[0]")
        self.assertEqual((first["part"], first["pitch"]), ("first", 42))
        self.assertGreater(first["peak"], 0.02)
        self.assertFalse(any(layer["mute"] for layer in self.document("Slipway")["layers"]))
        page.evaluate("window.taps.length = 0")
        box = page.locator("#pile").bounding_box()
        page.mouse.move(box["x"] + 12, box["y"] + box["height"] * (1 - np.log10(55 / 20) / 3))
        page.mouse.down()
        self.until(page, "window.taps.some(({ part }) => part === 'first')")
        page.mouse.up()
        self.assertEqual(page.evaluate("window.taps[0].pitch"), 33)
        page.evaluate("window.taps.length = 0")
        page.keyboard.press("m")  # let go before its sound can be there
        self.until(page, "window.taps.some(({ part, peak }) => part === 'first' && peak > 0.02)")
        page.keyboard.press("Escape")
        self.assertEqual(page.get_attribute("#tap", "aria-pressed"), "false")
        page.keyboard.press("m")
        self.assertEqual(self.complaints, [])

    def test_the_notes_of_a_take_are_read_into_the_pattern(self):
        page = self.bench("Rope Walk")
        before = self.document("Rope Walk")
        page.click("#layers li[data-select='layer:body'] .row-name")
        self.unfold(page, "layers/body/source")
        page.click("#sheet button:has-text('Read its notes')")
        page.wait_for_selector("dialog[open] >> text=notes read")
        page.click("dialog[open] button:has-text('Take them as the pattern') >> nth=0")
        self.until(page, "document.querySelector('#undo').title.includes('attern')")
        read = [(note["start_beats"], note["pitch"]) for note in self.document("Rope Walk")["pattern"]]
        written = [(note["start_beats"], note["pitch"]) for note in before["pattern"]]
        found = [any(abs(at - start) < 0.06 and was == pitch for start, pitch in read) for at, was in written]
        self.assertGreater(np.mean(found), 0.9)
        self.assertEqual(self.complaints, [])

    def test_a_recording_is_played_as_a_sample_with_its_root_found(self):
        page = self.bench("Sea Chest")
        page.click("#layers li[data-select='layer:pipe'] .row-name")
        self.unfold(page, "layers/pipe/source")
        t = np.arange(48000) / 48000
        own = self.folder / "drum.wav"
        own.write_bytes(wav(0.4 * np.sin(2 * np.pi * 65.41 * t)[None] + 0.2 * np.sin(2 * np.pi * 130.82 * t)[None]))
        with page.expect_file_chooser() as chosen:
            page.click("#sheet label:has([data-upload='layers/pipe'])")
        chosen.value.set_files(own)
        self.until(page, "document.querySelector('#undo').title.includes('drum.wav')")
        source = self.document("Sea Chest")["layers"][1]["source"]
        self.assertEqual((source["kind"], source["root"], source["file_name"]), ("sample", 36, "drum.wav"))
        self.assertEqual(self.complaints, [])
