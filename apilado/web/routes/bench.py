"""The bench: one stack, its edits, and the fragments around its drawings."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from itertools import chain
from threading import Event
from types import MappingProxyType
from typing import Any, Literal

from fastapi import APIRouter, Depends, Request
from fastapi.responses import HTMLResponse, StreamingResponse
from pydantic import Field

from apilado.actions import stacks
from apilado.actions.freezing import thawed_in_words
from apilado.actions.hearing import Foreheard, Heard, hear_stretch
from apilado.actions.stacks import Edited
from apilado.actions.workspace import Workspace
from apilado.core.document.addresses import addresses_in, parts_of
from apilado.core.document.editing import Edit
from apilado.core.document.edits import InSection, edit_from_data
from apilado.core.document.edits_sections import bars_in_words
from apilado.core.document.forms import as_shown
from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.parameters import Model, parameters_of
from apilado.core.render.audition import Audition
from apilado.core.render.elsewhere import PLACES
from apilado.core.render.engine import Rank, Token
from apilado.core.soundings.alignment import advise, change_in_words
from apilado.core.soundings.make_room import MOST_PROPOSALS, all_of, make_room
from apilado.core.soundings.measures import Measures, measure
from apilado.core.soundings.registry import RULES, sound
from apilado.core.soundings.sounding import Sounding
from apilado.errors import Overtaken
from apilado.store.stacks import Revision, Stepped
from apilado.web.changes import changed_values, same_shape
from apilado.web.drawings.measured import measured
from apilado.web.drawings.plan import plan
from apilado.web.drawings.plumb_view import pair_views
from apilado.web.drawings.room_view import room_view
from apilado.web.drawings.view import View
from apilado.web.items import item_after, moved_by
from apilado.web.layer_rows import facts, layer_rows, states, texts
from apilado.web.measured_sheets import MEASURED_SHEETS
from apilado.web.pages import page, sketch_points
from apilado.web.path_levels import moving_shares, path_levels
from apilado.web.routes.common import audition_of, workspace_of
from apilado.web.routes.heavy import heavy
from apilado.web.routes.sound import OWN, PARTS, Playhead, answer_part, stretch_parts
from apilado.web.sheets.base import AUDIO_ACCEPT
from apilado.web.sheets.movements import marks_of, owner_of_selection
from apilado.web.sheets.reach import Reach
from apilado.web.sheets.sections import otherwise
from apilado.web.sheets.sheet import ALL_LINES, TABS, lines_in, opened_at_first, paths_of, sheet_sections, tab_of

router = APIRouter(prefix="/stacks/{stack_id}")
SILENT_DB = -100.0
MOST_ASKED = 12
BEHIND = ("remedy", "mending")
"""What is tried behind what is heard."""
PITCHES = next(f"{p.low:.0f} {p.high:.0f}" for p in parameters_of(Note) if p.name == "pitch")
RULE_LIMITS = MappingProxyType({rule.id: rule.limits for rule in RULES})


class EditRequest(Model):
    """An edit as a page posts it."""

    edit: dict[str, Any]
    base: int
    gesture: str | None = Field(default=None, max_length=80)
    client: str = Field(default="", max_length=80)
    final: bool = True
    """Whether the hand has let go: what is still being rendered of the way there is then of no use."""
    whole: bool = False
    """Whether it is made in the whole piece, also where a section is chosen."""
    view: View
    hears: Playhead | None = None
    """Where the page is playing, if it is: then it first gets a stretch of what the edit sounds like there."""


class StepRequest(Model):
    """Undo, redo, or the stack as it is."""

    client: str = Field(default="", max_length=80)
    view: View


class DrawingsRequest(Model):
    """Which page asks for measured drawings."""

    client: str = Field(max_length=80)
    view: View


@router.get("")
def bench(request: Request, stack_id: int) -> HTMLResponse:
    """The page."""
    head = workspace_of(request).stacks.head(stack_id)
    shown = {"facts": facts, "audio_accept": AUDIO_ACCEPT, "places": PLACES}
    return HTMLResponse(
        page(
            request,
            "bench.html",
            pitches=PITCHES,
            head=head,
            stack=head.stack,
            **shown,
        )
    )


def answer(
    workspace: Workspace,
    revision: Revision,
    view: View,
    before: Stack | None,
    notice: str | None = None,
    *,
    drawn: bool = True,
) -> dict[str, Any]:
    """What a page needs after a change."""
    same = before is not None and same_shape(before, revision.stack)
    there = as_shown(revision.stack, view.section)
    chosen = next((each for each in revision.stack.sections if each.id == view.section), None)
    return {
        "revision": revision.id,
        "plan": plan(there, view, workspace.assets.seconds_of, workspace.load) if drawn else None,
        "values": changed_values(as_shown(before, view.section), there) if before is not None and same else {},
        "section": {"name": chosen.name, "bars": bars_in_words(chosen)} if chosen is not None else None,
        "texts": texts(there),
        "states": states(there, view),
        "gone": view.gone(revision.stack),
        "controls": not same,
        "borders": before is not None and before.crossovers != revision.stack.crossovers,
        "undo": revision.undo_title,
        "redo": revision.redo_title,
        "notice": notice,
        "beats": revision.stack.beats,
        "beats_per_bar": revision.stack.beats_per_bar,
        "tempo_bpm": revision.stack.tempo_bpm,
        "sample_rate": revision.stack.sample_rate,
    }


@router.post("/edits")
def edits(request: Request, stack_id: int, posted: EditRequest) -> Any:
    """Does an edit; a stale base is told, not refused, as long as the edit still fits.

    A page that is playing gets its answer in parts: a stretch of what it sounds like now, then what is drawn.
    """
    workspace = workspace_of(request)
    for purpose in BEHIND:
        workspace.overtake(purpose, stack_id)  # before the edit: it is to be heard as quickly as without them
    edit = edit_from_data(posted.edit)
    coming = workspace.comes(stack_id, posted.client)
    # Where its hand was on the way is heard no more; while it moves, what is heard stays until the edit is done.
    token = workspace.newest("stretch", stack_id, posted.client) if posted.final else None
    section = posted.view.section
    inside = edit.goes_into(section) and not posted.whole
    change = InSection(section=section, edit=edit) if inside else edit
    soon = Foreheard(workspace, partial(_heard_of, workspace, stack_id, posted, token))
    given: dict[str, Any] = {"base": posted.base, "gesture": posted.gesture, "client": posted.client}
    with workspace.engine.going_first(Rank.SOON if posted.hears else Rank.USUAL):
        done = stacks.edit(workspace, stack_id, change, **given, foreseen=soon.begin if posted.hears else None)
    for purpose in ("drawings", "plumb", "room", "elsewhere", "now"):
        workspace.overtake(purpose, stack_id)
    if posted.final:
        workspace.overtake(f"loop {OWN}", stack_id)
    moved = moved_by(edit, as_shown(done.before, section))
    if posted.hears is None:
        coming.set()
        return {**edited(workspace, posted, edit, change, done), "moved": moved}
    told = answer_part({"kept": done.revision.id, "moved": moved})
    return StreamingResponse(
        chain([told], _heard_first(workspace, stack_id, posted, edit, change, done, soon, coming)), media_type=PARTS
    )


def _heard_of(
    workspace: Workspace, stack_id: int, posted: EditRequest, token: Token | None, stack: Stack
) -> Iterator[Heard]:
    """What is heard of an edit: where the hand has let go, in pieces if that is sooner."""
    hears = posted.hears
    if hears is None:
        return iter(())
    token = token or workspace.newest("stretch", stack_id, posted.client)
    workspace.overtake("further", stack_id, posted.client)
    given: dict[str, Any] = {"came": hears.came, "in_pieces": posted.final}
    return hear_stretch(workspace, stack_id, stack, hears.place, hears.length, token, posted.view, **given)


def _heard_first(
    workspace: Workspace,
    stack_id: int,
    posted: EditRequest,
    edit: Edit,
    change: Edit,
    done: Edited,
    soon: Foreheard,
    coming: Event,
) -> Iterator[bytes]:
    """A stretch of the sound of an edit that is kept (the ear comes first), then the answer to it.

    Where it has been overtaken, its answer comes behind the sound of the newest.
    """
    overtaken = False
    try:
        yield from stretch_parts(soon.pieces(), done.revision.id, soon.began)
    except Overtaken:
        overtaken = True
    coming.set()
    if overtaken:
        workspace.let_by(stack_id, posted.client)
    with workspace.engine.going_first(Rank.SOON):
        told = edited(workspace, posted, edit, change, done, drawn=not overtaken)
    yield answer_part({"answer": told})


def edited(
    workspace: Workspace, posted: EditRequest, edit: Edit, change: Edit, done: Edited, *, drawn: bool = True
) -> dict[str, Any]:
    """What a page needs after its edit.

    Args:
        change: the edit as it was made, in a section or not.
        drawn: with the plan of it; not where the page has made another edit since.
    """
    section = posted.view.section
    notice = change.remark(done.before, done.revision.stack) if posted.final else None
    notice = " ".join(each for each in (notice, thawed_in_words(done.thawed)) if each) or None
    if done.rebased:
        notice = "This stack was changed in another tab. Your change was done on top of that one."
    told = answer(workspace, done.revision, posted.view, None if done.rebased else done.before, notice, drawn=drawn)
    told["controls"] = told["controls"] or bool(done.thawed)
    made = part_made(done.before, done.revision.stack) if told["controls"] else None
    select = part_added(done.before, done.revision.stack)
    item = item_after(edit, as_shown(done.before, section))
    return {**told, "item": item, "select": select, "made": made}


def part_made(before: Stack, after: Stack) -> str | None:
    """The address of the part that an edit added to a list, such as a step; the outermost of several."""
    known = set(addresses_in(before))
    made = [each for each in addresses_in(after) if each not in known]
    return min(made, key=lambda each: (len(parts_of(each)), each), default=None)


SELECTED = MappingProxyType(
    {"layer": "layers", "duck": "duckers", "trigger": "triggers", "section": "sections", "backing": "backing"}
)
"""The lists whose members are selected by their ids."""


def part_added(before: Stack, after: Stack) -> str | None:
    """The selection of a layer, a duck, a trigger, a section or a backing track that an edit added."""
    for kind, name in SELECTED.items():
        known = {part.id for part in getattr(before, name)}
        for part in getattr(after, name):
            if part.id not in known:
                return f"{kind}:{part.id}"
    return None


def of_another_page(stepped: Stepped, client: str, done: str) -> str | None:
    """A word where undo or redo reached something that this page had not done."""
    if stepped.title is None or not client or stepped.client in (None, client):
        return None
    return f"{done} ‘{stepped.title}’, which was done in another tab."


@router.post("/undo")
def undo(request: Request, stack_id: int, posted: StepRequest) -> dict[str, Any]:
    """Back by one step."""
    stepped = workspace_of(request).stacks.undo(stack_id)
    return answer(
        workspace_of(request), stepped.revision, posted.view, None, of_another_page(stepped, posted.client, "Took back")
    )


@router.post("/redo")
def redo(request: Request, stack_id: int, posted: StepRequest) -> dict[str, Any]:
    """Forward by one step."""
    stepped = workspace_of(request).stacks.redo(stack_id)
    return answer(
        workspace_of(request), stepped.revision, posted.view, None, of_another_page(stepped, posted.client, "Did again")
    )


@router.post("/plan")
def plan_now(request: Request, stack_id: int, posted: StepRequest) -> dict[str, Any]:
    """The stack as it is now: after a change of selection or size, or in another tab."""
    workspace = workspace_of(request)
    return answer(workspace, workspace.stacks.head(stack_id), posted.view, None)


@router.get("/revision")
def revision(request: Request, stack_id: int) -> dict[str, int]:
    """Which revision the stack is at."""
    return {"revision": workspace_of(request).stacks.head_id(stack_id)}


def meter(measures: Measures) -> str:
    """Loudness and true peak, as the bar shows them."""
    if measures.output_loudness.true_peak_dbtp < SILENT_DB:
        return "silent"
    loudness = measures.output_loudness
    return f"{loudness.integrated_lkfs:.1f} LUFS  {loudness.true_peak_dbtp:+.1f} dBTP".replace("-", "−")


def chosen_first(found: Sequence[Sounding], view: View) -> list[Sounding]:
    """Findings in their order, those of the chosen layer before others of their class."""
    kind, _, name = view.selected.partition(":")
    return sorted(found, key=lambda each: not (kind == "layer" and name in each.show.layers))


@router.post("/drawings")
@heavy
def drawings(request: Request, stack_id: int, posted: DrawingsRequest) -> dict[str, Any]:
    """What was measured, drawn; and the soundings."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    token = workspace.newest("drawings", stack_id, posted.client)
    measures = measure(head.stack, workspace.load, workspace.engine, token)
    found = sound(measures)
    stacks.keep_summary(workspace, head.id, measures, found)
    there = as_shown(head.stack, posted.view.section)
    owner = owner_of_selection(head.stack, posted.view.selected)
    shown = {"soundings": chosen_first(found, posted.view), "stack": head.stack, "rules": RULE_LIMITS}
    told, drawn = path_levels(measures, owner) if owner else ({}, {})
    for line in lines_in(sheet_sections(there, posted.view.selected)[1]) if owner else ():
        told[f"words {line.address}"] = line.words
        if line.sketch is not None:
            drawn.setdefault(line.address, {})["sketch"] = sketch_points(line.sketch)
    return {
        "texts": told,
        "path": drawn,
        "moving": moving_shares(Reach(head.stack, workspace.assets.seconds_of), measures, owner) if owner else {},
        "revision": head.id,
        "measured": measured(measures, posted.view),
        "soundings": page(request, "_partials/soundings.html", **shown),
        "meter": meter(measures),
    }


@router.get("/plumb")
@heavy
def plumb(request: Request, stack_id: int, goal: Literal["worst", "mean"] = "worst", client: str = "") -> HTMLResponse:
    """The view of Plumb: how neighbours meet, and what would let them add up best."""
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    token = workspace.newest("plumb", stack_id, client[:80])
    measures = measure(stack, workspace.load, workspace.engine, token)
    advice = advise(measures, goal, token.check)
    changes = [change_in_words(stack, edit) for edit in advice.edit.edits] if advice.edit else []
    pairs = pair_views(measures, advice)
    return HTMLResponse(page(request, "_partials/plumb.html", advice=advice, pairs=pairs, changes=changes))


@router.get("/room")
@heavy
def room(request: Request, stack_id: int, most: int = MOST_PROPOSALS, client: str = "") -> HTMLResponse:
    """The room map over time, and proposals that make room, each with what it was measured to do."""
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    token = workspace.newest("room", stack_id, client[:80])
    measures = measure(stack, workspace.load, workspace.engine, token)
    proposals = make_room(measures, most=min(max(most, 1), MOST_ASKED), check=token.check)
    shown = {"proposals": proposals, "all": all_of(proposals), "most": most, "usual": MOST_PROPOSALS}
    return HTMLResponse(page(request, "_partials/room.html", view=room_view(measures), stack=stack, **shown))


@router.get("/sheet")
def sheet(
    request: Request,
    stack_id: int,
    selected: str = "piece",
    item: str = "",
    opened: str | None = None,
    section: str = "",
    heard: Audition = Depends(audition_of),  # noqa: B008
) -> HTMLResponse:
    """The controls of what is selected; of a path, those of the lines that are opened ('*': of all)."""
    workspace = workspace_of(request)
    whole = workspace.stacks.head(stack_id).stack
    stack = as_shown(whole, section)
    name, sections = sheet_sections(stack, selected, item)
    reach = Reach(stack, workspace.assets.seconds_of)
    sections = reach.in_sections(sections)
    shown = opened_at_first(sections) if opened is None else frozenset(opened.split(","))
    marked = paths_of(sections, shown)
    partial, values = "", {}
    if name.partition(":")[0] in MEASURED_SHEETS:
        partial, make = MEASURED_SHEETS[name.partition(":")[0]]
        values = make(measure(whole, workspace.load, workspace.engine), name)
    # A chosen note or hit and the choice among drums, ducks or buses come first, then what was measured.
    first = len(sections) if name == "balance" else len([each for each in sections if each.chooser])
    return HTMLResponse(
        page(
            request,
            "_partials/sheet.html",
            stack=stack,
            heard=heard,
            tab=tab_of(name),
            tabs=TABS,
            sections=sections,
            opened=shown,
            every=ALL_LINES in shown,
            marks=marks_of(reach, marked, shown),
            otherwise=otherwise(whole, section),
            first=first,
            partial=partial,
            values=values,
        )
    )


@router.get("/layers")
def layers(
    request: Request,
    stack_id: int,
    selected: str = "piece",
    section: str = "",
    heard: Audition = Depends(audition_of),  # noqa: B008
) -> HTMLResponse:
    """The list of layers."""
    whole = workspace_of(request).stacks.head(stack_id).stack
    stack = as_shown(whole, section)
    return HTMLResponse(
        page(
            request,
            "_partials/layers.html",
            stack=stack,
            selected=selected,
            rows=layer_rows(stack, heard),
            otherwise=otherwise(whole, section),
        )
    )
