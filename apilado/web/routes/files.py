"""Files in and out of a bench."""

from __future__ import annotations

import math
from typing import Any
from urllib.parse import quote

import numpy as np
from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, Response

from apilado.actions import beginning, finding, stacks
from apilado.actions.delivery_plan import safe_name
from apilado.core.assets import AS_IT_LIES
from apilado.core.document.addresses import find, joined, parted
from apilado.core.document.backing import BackingTrack
from apilado.core.document.edits import Several
from apilado.core.document.edits_layers import AddLayer, SetDrumSound, SetSource
from apilado.core.document.edits_pattern import SetPattern
from apilado.core.document.edits_values import AddPart, SetValue
from apilado.core.document.followers import followers_of
from apilado.core.document.reading import stack_to_json
from apilado.core.document.stack import MOST_BARS
from apilado.core.dsp.cabinets import LONGEST_RESPONSE_S
from apilado.core.dsp.cycles import cycle_found
from apilado.core.formats.audio_files import read_audio
from apilado.core.formats.bundles import write_bundle
from apilado.core.formats.midi_files import read_midi, write_midi
from apilado.core.measure.onsets import onsets
from apilado.core.parts import new_id
from apilado.core.sources.wave import Tone
from apilado.core.treatments.cabinet import ImpulseResponse
from apilado.errors import NotFound
from apilado.web.hit_offers import hits_in_audio, hits_in_midi
from apilado.web.pages import page
from apilado.web.routes.bench import part_added
from apilado.web.routes.common import workspace_of

router = APIRouter()


@router.post("/stacks/{stack_id}/audio")
def audio(
    request: Request,
    stack_id: int,
    target: str = Form(),
    client: str = Form(default="", max_length=80),
    file: UploadFile = File(),  # noqa: B008
) -> dict[str, Any]:
    """An audio file as a drum, as a layer's take, as backing, as the table of a wave or the response of a cabinet, as a
    new layer, or as the piece to compare with; answers with what was done, or with a question in a dialog."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    name = (file.filename or "audio")[-200:]
    asset = workspace.assets.add(file.file.read(), name)
    sound = {"asset": asset.sha256, "file_name": name}
    change: Any
    if target in head.stack.drum_names():
        change = SetDrumSound(drum=target, sound={"kind": "sample", **sound})
    elif target == "reference":
        change = SetValue(path="reference", value=sound)
    elif target == "backing":
        part = {"name": name.rsplit(".", 1)[0][:40] or "backing", "sound": {"kind": "take", **sound}}
        change = AddPart(path="backing", part=part)
    elif isinstance(find(head.stack, target), BackingTrack):
        kept = find(head.stack, target).sound.model_dump(mode="json")
        change = SetValue(path=joined(target, "sound"), value={**kept, **sound})
    elif isinstance(find(head.stack, target), ImpulseResponse):
        lasts_s = min(LONGEST_RESPONSE_S, workspace.assets.seconds_of(asset.sha256) or LONGEST_RESPONSE_S)
        change = SetValue(path=joined(target, "recorded"), value={**sound, "lasts_s": lasts_s})
    elif isinstance(find(head.stack, target), Tone):
        heard = workspace.load(asset.sha256, AS_IT_LIES)
        change = SetValue(path=joined(target, "recorded"), value={**sound, "cycle_frames": cycle_found(heard)})
    elif target == "new":
        added = new_id()
        base = AddLayer(name=name.rsplit(".", 1)[0][:40] or "take", id=added)
        change = Several(
            name=f"Add {name[:60]}", edits=(base, SetSource(layer=added, source={"kind": "take", **sound}))
        )
    else:
        layer_id = parted(target)[1]
        layer = head.stack.layer(layer_id)
        sampled = layer is not None and "root" in layer.source.finds
        known = finding.sample_values(workspace, asset, head.stack.sample_rate) if sampled else {}
        change = SetSource(layer=layer_id, source={"kind": "sample" if sampled else "take", **sound, **known})
        if layer and (followers := followers_of(head.stack, layer)):
            asked = {"layer": layer, "names": [follower.name for follower in followers]}
            offered = {"name": name, "keep": change.model_copy(update={"alone": True}), "follow": change}
            return {"dialog": page(request, "_partials/followers.html", **asked, **offered)}
    done = stacks.edit(workspace, stack_id, change, client=client)
    after = done.revision.stack
    said = [f"{change.title(done.before, after)}.", change.remark(done.before, after)]
    if target != "reference" and not np.any(workspace.load(asset.sha256, after.sample_rate)):
        said.append("There is only silence in it.")
    told = " ".join(sentence for sentence in said if sentence)
    return {"revision": done.revision.id, "told": told, "select": part_added(done.before, after)}


@router.post("/stacks/{stack_id}/find")
def find_in(
    request: Request,
    stack_id: int,
    what: str = Form(max_length=20),
    within: str = Form(max_length=80),
    client: str = Form(default="", max_length=80),
) -> dict[str, Any]:
    """Looks for something in the sound of a layer: its root, where it can be sliced, its notes; answers with what was
    done, or with a question in a dialog."""
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    layer = stack.layer(parted(within)[1])
    if layer is None or what not in layer.source.finds:
        raise NotFound(f"there is nothing of '{within[:60]}' to look for")
    if what == "notes":
        reading = finding.reading_of_layer(workspace, stack, layer)
        offers = finding.patterns_offered(stack, layer, reading)
        words = beginning.told(reading)
        further = [
            (name, edit)
            for name, edit in (
                ("Stretch it to the tempo of the stack", finding.stretch_offered(stack, layer, reading)),
                ("Tune it to concert pitch", finding.tuning_offered(layer, reading)),
            )
            if edit is not None
        ]
        given = {"layer": layer, "words": words, "offers": offers, "further": further}
        return {"dialog": page(request, "_partials/reading.html", **given)}
    look = {"root": finding.root_of_layer, "slices": finding.slices_of_layer}[what]
    change, told = look(workspace, stack, layer)
    done = stacks.edit(workspace, stack_id, change, client=client)
    return {"revision": done.revision.id, "told": told, "select": None}


@router.post("/stacks/{stack_id}/midi")
def midi(request: Request, stack_id: int, file: UploadFile = File()) -> HTMLResponse:  # noqa: B008
    """The tracks of a MIDI file, each as an offer to take it as the pattern."""
    stack = workspace_of(request).stacks.head(stack_id).stack
    found = read_midi(file.file.read(), (file.filename or "file")[-200:])
    offers = []
    for track in found.tracks:
        end = max(note.end_beats for note in track.notes)
        bars = min(MOST_BARS, max(1, math.ceil(end / stack.beats_per_bar - 1e-9)))
        kept = [note for note in track.notes if note.start_beats < bars * stack.beats_per_bar][:4096]
        plain = SetPattern(notes=tuple(kept), bars=bars)
        tempo = found.tempo_bpm
        offered = tempo is not None and 40.0 <= tempo <= 240.0 and abs(tempo - stack.tempo_bpm) > 0.05
        with_tempo = plain.model_copy(update={"tempo_bpm": round(tempo, 3)}) if offered and tempo else None
        offers.append((track, bars, plain, with_tempo))
    return HTMLResponse(page(request, "_partials/midi.html", offers=offers, name=file.filename))


@router.post("/stacks/{stack_id}/hits/{drum}")
def hits(request: Request, stack_id: int, drum: str, file: UploadFile = File()) -> HTMLResponse:  # noqa: B008
    """The hits in a MIDI file or an audio loop, as offers to take them for a drum."""
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    if drum not in stack.drum_names():
        raise NotFound(f"there is no drum '{drum[:40]}'")
    name, content = (file.filename or "file")[-200:], file.file.read()
    if content[:4] == b"MThd" or name.lower().endswith((".mid", ".midi")):
        offers = hits_in_midi(read_midi(content, name), stack, drum)
    else:
        audio, rate = read_audio(content, name)
        heard = math.ceil((stack.beats * 60.0 / stack.tempo_bpm + 0.5) * rate)
        offers = hits_in_audio(onsets(audio[:, :heard], rate_hz=rate), stack, drum)
    return HTMLResponse(page(request, "_partials/hits.html", offers=offers, name=name, drum=stack.drum_names()[drum]))


def _download(content: bytes, name: str, media_type: str) -> Response:
    headers = {"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"}
    return Response(content, media_type=media_type, headers=headers)


@router.get("/stacks/{stack_id}/export/{kind}")
def export(request: Request, stack_id: int, kind: str) -> Response:
    """The stack as a bundle or JSON, or its pattern as MIDI; or its document as it is kept, readable or not."""
    workspace = workspace_of(request)
    if kind == "raw":
        name = safe_name(workspace.stacks.name(stack_id))
        return _download(workspace.stacks.raw(stack_id).encode(), f"{name}.json", "application/json")
    stack = workspace.stacks.head(stack_id).stack
    name = safe_name(stack.name)
    if kind == "bundle":
        bundle = stacks.bundle_of(workspace, stack, workspace.casts.all_of(stack_id))
        return _download(write_bundle(bundle), f"{name}.apilado", "application/zip")
    if kind == "json":
        return _download(stack_to_json(stack).encode(), f"{name}.json", "application/json")
    if kind == "midi":
        content = write_midi(
            stack.played(), tempo_bpm=stack.tempo_bpm, beats_per_bar=stack.beats_per_bar, name=stack.name
        )
        return _download(content, f"{name}.mid", "audio/midi")
    raise NotFound(f"a stack is exported as bundle, json or midi, not as '{kind}'")
