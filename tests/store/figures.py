"""python -m tests.store.figures [sounds|year]: how the store does with ten thousand sounds, and with a year of work."""

from __future__ import annotations

import resource
import sys
import tempfile
from pathlib import Path
from time import perf_counter

import numpy as np
from starlette.testclient import TestClient

from apilado.actions import stacks
from apilado.actions.workspace import DATABASE_NAME, Workspace
from apilado.core.document.edits_values import SetValue
from apilado.demo.shelf import fill_if_empty
from apilado.store import stacks as kept
from apilado.store.sounds import Filters
from apilado.store.tidying import tidy
from apilado.web.app import create_app

SOUNDS, SEARCHES = 10_000, 2_000
STACKS, EDITS, FEW = 50, 20_000, 10
WORDS = (
    "crane",
    "sluice",
    "ferry",
    "quay",
    "mast",
    "rope",
    "anchor",
    "tide",
    "hull",
    "lock",
    "gate",
    "bell",
    "buoy",
    "pier",
)


def rss_mib() -> float:
    """Memory of this process at its largest."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def told(what: str, values: list[float]) -> None:
    ordered = sorted(1000.0 * each for each in values)
    print(f"{what:44} median {ordered[len(ordered) // 2]:7.2f} ms, 95 % {ordered[int(0.95 * len(ordered))]:7.2f} ms")


def sounds(folder: Path) -> None:
    """Ten thousand entries: searches, pages, memory."""
    random = np.random.default_rng(1)
    workspace = Workspace(folder)
    fill_if_empty(workspace)
    with workspace.database.transaction() as connection:
        for number in range(SOUNDS):
            sha = f"{number:064x}"
            name = " ".join(random.choice(WORDS, 2)) + f" {number}"
            tags = " ".join(random.choice(WORDS, 2))
            connection.execute("INSERT INTO assets VALUES (?, 'wav', 'x.wav', 1000, '2031-05-01')", (sha,))
            connection.execute(
                "INSERT INTO sounds (asset, name, tags, tempo_bpm, seconds, channels, frequency_hz, loudness_lkfs, spectrum) "
                "VALUES (?, ?, ?, ?, ?, 2, ?, -20, ?)",
                (
                    sha,
                    name,
                    tags,
                    random.uniform(60, 180),
                    random.uniform(0.1, 20),
                    random.uniform(30, 500),
                    random.bytes(60),
                ),
            )
    queries = [" ".join(random.choice(WORDS, int(random.integers(1, 3)))) for _ in range(200)]

    def timed(act: object) -> float:
        begun = perf_counter()
        act()  # type: ignore[operator]
        return perf_counter() - begun

    told("search by words", [timed(lambda q=q: workspace.sounds.found(Filters(words=q))) for q in queries])
    told(
        "search by words, pitch, length and use",
        [
            timed(
                lambda q=q: workspace.sounds.found(
                    Filters(words=q, lowest_hz=40, highest_hz=90, longest_s=8, used="unused")
                )
            )
            for q in queries
        ],
    )
    told("the list without a word", [timed(lambda: workspace.sounds.found(Filters())) for _ in range(50)])
    client = TestClient(create_app(workspace), base_url="http://127.0.0.1:8765")
    told(
        "the page that a search answers with",
        [timed(lambda q=q: client.get("/quarry/list", params={"words": q})) for q in queries],
    )
    told("the whole page", [timed(lambda: client.get("/quarry")) for _ in range(20)])
    real = workspace.sounds.found(Filters(used="used")).entries
    before = rss_mib()
    for number in range(SEARCHES):
        client.get("/quarry/list", params={"words": queries[number % len(queries)]})
        client.get(f"/quarry/{real[number % len(real)].id}/sound")
    print(f"memory after {SEARCHES} searches and plays: {rss_mib():.0f} MiB, before {before:.0f} MiB")
    client.close()
    workspace.close()


def year(folder: Path) -> None:
    """Twenty thousand edits on fifty stacks: the size of the database, and how long opening takes."""
    random = np.random.default_rng(2)
    workspace = Workspace(folder)
    fill_if_empty(workspace)
    starts = [listed.id for listed in workspace.stacks.listed()]
    ids = [stacks.duplicate(workspace, starts[number % len(starts)]).stack_id for number in range(STACKS)]
    few = stacks.duplicate(workspace, starts[0]).stack_id
    begun = perf_counter()

    def edit(stack_id: int) -> None:
        stack = workspace.stacks.head(stack_id).stack
        layer = stack.layers[int(random.integers(len(stack.layers)))].id
        path, value = (
            (f"layers/{layer}/level_db", round(float(random.uniform(-24, 0)), 1)),
            (f"layers/{layer}/width", round(float(random.uniform(0, 2)), 2)),
            ("tempo_bpm", round(float(random.uniform(80, 180)), 1)),
            (f"layers/{layer}/pan", round(float(random.uniform(-1, 1)), 2)),
        )[int(random.integers(4))]
        stacks.edit(workspace, stack_id, SetValue(path=path, value=value))

    for _ in range(FEW):
        edit(few)
    for number in range(EDITS):
        edit(ids[number % STACKS] if number % 3 else ids[0])
    print(f"{EDITS} edits on {STACKS} stacks: {1000.0 * (perf_counter() - begun) / EDITS:.2f} ms each")

    def opened(stack_id: int) -> list[float]:
        found = []
        for _ in range(200):
            kept.READINGS = kept.Readings(kept.PARSED_KEPT)  # nothing is known of it
            at = perf_counter()
            workspace.stacks.head(stack_id)
            found.append(perf_counter() - at)
        return found

    told(f"opening a stack with {FEW} edits", opened(few))
    told("opening the one with the most", opened(ids[0]))
    workspace.close()
    print(f"database: {(folder / DATABASE_NAME).stat().st_size / 2**20:.1f} MiB")
    workspace = Workspace(folder)
    begun = perf_counter()
    with workspace.database.transaction() as connection:
        connection.execute(
            "UPDATE revisions SET at = strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-' || (200 - id / 120) || ' days')"
        )
    print(f"tidied: {tidy(workspace.database, 90).in_words()}, {perf_counter() - begun:.1f} s")
    workspace.close()
    print(f"database: {(folder / DATABASE_NAME).stat().st_size / 2**20:.1f} MiB")


def main() -> None:
    """Both, or one of them."""
    for name, part in (("sounds", sounds), ("year", year)):
        if len(sys.argv) < 2 or name in sys.argv[1:]:
            with tempfile.TemporaryDirectory() as folder:
                part(Path(folder) / "data")


if __name__ == "__main__":
    main()
