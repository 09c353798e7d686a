"""The bench in headless Chromium, against a real server with the demo data."""

from __future__ import annotations

import atexit
import base64
import contextlib
import io
import json
import shutil
import tempfile
import time
import unittest
from collections.abc import Sequence
from functools import cache
from itertools import count
from pathlib import Path

import numpy as np
from playwright.sync_api import Browser, Locator, Page, Playwright, sync_playwright
from scipy.signal import fftconvolve

from apilado import cli
from tests.server import Server

HERE = Path(__file__).parent
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-quic",
]
PATIENCE_MS = 90000
MENDING_MS = 180000
"""A plan tries dozens of remedies, and gives way to all else on a busy machine."""

LISTENS = 4


def places_of(excerpt, loop):
    """Where in the loop an excerpt may begin, the likeliest first: bars that are played alike look alike."""
    around = np.concatenate([loop, loop[: excerpt.shape[0]]]).astype(np.float64)
    common = fftconvolve(around, excerpt[::-1].astype(np.float64), "valid")
    energy = np.concatenate([[0.0], np.cumsum(around**2)])
    differences = energy[excerpt.shape[0] :] - energy[: -excerpt.shape[0]] - 2.0 * common
    found = []
    for _ in range(6):
        found.append(int(np.argmin(differences)) % loop.shape[0])
        differences[max(0, found[-1] - 2000) : found[-1] + 2000] = np.inf
    return found


def agrees(heard, loop, start):
    """For each frame whether it is the loop's, going round from `start`, within 1e-6."""
    index = (start + np.arange(heard.shape[1])) % loop.shape[1]
    return np.all(np.abs(heard - loop[:, index]) < 1e-6, axis=0)


def follows(heard, loop):
    """Whether all that was heard is the loop from some place on, round and round, within 1e-6."""
    return any(np.all(agrees(heard, loop, start)) for start in places_of(heard[0, : loop.shape[1]], loop[0]))


@cache
def playwright() -> Playwright:
    """Started once for all tests of a process."""
    started = sync_playwright().start()
    atexit.register(started.stop)
    return started


@cache
def launched(number: int) -> Browser:
    """The browser that is launched as the first, the second, …: the next one where one has crashed."""
    browser = playwright().chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
    atexit.register(browser.close)
    return browser


def chromium() -> Browser:
    """A browser that runs; each test has a context of its own in it."""
    return next(browser for browser in map(launched, count()) if browser.is_connected())


@unittest.skipUnless(shutil.which("chromium"), "Chromium is not installed: make test installs it")
class BrowserCase(unittest.TestCase):
    """One server for a class; a fresh page for each test."""

    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.server = Server(cls.folder / "data", "tests.browser.serve")
        cls.addClassCleanup(cls.server.kill)
        cls.browser = chromium()
        shelf = cls.server.ask("/").decode()
        cls.stacks = {}
        for piece in shelf.split('id="stack-')[1:]:
            name = piece.split('class="card-name">')[1].split("<")[0]
            cls.stacks[name] = int(piece.split('"')[0])

    def open(self, path: str, *, dark: bool = False, size: tuple[int, int] = (1280, 800), moving: bool = False) -> Page:
        """A page; `moving`: with what moves while it plays, which takes a machine without a graphics processor time."""
        context = self.browser.new_context(
            viewport={"width": size[0], "height": size[1]},
            color_scheme="dark" if dark else "light",
            accept_downloads=True,
            reduced_motion="no-preference" if moving else "reduce",
        )
        self.addCleanup(context.close)
        context.set_default_timeout(PATIENCE_MS)
        page = context.new_page()
        self.complaints: list[str] = []
        page.on("pageerror", lambda error: self.complaints.append(str(error)))
        page.on("console", lambda said: self.complaints.append(said.text) if said.type == "error" else None)
        page.add_init_script(path=HERE / "listen.js")
        page.goto(self.server.url + path)
        return page

    def bench(self, name: str, **options) -> Page:
        page = self.open(f"/stacks/{self.stacks[name]}", **options)
        page.wait_for_selector("html[data-ready=yes]")
        page.wait_for_selector("#soundings:not(.is-stale) .soundings-head", state="attached")
        return page

    def until(self, page: Page, expression: str, arg: object = None) -> None:
        """Waits until an expression holds. (Playwright's own waiting needs eval, which the page's policy forbids.)"""
        end = time.monotonic() + PATIENCE_MS / 1000
        while not page.evaluate(expression, arg):
            if time.monotonic() > end:
                self.fail(f"never came true: {expression}")
            page.wait_for_timeout(40)

    def noticed(self, page: Page, words: str) -> None:
        """Waits until a notice with these words has been shown since the last one that was waited for."""
        place = "noticed.findIndex((each) => each.includes(words))"
        try:
            self.until(page, f"(words) => {place} >= 0", words)
        except self.failureException:
            self.fail(f"never told: {words}; but {page.evaluate('noticed')}")
        page.evaluate(f"(words) => noticed.splice(0, {place} + 1)", words)

    def undo_all(self, name: str) -> None:
        """A stack as the demo made it."""
        while self.server.plan(self.stacks[name])["undo"]:
            self.server.ask(f"/stacks/{self.stacks[name]}/undo", {"view": {}})

    def settled(self, page: Page) -> None:
        """Waits until soundings and drawings are those of the newest edit."""
        page.wait_for_timeout(60)
        page.wait_for_selector("#bench[aria-busy=false] #soundings:not(.is-stale)", state="attached")

    def bring(self, page: Page, selector: str, file: Path) -> None:
        """Chooses a file as a hand does, which presses first: the sheet may be drawn anew while it is looked for."""
        page.locator(selector).first.wait_for(state="attached")
        with page.expect_file_chooser() as chosen:
            page.evaluate("(selector) => document.querySelector(selector).click()", selector)
        chosen.value.set_files(file)

    def unfold(self, page: Page, *lines: str) -> None:
        """Opens lines of the path, each within the one before; what is folded in them too."""
        for line in lines:
            name = page.locator(f"#sheet [data-open='{line}'].line-name")
            name.wait_for()
            if name.get_attribute("aria-expanded") == "false":
                name.click()
            page.wait_for_selector(f"#sheet .line.is-open[data-line='{line}']")
        page.evaluate("document.querySelectorAll('#sheet details.rest').forEach((fold) => { fold.open = true; })")

    def drag(
        self, page: Page, selector: str, dx: float, dy: float, *, steps: int = 6, at_x: float | None = None
    ) -> None:
        box = page.locator(selector).first.bounding_box()
        x, y = (box["x"] + (box["width"] / 2 if at_x is None else at_x), box["y"] + box["height"] / 2)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + dx, y + dy, steps=steps)
        page.mouse.up()

    def fix_all(self, page: Page) -> None:
        """Does what *Mend all* plans, if there is anything to mend; then no fault is left."""
        if page.locator("#mend-all").count():
            page.click("#mend-all")
            page.wait_for_selector("#dialog button:has-text('Close')", timeout=MENDING_MS)
            self.planned = page.locator("#dialog .mending-steps li").all_inner_texts()
            does = page.locator("#dialog .btn-fix")
            (does if does.count() else page.locator("#dialog button:has-text('Close')")).click()
            self.settled(page)
        self.assertEqual(page.locator("#soundings .sounding.is-fault").count(), 0)

    def remedied(self, page: Page, finding: str) -> Locator:
        """The button of a finding's remedy, once that has been tried."""
        button = page.locator(f"#soundings .sounding{finding} .remedy .btn-fix").first
        button.wait_for(timeout=MENDING_MS, state="attached")
        fold = page.locator(f"#soundings .sounding{finding} details[name=sounding]:has(.remedy .btn-fix)").first
        if fold.get_attribute("open") is None:
            fold.locator("summary").first.click()
        return button

    def checked(self, name: str) -> tuple[int, list[str]]:
        """(exit status, ids of the faults) of `apilado check` on a stack's bundle."""
        bundle = self.folder / "checked.apilado"
        bundle.write_bytes(self.server.ask(f"/stacks/{self.stacks[name]}/export/bundle"))
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            status = cli.main(["check", str(bundle), "--json"])
        return status, [s["id"] for s in json.loads(out.getvalue()) if s["status"] == "fault"]

    def accessible(self, page: Page, where: object = "") -> None:
        """Finds nothing serious in a page as it is shown, by axe-core."""
        if not page.evaluate("'axe' in window"):
            page.evaluate((HERE / "vendor" / "axe.min.js").read_text())
        found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")["violations"]
        serious = [
            (v["id"], v["nodes"][0]["html"][:160], v["nodes"][0]["failureSummary"][:300])
            for v in found
            if v["impact"] in ("serious", "critical")
        ]
        self.assertEqual(serious, [], where)

    def play(self, page: Page) -> None:
        """Starts the loop, and waits until it is heard."""
        page.click("#play")
        self.until(page, "heard.length > 8")
        page.evaluate("takeHeard()")

    def listen(self, page: Page, frames: int) -> None:
        """Waits until so many more frames have been played: a busy machine plays less in a second than a second."""
        count = "heard.reduce((sum, part) => sum + part[0].length, 0)"
        self.until(page, f"frames => {count} >= frames", page.evaluate(count) + frames)

    def hears(self, page: Page, loop: np.ndarray) -> bool:
        """Whether what is played is a loop, or is before long: on a busy machine it may still be on its way."""
        for _ in range(LISTENS):
            self.listen(page, 12000)
            page.evaluate("takeHeard()")
            self.listen(page, 24000)
            if follows(self.heard(page), loop):
                return True
        return False

    def loop(self, name: str, against: Sequence[dict] = (), **heard: object) -> np.ndarray:
        """What the loop of a stack should be now, shape (2, frames), as an audition hears it if one is given; beside
        others, at the level at which it is as loud as they are."""
        asked = {"client": "test", "slot": "test", "heard": heard, "against": list(against)}
        with self.server.opened(f"/stacks/{self.stacks[name]}/loop", asked) as answer:
            gain = json.loads(answer.headers["X-Levels"])["matches"][0][0] if against else 0.0
            samples = np.frombuffer(answer.read(), "<f4").reshape(2, -1)
        return samples if gain == 0.0 else np.asarray(samples * 10.0 ** (gain / 20.0), np.float32)

    def document(self, name: str) -> dict:
        return self.server.stack(self.stacks[name])

    @staticmethod
    def heard(page: Page) -> np.ndarray:
        """What the page has played since it was last asked, shape (2, frames)."""
        return np.stack([np.frombuffer(base64.b64decode(text), "<f4") for text in page.evaluate("takeHeard()")])
