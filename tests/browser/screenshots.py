"""python -m tests.browser.screenshots DIR: one picture of each main view, from the demo data."""

import json
import shutil
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

from tests.browser.page import FLAGS, MENDING_MS
from tests.server import Server

READY = "#soundings:not(.is-stale) .soundings-head"


def quarried(server: Server, stacks: dict[str, int]) -> None:
    """Bounces what makes a Quarry worth a look."""
    for name, bounced in (
        ("Foghorn", {"what": "layers", "layers": ["growl"]}),
        ("Sea Chest", {"what": "layers", "layers": ["pipe"]}),
        ("Lock Gate", {"what": "stack", "first_bar": 1, "last_bar": 2}),
        ("Breakwater", {"what": "bus"}),
        ("Slipway", {"what": "layers", "layers": ["sub"]}),
        ("Slipway", {"what": "bus"}),
    ):
        job = json.loads(server.ask(f"/stacks/{stacks[name]}/jobs", {"kind": "bounce", "wanted": {"bounced": bounced}}))
        while json.loads(server.ask(f"/jobs/{job['id']}"))["state"] == "running":
            time.sleep(0.1)


def main(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as data, sync_playwright() as playwright:
        server = Server(Path(data))
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)

        def view(path: str, *, dark: bool = False):
            context = browser.new_context(
                viewport={"width": 1280, "height": 800}, color_scheme="dark" if dark else "light"
            )
            page = context.new_page()
            page.goto(server.url + path)
            return page

        shelf = view("/")
        shelf.wait_for_selector(".card-counts:not(.is-waiting)")
        shelf.wait_for_timeout(3000)
        shelf.screenshot(path=folder / "shelf.png")
        paths = {shelf.locator(".card-name").nth(i).inner_text(): i for i in range(shelf.locator(".card-name").count())}
        links = {name: shelf.locator(".card-open").nth(i).get_attribute("href") for name, i in paths.items()}
        quarried(server, {name: int(link.split("/")[-1]) for name, link in links.items()})
        for name, path, shown in (
            ("quarry", "/quarry", ".quarry-row:nth-of-type(7) .spectrum-body"),
            ("deliver", f"{links['Breakwater']}/deliver", "#plan [data-file]"),
        ):
            page = view(path)
            if name == "deliver":
                page.wait_for_selector(shown)
                page.select_option("[name=extent]", "one-pass")
                page.click("[data-parts] summary")
                page.check("[name=notes]")
                page.click("h1")
                page.wait_for_selector("#plan .midi-files")
            else:
                page.click(".quarry-row:has-text('Slipway bass') .quarry-name")
                page.wait_for_selector("[data-chosen] .quarry-facts")
            page.wait_for_selector(shown, state="attached")
            page.wait_for_timeout(500)
            page.screenshot(path=folder / f"{name}.png")
        for name, stack, dark, keys, shown in (
            ("bench", "Slipway", False, "2", READY),
            ("bench-night", "Slipway", True, "1", READY),
            ("mend-all", "Lock Gate", False, "", "#mend-all"),
            ("plumb", "Lock Gate", False, "l", ".plumb-pair"),
            ("low-end", "Slipway", False, "u", ".cycle-drawing"),
            ("elsewhere", "Lock Gate", False, "v", "#you-hear [data-word=place]:not(.is-plain)"),
            ("room-map", "Lock Gate", False, "r", ".proposal"),
            ("kick", "Rope Walk", False, "k", ".kick-sweep"),
            ("balance", "Slipway", False, "t", ".target-line"),
            ("space", "Breakwater", True, "w", "[data-open='space/path/room'].line-name"),
            ("chains", "Rope Walk", False, "2", "[data-open='layers/body/path/weight'].line-name"),
            ("duck", "Rope Walk", False, "d", "#headroom"),
            ("movement", "Slipway", False, "2", "[data-mark='layers/mid/level_db']"),
            ("section", "Rope Walk", False, "", "#section-add"),
            ("sample", "Sea Chest", False, "2", ".sound-marks"),
            ("casts", "Foghorn", False, "2", "[data-word=cast]"),
        ):
            page = view(links[stack], dark=dark)
            page.wait_for_selector(READY)
            for key in keys:
                page.keyboard.press(key)
            if name == "bench-night":
                page.click("[data-mode=harmonics]")
            page.wait_for_selector(shown, state="attached")
            if name == "mend-all":
                page.click("#mend-all")
                page.wait_for_selector("#dialog .btn-fix", timeout=MENDING_MS)
            if name == "movement":
                page.click("[data-mark='layers/mid/level_db']")
                page.select_option(".move-offer select", label="new: fall")
                page.wait_for_selector("#strip .course-point")
            if name == "chains":
                page.click(shown)
                page.click("[data-open='layers/body/path/weight/path/press'].line-name")
                page.wait_for_selector("#profile .inner-border", state="attached")
                page.wait_for_selector("#strip .of-band", state="attached")
            if name == "space":
                page.click(shown)
                page.wait_for_selector("#profile .filter-curve", state="attached")
            if name == "elsewhere":
                page.click("[data-word=place]")
                page.wait_for_selector("[data-go-to=phone][aria-pressed=true]")
            if name == "casts":
                page.click(shown)
                page.click("[data-cast-keep]")
                page.fill("#casts-view [data-cast-field=name]", "before the drive")
                page.fill("#casts-view [data-cast-field=judgement]", "warmer, but gone on the phone")
                page.keyboard.press("Tab")
                page.click("#layers [data-path='layers/spit/mute']")
                page.wait_for_selector("#undo:not([disabled])")
                page.wait_for_selector(READY)
                page.keyboard.press("j")
                page.click("#casts-view [data-cast-differs]")
                page.wait_for_selector("#casts-view .cast-differences li")
                page.wait_for_selector("[data-word=level] >> text=LU")
            if name == "sample":
                page.click("[data-open='layers/pipe/source/filters/lid'].line-name")
                page.wait_for_selector("#profile .filter-point", state="attached")
            if name == "section":
                page.click("#section-add")
                page.wait_for_selector("#sheet button:has-text('Sub alone')")
                page.click("#sheet button:has-text('Sub alone')")
                page.wait_for_selector("#sheet button:has-text('as the whole')")
            if name == "duck":  # those that edit come last
                page.click(".fit-duck")
                page.click("[data-zoom=hit]")
                page.wait_for_selector("#passage .bass-before", state="attached")
            page.wait_for_timeout(500)
            page.wait_for_selector(READY)
            page.screenshot(path=folder / f"{name}.png")
        browser.close()
        server.kill()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
