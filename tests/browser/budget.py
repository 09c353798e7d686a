"""python -m tests.browser.budget [EDITS [STACKS]]: how soon an edit is heard in the browser, on light and heavy stacks.

For each kind of edit the medians of what the page's own log holds, in milliseconds from the release of the pointer: the
edit posted, its stretch rendered, its stretch with the courier, taken by the audio thread, and its whole loop taken. The
output's own delay is told apart. A shared machine gives its cores to others now and then: how much of them it took
meanwhile is told as "stolen", in percent, and when the edits were heard beside which it took none.
"""

import shutil
import statistics
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

from playwright.sync_api import Page, Position, sync_playwright

from apilado.bench.reference import heavy_stack, layered_stack
from apilado.core.document.edits import apply
from apilado.core.document.edits_pattern import SetBars
from apilado.core.document.movement import Movement, Target
from apilado.core.document.reading import stack_to_json
from apilado.core.document.stack import Stack
from apilado.demo.stacks import slipway
from tests.browser.page import FLAGS
from tests.server import Server

LOG = """
window.log = [];
const now = () => performance.timeOrigin + performance.now();
document.addEventListener("pointerup", () => log.push({ kind: "released", at: now() }), true);
document.addEventListener("apilado:budget", ({ detail }) => log.push({ kind: "budget", ...detail }));
document.addEventListener("apilado:sounding", ({ detail }) =>
  log.push({ ...detail, at: performance.timeOrigin + detail.at - detail.delay, delay: detail.delay }));
"""
QUIET = "#bench[aria-busy=false] #soundings:not(.is-stale)"
LONG_MS = 240_000
SWAY = "sway"
PROCESSOR, STOLEN = Path("/proc/stat"), 7
"""Where the system tells how its processors have passed their time, and which of the numbers is what others took."""
UNDISTURBED = 1.0
"""Percent of the processors' time that may be stolen."""
MOST_POLLS = 160
"""After so many looks at the log there was nothing to be changed: a slider stood there already."""


def swaying(stack: Stack, step: str) -> Stack:
    """The stack with a movement of the width of the layer that a step is in."""
    target = Target(id="width", path=f"{step.partition('/path/')[0]}/width", travel=0.5)
    return stack.model_copy(update={"movements": (*stack.movements, Movement(id=SWAY, name=SWAY, targets=(target,)))})


def pulled(page: Page, selector: str, dx: float, dy: float, at_x: float | None = None) -> None:
    box = page.locator(selector).first.bounding_box()
    x, y = box["x"] + (box["width"] / 2 if at_x is None else at_x), box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + dx, y + dy, steps=2)
    page.mouse.up()


def opened(page: Page, line: str) -> None:
    """Opens a line of the path, if it is shut: a point that was pulled has opened its own."""
    name = page.locator(f"#sheet [data-open='{line}'].line-name")
    if name.get_attribute("aria-expanded") == "false":
        name.click()
    page.wait_for_selector(f"#sheet .line.is-open[data-line='{line}']")


def kinds(page: Page, layer: str, drive: str):
    """By its name, what makes the n-th edit of each kind: but for a mute, none comes back to what has been rendered."""
    slider = f"#sheet input[type=range][data-path='{drive}']"

    def by(n: int) -> float:
        """To and fro, each time further."""
        return (6.0 + 0.37 * n) * (1 if n % 2 else -1)

    def at(n: int) -> Position:
        return {"x": 14 + n * 11 % 31, "y": 8}

    return {
        "EQ": lambda n: pulled(page, "#profile .eq-point .grip-area", by(n), 0),
        "crossover": lambda n: pulled(page, "#passage .border .grip", 0, by(n), 200),
        "level": lambda n: page.locator(f"#layers [data-select='{layer}'] input[type=range]").click(position=at(n)),
        "mute": lambda n: page.click(f"#layers [data-select='{layer}'] [data-toggle]"),
        "drive": lambda n: (
            opened(page, drive.rpartition("/")[0]),
            page.locator(slider).first.click(position=at(n)),
        ),
        "movement": lambda n: (
            opened(page, f"movements/{SWAY}"),
            page.locator(f"#sheet input[type=range][data-path='movements/{SWAY}/length_beats']").first.click(
                position=at(n)
            ),
        ),
        "a moved note": lambda n: pulled(
            page, f"#passage .note .note-bar >> nth={n % 12}", 0, -7 if n // 12 % 2 else 7
        ),
    }


def passed() -> list[int]:
    """How the processors have passed their time, all zero where the system does not tell."""
    return [int(n) for n in PROCESSOR.read_text().split("\n")[0].split()[1:9]] if PROCESSOR.exists() else [0] * 8


def stolen(before: list[int], after: list[int]) -> float:
    """Percent of the processors' time that others took meanwhile."""
    spent = [b - a for a, b in zip(before, after, strict=True)]
    return 100.0 * spent[STOLEN] / max(sum(spent), 1)


def measured(page: Page, act, number: int) -> dict[str, float] | None:
    page.wait_for_selector(QUIET, state="attached", timeout=LONG_MS)
    page.wait_for_timeout(300)
    page.evaluate("log.length = 0")
    before = passed()
    act(number)
    for _ in range(MOST_POLLS):
        page.wait_for_timeout(50)
        log = page.evaluate("log")
        released = next((each["at"] for each in reversed(log) if each["kind"] == "released"), None)
        loop = next((each for each in log if each["kind"] == "loop" and released and each["at"] > released), None)
        if loop is None:
            continue
        told = [each for each in log if each["kind"] == "budget"]
        stretch = [each for each in log if each["kind"] == "stretch"]
        # Of the last edit: further stretches of it may have followed.
        own = [each for each in stretch if told and each["edition"] == told[-1]["edition"]]
        first = own[0]["at"] if own else loop["at"]
        return {
            "posted": told[-1]["posted"] - released if told else 0.0,
            "rendered": told[-1]["rendered"] if told else 0.0,
            "with the courier": told[-1]["sent"] - released if told else 0.0,
            "heard": first - released,
            "loop": loop["at"] - released,
            "delay": loop["delay"],
            "stretches": float(bool(stretch)),
            "stolen": stolen(before, passed()),
        }
    return None


STACKS = {
    "slipway": (lambda bars: slipway().stack, "layer:mid", "layers/mid/path/clip"),
    "layered": (layered_stack, "layer:layer-2", "layers/layer-2/path/clip"),
    "heavy": (heavy_stack, "layer:layer-2", "layers/layer-2/path/clip"),
}
"""How each is made, the layer that is chosen, and the drive in it."""


def main(edits: int, names: Sequence[str]) -> None:
    with tempfile.TemporaryDirectory() as data, sync_playwright() as playwright:
        server = Server(Path(data))
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        try:
            for bars in (4, 16):
                for name in names or STACKS:
                    make, layer, step = STACKS[name]
                    stack = swaying(apply(make(bars), SetBars(bars=bars)), step).model_copy(
                        update={"name": f"{name} {bars}"}
                    )
                    page = browser.new_page(viewport={"width": 1280, "height": 800})
                    page.add_init_script(LOG)
                    content = {
                        "name": "stack.json",
                        "mimeType": "application/json",
                        "buffer": stack_to_json(stack).encode(),
                    }
                    page.request.post(f"{server.url}/import", multipart={"file": content})
                    pieces = server.ask("/").decode().split('id="stack-')[1:]
                    number = next(each.split('"')[0] for each in pieces if f'card-name">{name} {bars}<' in each)
                    page.goto(f"{server.url}/stacks/{number}")
                    page.wait_for_selector(QUIET, state="attached", timeout=LONG_MS)
                    page.click(f"#layers [data-select='{layer}'] .row-name")
                    page.click(f"#sheet [data-open='{step}'].line-name")
                    page.wait_for_selector(
                        "[data-mode=curve][aria-pressed=true]"
                    )  # a drive that is opened shows its curve
                    page.click("[data-mode=eq]")
                    page.wait_for_selector("#profile .eq-point", state="attached")
                    page.click("#play")
                    print(f"{name}, {bars} bars", flush=True)
                    for kind, act in kinds(page, layer, f"{step}/drive_db").items():
                        rows = [row for row in (measured(page, act, number) for number in range(edits)) if row]
                        middle = (
                            {name: statistics.median(row[name] for row in rows) for name in rows[0]} if rows else {}
                        )
                        calm = [row["heard"] for row in rows if row["stolen"] <= UNDISTURBED]
                        told = f"  undisturbed {len(calm)} of {len(rows)}"
                        told += f": heard {statistics.median(calm):.0f}" if calm else ""
                        print(f"  {kind:<13}" + "  ".join(f"{k} {v:.0f}" for k, v in middle.items()) + told, flush=True)
                    page.close()
        finally:
            browser.close()
            server.kill()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 30, sys.argv[2:])
