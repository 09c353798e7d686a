"""Puts the demo on an empty shelf."""

from __future__ import annotations

from apilado.actions.stacks import add_bundle
from apilado.actions.workspace import Workspace
from apilado.demo.starts import demo_bundles


def fill_if_empty(workspace: Workspace) -> None:
    """Adds the demo stacks where there are none; what is on the shelf is left alone."""
    if not workspace.stacks.listed():
        for bundle in reversed(demo_bundles()):
            add_bundle(workspace, bundle)
