"""Soundings on the bench: what they show, and the remedies that are tried for them."""

import re

from tests.browser.page import MENDING_MS, BrowserCase


class SoundingsTest(BrowserCase):
    def test_show_marks_the_place_and_fixes_mend_lock_gate(self):
        page = self.bench("Lock Gate")
        page.locator("#soundings .sounding.is-fault [data-show]").first.click()
        page.wait_for_selector("#passage .shown-beat, #passage .shown-band", state="attached")
        # A hand that comes down has the trials wait, and they go on after it; each is tried once.
        asked = []
        page.on("request", lambda request: asked.append(request.url.rsplit("/", 1)[1]))
        page.route("**/remedy", lambda route: None)  # the first is under way until the hand comes
        page.reload()
        page.wait_for_selector("#soundings .remedy .waiting", timeout=MENDING_MS)
        page.unroute("**/remedy")
        page.click("#meter")
        page.wait_for_selector("#soundings .remedy:not([data-tried])", state="detached", timeout=MENDING_MS)
        self.assertIn("pause", asked)
        # A remedy says what it does; what it promises is what is measured after it.
        even = self.remedied(page, ".is-fault[data-id=sub-even]")
        told = page.locator("#soundings [data-id=sub-even] .remedy-line").inner_text()
        promised = re.search(r"Sub even [\d.]+ dB → ([\d.]+) dB", told)[1]
        even.click()
        self.settled(page)
        page.evaluate("document.querySelector('.fine-soundings')?.setAttribute('open', '')")
        shown = page.locator("#soundings [data-id=sub-even] .sounding-line .number").inner_text()
        self.assertAlmostEqual(float(shown.removesuffix(" dB")), float(promised), delta=0.3)
        while page.is_enabled("#undo"):
            page.click("#undo")
            self.settled(page)
        self.assertGreater(page.locator("#soundings .sounding.is-fault").count(), 2)
        self.assertEqual(self.complaints, [])
