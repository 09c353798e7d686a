"""Use cases of whole stacks and of edits."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from apilado import __version__
from apilado.actions.freezing import thaw_changed
from apilado.actions.workspace import Workspace
from apilado.core.document.cast import Cast
from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.document.reading import stack_from_json
from apilado.core.document.stack import Stack
from apilado.core.formats.bundles import Bundle, assets_needed, read_bundle
from apilado.core.identity import ByIdentity
from apilado.core.soundings.measures import Measures, measure
from apilado.core.soundings.registry import sound
from apilado.core.soundings.sounding import Sounding
from apilado.errors import InvalidEdit, UnreadableFile
from apilado.store.sounds import Origin, name_of
from apilado.store.stacks import Revision, Step

MOST_ATTEMPTS = 20
MOST_DRAGS = 4
"""How many drags of different pages can be under way at once and stay one step each."""


_ASSETS = ByIdentity(16)
"""The hashes of what stacks need: what one edit leaves is what the next begins with."""


@dataclass(frozen=True)
class Edited:
    """An edit that was done."""

    revision: Revision
    before: Stack
    rebased: bool
    """Whether another edit had come in between; this one was done on top of it."""
    thawed: tuple[str, ...] = ()
    """The names of the layers that are no longer frozen, since what they are made of was changed."""


def edit(
    workspace: Workspace,
    stack_id: int,
    change: Edit,
    *,
    base: int | None = None,
    gesture: str | None = None,
    client: str | None = None,
    foreseen: Callable[[Stack], None] | None = None,
) -> Edited:
    """Does an edit on the stack as it is now.

    Args:
        base: the revision that the editor was looking at, if any.
        gesture: edits of one gesture are one step of undo.
        client: the page that asks for it.
        foreseen: told the document as soon as the edit is known to fit, before the disk has it; once more where another
            edit came in between.

    Raises:
        InvalidEdit: it does not fit the stack any more, or would make it invalid; nothing is changed.
    """
    for _ in range(MOST_ATTEMPTS):
        head = workspace.stacks.head(stack_id)
        try:
            changed = apply(head.stack, change)
        except InvalidEdit as error:
            if base is not None and base != head.id:
                raise InvalidEdit(f"{error} (the stack was changed in another tab meanwhile)") from None
            raise
        _check_assets(workspace, head.stack, changed)
        title = change.title(head.stack, changed)
        changed, names = thaw_changed(changed, workspace.load)
        if foreseen is not None:
            foreseen(changed)
        new = Step(changed, title, gesture, client)
        going_on = _going_on(workspace, head, change, new) if gesture else []
        steps = going_on or [new]
        done = workspace.stacks.append(stack_id, head.id, *steps, instead_of=len(going_on))
        if done is not None:
            return Edited(done, head.stack, rebased=base is not None and base != head.id, thawed=names)
    raise InvalidEdit("not changed: the stack is being edited too fast elsewhere")


def _going_on(workspace: Workspace, head: Revision, change: Edit, new: Step) -> list[Step]:
    """The last steps with the edit of a drag that goes on done in each, from the drag's own to the last.

    Another page may have begun a drag of its own meanwhile: each stays one step. Empty if the drag is not among the
    last steps, or its edit does not fit one of them: it then begins a step of its own.
    """
    steps = workspace.stacks.under_way(head, new.gesture or "", MOST_DRAGS)
    try:
        changed = [replace(step, stack=apply(step.stack, change)) for step in steps[:-1]]
    except InvalidEdit:
        return []
    if not steps:
        return []
    if not changed:
        return [new]
    return [replace(changed[0], title=new.title), *changed[1:], replace(steps[-1], stack=new.stack)]


def _check_assets(workspace: Workspace, before: Stack, after: Stack) -> None:
    """Refuses a change that names audio which is not there."""
    needed, there = (_ASSETS.get(stack.asset_hashes, stack) for stack in (after, before))
    for sha in set(needed) - set(there):
        if not workspace.assets.holds(sha):
            raise InvalidEdit(f"not changed: there is no audio {sha[:12]}… here; bring its file first")


def duplicate(workspace: Workspace, stack_id: int) -> Revision:
    """A copy of a stack as it is now and of its casts, with a history of its own."""
    stack = workspace.stacks.head(stack_id).stack
    copied = stack.model_copy(update={"name": f"{stack.name[:75]} copy"})
    return _created(workspace, copied, "Duplicate", workspace.casts.all_of(stack_id))


def import_stack(workspace: Workspace, content: bytes, file_name: str) -> Revision:
    """A stack from a bundle or a stack JSON.

    Raises:
        UnreadableFile: it is neither, or lacks an asset.
        InvalidDocument: its stack is not valid.
    """
    if content[:4] == b"PK\x03\x04" or file_name.lower().endswith((".apilado", ".zip")):
        return add_bundle(workspace, read_bundle(content, file_name))
    if not file_name.lower().endswith(".json"):
        raise UnreadableFile(f"'{file_name}' is neither a bundle (.apilado) nor a stack (.json)")
    stack = stack_from_json(content)
    for sha in stack.asset_hashes():
        if not workspace.assets.holds(sha):
            raise UnreadableFile(f"'{file_name}' needs audio that is not here: {sha[:12]}…; import it as a bundle")
    return workspace.stacks.create(stack, "Import")


def add_bundle(workspace: Workspace, bundle: Bundle) -> Revision:
    """Keeps a bundle's assets, then its stack and its casts."""
    names = file_names_in(bundle.stack.model_dump(mode="json"))
    for asset in bundle.assets:
        name = Origin(name=name_of(names.get(asset.sha256, "")) if asset.sha256 in names else asset.sha256[:12])
        workspace.assets.add(asset.content, f"{asset.sha256[:12]}.{asset.extension}", name)
    return _created(workspace, bundle.stack, "Import", bundle.casts)


def file_names_in(data: Any) -> dict[str, str]:
    """How the files of assets were called when they were brought, by the assets' SHA-256, from a document."""
    if isinstance(data, list):
        return {sha: name for each in data for sha, name in file_names_in(each).items()}
    if not isinstance(data, dict):
        return {}
    found = file_names_in(list(data.values()))
    if data.get("asset") and data.get("file_name"):
        found[str(data["asset"])] = str(data["file_name"])
    return found


def _created(workspace: Workspace, stack: Stack, title: str, casts: tuple[Cast, ...]) -> Revision:
    revision = workspace.stacks.create(stack, title)
    workspace.casts.keep(revision.stack_id, revision.id, *casts)
    return revision


def bundle_of(workspace: Workspace, stack: Stack, casts: tuple[Cast, ...] = ()) -> Bundle:
    """The stack with its casts and all their assets."""
    needed = assets_needed(stack, casts)
    return Bundle(stack, tuple(workspace.assets.get(sha) for sha in needed), casts)


@dataclass(frozen=True)
class Summary:
    """What the shelf shows of a stack."""

    faults: int
    looks: int
    widths: dict[str, list[float]]
    """Measured width per third-octave by layer."""


def summary(workspace: Workspace, revision: int, stack: Stack) -> Summary:
    """The counts and the shape of a stack; measured once for each revision."""
    kept = workspace.stacks.check(revision, __version__)
    if kept is not None:
        return Summary(kept[0], kept[1], json.loads(kept[2]))
    measures = measure(stack, workspace.load, workspace.engine)
    return keep_summary(workspace, revision, measures, sound(measures))


def keep_summary(workspace: Workspace, revision: int, measures: Measures, soundings: list[Sounding]) -> Summary:
    """Keeps what was found in a revision for the shelf."""
    found: dict[str, Any] = {status: sum(s.status == status for s in soundings) for status in ("fault", "look")}
    widths = {name: stem.widths_told() for name, stem in measures.stems.items()}
    workspace.stacks.keep_check(revision, __version__, found["fault"], found["look"], json.dumps(widths))
    return Summary(found["fault"], found["look"], widths)
