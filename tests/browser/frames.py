"""python -m tests.browser.frames [BARS]: what a page of twelve layers costs while it plays with everything shown.

Time of the page's own work per frame, tasks over 50 ms, and the memory of the page's process, in headless Chromium.
"""

from __future__ import annotations

import json
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import sync_playwright

from tests.browser.page import FLAGS
from tests.server import Server

LAYERS = 12
COUNT = """
window.frames = [];
window.tasks = [];
new PerformanceObserver((list) => tasks.push(...list.getEntries().map(({ duration }) => duration))).observe({ type: "longtask" });
const ask = window.requestAnimationFrame.bind(window);
window.requestAnimationFrame = (work) => ask((time) => {
  const begun = performance.now();
  work(time);
  frames.push(performance.now() - begun);
});
"""


def memory_mb(name: str) -> float:
    """The largest resident memory of a process that has a word in its command line."""
    most = 0.0
    for process in Path("/proc").glob("[0-9]*"):
        try:
            if name in (process / "cmdline").read_text():
                pages = int((process / "statm").read_text().split()[1]) - int(
                    (process / "statm").read_text().split()[2]
                )
                most = max(most, pages * 4096 / 2**20)
        except OSError:
            continue
    return most


def main(bars: int) -> None:
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        server = Server(Path(folder))
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        try:
            stack = 1
            while server.stack(stack)["name"] != "Slipway":
                stack += 1
            copies = [{"op": "add-layer", "copy_of": "mid"} for _ in range(LAYERS - 3)]
            for edit in (*copies, {"op": "set-bars", "bars": bars}):
                server.ask(f"/stacks/{stack}/edits", {"edit": edit, "base": 0, "view": {}})
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.set_default_timeout(240_000)
            page.add_init_script(COUNT)
            page.goto(f"{server.url}/stacks/{stack}")
            page.wait_for_selector("#soundings:not(.is-stale) .soundings-head", state="attached")
            empty = memory_mb("--type=renderer")
            page.click("#play")
            page.wait_for_selector(".row-now.has-now", state="attached")
            page.hover("#layers .row-name >> nth=2")
            page.wait_for_timeout(4000)
            page.evaluate("frames.length = tasks.length = 0")
            page.wait_for_timeout(10_000)
            frames, tasks = page.evaluate("frames"), page.evaluate("tasks")
            frames.sort()
            page.context.new_cdp_session(page).send("HeapProfiler.collectGarbage")
            page.wait_for_timeout(2000)
            told = {
                "layers": len(json.loads(server.ask(f"/stacks/{stack}/export/json"))["layers"]),
                "bars": bars,
                "frames": len(frames),
                "median ms": round(statistics.median(frames), 2),
                "95 % ms": round(frames[int(0.95 * len(frames))], 2),
                "tasks over 50 ms": [round(task) for task in tasks],
                "memory before playing, MB": round(empty),
                "memory while playing, MB": round(memory_mb("--type=renderer")),
            }
            print(json.dumps(told, indent=1))
        finally:
            browser.close()
            server.kill()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 4)
