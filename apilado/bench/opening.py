"""How long it takes from the command to the first page, and to open the Shelf and a bench."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from apilado.actions.workspace import Workspace
from apilado.bench.figures import Figure
from apilado.demo.shelf import fill_if_empty

START_GOAL_MS = 2000.0
STARTS, PAGES = 3, 10
STACK = re.compile(rb"/stacks/(\d+)\"")


def opening(part: str) -> Iterator[Figure]:
    """Starts and pages, with the demo's stacks."""
    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder))
        fill_if_empty(workspace)
        workspace.close()
        starts, shelves, benches = [], [], []
        _opened(Path(folder))  # a first start compiles what Python has not compiled yet
        for _ in range(STARTS):
            started, more = _opened(Path(folder))
            starts.append(started)
            shelves += more[0]
            benches += more[1]
    yield Figure(part, "serve, to the first page", 1000.0 * float(np.median(starts)), START_GOAL_MS, unit="ms")
    yield Figure(part, "the Shelf again", 1000.0 * float(np.median(shelves)), unit="ms")
    yield Figure(part, "the page of a bench, before its drawings", 1000.0 * float(np.median(benches)), unit="ms")


def _opened(folder: Path) -> tuple[float, tuple[list[float], list[float]]]:
    """Seconds from the command to the first page; of the Shelf and of a bench, asked for again and again.

    What Python has compiled is kept in that folder, wherever else it may or may not be kept.
    """
    began = time.perf_counter()
    command = [sys.executable, "-m", "apilado", "serve", "--data", str(folder), "--port", "0"]
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    environment["PYTHONPYCACHEPREFIX"] = str(folder / "bytecode")
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=environment) as process:
        try:
            line = process.stdout.readline() if process.stdout else ""
            found = re.search(r"http://\S+", line)
            if found is None:
                raise RuntimeError(f"serve said '{line.strip()}' instead of its address")
            url = found[0].rstrip("/")
            page = _asked(url + "/")[1]
            started = time.perf_counter() - began
            stack = STACK.search(page)
            bench = f"{url}/stacks/{stack[1].decode()}" if stack else url
            return started, (
                [_asked(url + "/")[0] for _ in range(PAGES)],
                [_asked(bench)[0] for _ in range(PAGES)],
            )
        finally:
            process.terminate()


def _asked(url: str) -> tuple[float, bytes]:
    began = time.perf_counter()
    with urllib.request.urlopen(url, timeout=60) as answer:
        page: bytes = answer.read()
    return time.perf_counter() - began, page
