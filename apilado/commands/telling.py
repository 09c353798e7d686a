"""Commands that tell something, or get something ready: schema, steps, prepare, bench."""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
from pathlib import Path


def steps(given: argparse.Namespace) -> int:
    """Lists every step of a path."""
    from apilado.core.document.steps_told import steps_told

    print(steps_told(), end="")
    return 0


def schema(given: argparse.Namespace) -> int:
    """Prints the JSON Schema of a stack."""
    from apilado.core.document.reading import schema as described

    print(json.dumps(described(), indent=1))
    return 0


def forget_kernels(folder: Path) -> int:
    """Removes what was compiled before; gives how many files that were.

    Numba looks only at the file of a kernel itself: one that takes in a kernel of another file, which has changed
    since, would go on as it was.
    """
    there = [*folder.rglob("*.nbi"), *folder.rglob("*.nbc")]
    for compiled in there:
        compiled.unlink(missing_ok=True)
    return len(there)


def prepare(given: argparse.Namespace) -> int:
    """Compiles the kernels, all of them anew."""
    import apilado
    from apilado.actions.warming import warm
    from apilado.actions.workspace import Workspace
    from apilado.demo.shelf import fill_if_empty

    forget_kernels(Path(apilado.__file__).parent)
    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder))
        fill_if_empty(workspace)
        warm(workspace)
        workspace.close()
    return 0


def bench(given: argparse.Namespace) -> int:
    """Measures speed as ratios within one run."""
    from apilado.bench.report import run

    return run(sys.stdout, given.words, as_json=given.json)
