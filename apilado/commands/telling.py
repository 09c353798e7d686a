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


def prepare(given: argparse.Namespace) -> int:
    """Compiles the kernels."""
    from apilado.actions.warming import warm
    from apilado.actions.workspace import Workspace
    from apilado.demo.shelf import fill_if_empty

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
