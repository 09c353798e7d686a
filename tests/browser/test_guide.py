"""The guide is true: each of its steps is done as it says, and all that it names is there to be pressed or read."""

import re
from pathlib import Path

from apilado.web.routes.guide import GUIDE, guide_html
from tests.browser.page import BrowserCase

STEP = re.compile(r"^## (\d+)\. (.+)$", re.MULTILINE)
NAMED = re.compile(r"\*\*([^*]+)\*\*", re.DOTALL)
READ = """() => [document.body.textContent, ...[...document.querySelectorAll("input, option, button, a")].map(
  (each) => `${each.value ?? ""} ${each.ariaLabel ?? ""} ${each.title ?? ""}`)].join(" ").replace(/\\s+/g, " ")"""


def steps():
    """(number, title, text) of each step."""
    text = GUIDE.read_text()
    found = list(STEP.finditer(text))
    ends = [each.start() for each in found[1:]] + [text.index("## Words of ours")]
    return [(int(each[1]), each[2], text[each.end() : end]) for each, end in zip(found, ends, strict=True)]


class GuideTest(BrowserCase):
    def test_every_step_does_what_it_says(self):
        page = self.open("/quarry")
        for number, title, text in steps():
            with self.subTest(title):
                seen = [page.evaluate(READ)]
                getattr(self, f"step_{number}")(page, seen)
                seen.append(page.evaluate(READ))
                read = " ".join(seen)
                for name in NAMED.findall(text):
                    self.assertIn(" ".join(name.split()), read, f"{number}. {title}")
        self.assertEqual(self.complaints, [])

    def step_1(self, page, seen):
        page.click(".quarry-row:has-text('rope-walk-pluck')")
        page.wait_for_selector("[data-begin-with]")
        seen.append(page.evaluate(READ))
        page.click("[data-begin-with]")
        page.wait_for_selector("#soundings:not(.is-stale) .soundings-head", state="attached")
        self.noticed(page, "notes read")

    def step_2(self, page, seen):
        page.click("#layers .row-name:text-is('mid')")
        page.wait_for_selector("#sheet [data-open='layers/mid/source']")
        self.play(page)

    def step_3(self, page, seen):
        page.keyboard.press("p")
        field = (
            page.locator("#sheet .section-line, #sheet").locator("input[type=number][data-path^='crossovers/']").first
        )
        field.fill("95")
        field.press("Enter")
        page.wait_for_selector("#pile >> text=95 Hz")

    def step_4(self, page, seen):
        page.click("#plumb-open")
        page.wait_for_selector("#plumb-view .plumb-pair")
        page.locator("#plumb-view h2").first.click()
        page.keyboard.press("l")
        page.wait_for_selector("#plumb-view", state="hidden")

    def step_5(self, page, seen):
        page.click("#layers .row-name:text-is('mid')")
        page.wait_for_selector("#sheet summary:has-text('Add a step, or an EQ point')")
        page.keyboard.press("a")
        page.wait_for_selector("[data-find]:focus")
        page.keyboard.type("sat")
        page.keyboard.press("Enter")
        page.wait_for_selector("#sheet .line.is-open >> text=Saturation")
        drive = page.locator("#sheet input[type=number][data-path$='/drive_db']").last
        drive.fill("9")
        drive.press("Enter")
        self.settled(page)

    def step_6(self, page, seen):
        page.keyboard.press("Escape")
        page.locator("#play").focus()
        page.keyboard.press("k")
        page.click("#layers li[data-select=kick] [data-toggle]")
        page.wait_for_selector("#layers li[data-select=kick]:not(.is-muted)")
        page.keyboard.press("d")
        page.wait_for_selector("#sheet button:has-text('Fit to this kick')")
        seen.append(page.evaluate(READ))
        page.click("#sheet button:has-text('Fit to this kick')")
        self.settled(page)

    def step_7(self, page, seen):
        page.keyboard.press("v")
        page.wait_for_selector("#you-hear >> text=on the phone")
        page.click("#you-hear [data-word=cast]")
        page.click("#casts-view [data-cast-keep]")
        self.noticed(page, "Kept as")
        page.click("#casts-view [data-view-close]")
        page.keyboard.press("j")
        self.until(page, "!document.querySelector('#you-hear [data-word=cast]').classList.contains('is-plain')")
        page.keyboard.press("h")

    def step_8(self, page, seen):
        page.click("#files summary")
        page.click("#files >> text=Crush and tuck under")
        self.noticed(page, "‘crushed’ lies 14 dB under the bass")
        self.settled(page)

    def step_9(self, page, seen):
        page.wait_for_selector("#mend-all, #soundings .soundings-head")
        if page.locator("#mend-all").count():
            page.click("#mend-all")
            page.wait_for_selector("#dialog[open] h2")
            seen.append(page.evaluate(READ))
            page.keyboard.press("Escape")
        else:
            self.assertEqual(page.locator("#soundings .is-fault, #soundings .is-look").count(), 0)
            seen.append("Mend all …")  # it is there where there is something to mend

    def step_10(self, page, seen):
        page.click("#files summary")
        page.click("#files >> text=Deliver sound …")
        page.wait_for_selector("#plan [data-file]")
        page.click("#write")
        page.wait_for_selector("#earlier li:first-child a:has-text('Save the ZIP')")


class GuideTextTest(BrowserCase):
    def test_the_guide_in_the_program_is_that_of_the_docs(self):
        docs = Path(__file__).parents[2] / "docs"
        self.assertEqual((docs / "guide.md").read_text(), GUIDE.read_text())
        for picture in re.findall(r"\]\((screenshots/[^)]+)\)", GUIDE.read_text()):
            self.assertTrue((docs / picture).is_file(), picture)
        self.assertNotIn("<img", guide_html())

    def test_it_is_found_under_the_question_mark(self):
        page = self.bench("Slipway")
        page.keyboard.press("?")
        with page.context.expect_page() as opened:
            page.click("#help-dialog a:has-text('The guide')")
        guide = opened.value
        guide.wait_for_selector("h1 >> text=From a recording to a delivery")
        for word in ("Quarry", "Plumb", "Cast", "Sounding"):
            self.assertTrue(guide.locator(f"td:text-is('{word}')").count(), word)
