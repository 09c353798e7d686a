"""Jobs: a bounce, and the stack crushed and tucked under itself."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from apilado.actions import stacks
from apilado.actions.jobs import Task, Wanted
from apilado.actions.putting_in import HOWS, PutIn, put_in
from apilado.actions.quarry import measure_entry
from apilado.core.assets import AssetLoader
from apilado.core.document.edits import AnyEdit, Several, apply
from apilado.core.document.edits_values import AddPart, SetShare, SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.formats.audio_files import write_audio
from apilado.core.measure.loudness import measure_loudness
from apilado.core.measure.resonances import Resonance, resonances
from apilado.core.measure.spectrum import spectrum_of
from apilado.core.parameters import choice, number
from apilado.core.parts import new_id
from apilado.core.render.bouncing import Bounced, rung_out, taken
from apilado.core.render.builder import summed
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import build, clock_of
from apilado.core.units import midi_to_hz
from apilado.errors import InvalidEdit
from apilado.store.sounds import Entry, Origin

HARSH_FROM_DB, MOST_NOTCHES, DEEPEST_DB = 6.0, 4, 12.0
Then = Literal["", "laid", "reversed", "played", "sliced", "held"]


def bounce(
    stack: Stack, bounced: Bounced, load: AssetLoader, engine: Engine, token: Token | None = None
) -> tuple[Audio, int]:
    """(the samples of a bounce, shape (2, frames), the rate).

    Raises:
        InvalidEdit: there is no such layer, no such bar, or nothing to bounce.
        Overtaken: it is to stop.
    """
    found = taken(stack, bounced, load)
    (audio,) = engine.run([found.sound], token)
    last = rung_out(engine, [found.sound], found.clock, token) if found.last is None else found.last
    return np.ascontiguousarray(audio[:, found.first : last]), found.clock.rate_hz


def bounced_file(audio: Audio, rate_hz: int) -> bytes:
    """A bounce as it is kept: a WAV of 32-bit float."""
    return write_audio(audio, rate_hz, bits="32f")


class Bounce(Wanted):
    """A sound of a stack that becomes a piece of the Quarry and, if asked, a layer."""

    kind: ClassVar[str] = "bounce"

    bounced: Bounced = Bounced()
    name: str = Field(default="", max_length=80)
    then: Annotated[
        Then,
        choice(
            label="Then",
            names={"": "only into the Quarry", **{how: f"a layer, {said}" for how, said in HOWS.items()}},
        ),
    ] = ""

    def title(self, stack: Stack) -> str:
        return f"Bounce {self.bounced.told(stack)}"

    def check(self, stack: Stack) -> None:
        self.bounced.check(stack)

    def run(self, task: Task) -> dict[str, Any]:
        entry = _kept(task, self.bounced, self.name)
        if not self.then:
            return {"sound": entry.id, "said": f"‘{entry.name}’ is in the Quarry."}
        task.tell(0.9, "Putting it in")
        head = task.workspace.stacks.head(task.stack_id)
        starts = self.bounced.starts_beats(task.stack) if self.then in ("laid", "reversed") else 0.0
        made = put_in(task.workspace, head.stack, entry, self.then, start_beats=starts)
        edit = made.edit.model_copy(update={"edits": (*made.edit.edits, *self._unducked(head.stack, made.layer))})
        stacks.edit(task.workspace, task.stack_id, edit)
        return {"sound": entry.id, "layer": made.layer, "said": made.told}

    def _unducked(self, stack: Stack, layer: str) -> list[AnyEdit]:
        """What was bounced as it is ducked is not ducked again."""
        ducked = self.then in ("laid", "reversed") and (self.bounced.what != "layers" or self.bounced.duck == "after")
        return _no_shares(stack, layer) if ducked else []


def _no_shares(stack: Stack, layer: str) -> list[AnyEdit]:
    return [SetShare(ducker=ducker.id, layer=layer, amount=0.0) for ducker in stack.duckers]


def _kept(task: Task, bounced: Bounced, name: str = "") -> Entry:
    """Renders a bounce and keeps it in the Quarry."""
    task.tell(0.05, "Rendering")
    stack, workspace = task.stack, task.workspace
    audio, rate_hz = bounce(stack, bounced, workspace.load, workspace.engine, task.token)
    if not np.any(audio):
        raise InvalidEdit("not bounced: there is only silence in it")
    task.tell(0.7, "Writing")
    called = name.strip() or f"{stack.name} {bounced.what_in_words(stack)}"
    origin = Origin(
        name=workspace.sounds.fresh_name(called),
        kind="bounced",
        made_of=bounced.told(stack),
        stack=task.stack_id,
        revision=task.revision,
        tempo_bpm=stack.tempo_bpm,
        beats=bounced.beats(stack),
        key=stack.key,
    )
    asset = workspace.assets.add(bounced_file(audio, rate_hz), "bounce.wav", origin)
    entry = workspace.sounds.of_asset(asset.sha256)
    if entry is None:
        raise InvalidEdit("not bounced: it was cleared from the Quarry meanwhile")
    task.kept = f"‘{entry.name}’ is in the Quarry."
    task.tell(0.8, "Measuring")
    workspace.sounds.keep_measured(entry.id, measure_entry(workspace, entry))
    return workspace.sounds.entry(entry.id)


class Crush(Wanted):
    """The bass bounced through heavy dynamics, as a layer of its own: low in level, its harsh peaks notched."""

    kind: ClassVar[str] = "crush"

    under_db: Annotated[
        float, number(low=6.0, high=40.0, step=0.5, unit="dB", label="Under the bass", help="By its loudness")
    ] = 14.0

    def title(self, stack: Stack) -> str:
        return "Crush the bass and tuck it under"

    def check(self, stack: Stack) -> None:
        Bounced(what="bus").check(stack)

    def run(self, task: Task) -> dict[str, Any]:
        workspace, bounced = task.workspace, Bounced(what="bus")
        entry = _kept(task, bounced)
        head = workspace.stacks.head(task.stack_id)
        made = put_in(workspace, head.stack, entry, "laid", name="crushed")
        edits = [*made.edit.edits, *_crushing(head.stack, made.layer), *_no_shares(head.stack, made.layer)]
        task.tell(0.9, "Listening for harsh peaks")
        trial = apply(head.stack, Several(name="Crush", edits=tuple(edits)))
        notches, level_db, turned = self._fitted(task, trial, made)
        edits += notches
        edits.append(SetValue(path=f"layers/{made.layer}/level_db", value=level_db))
        if turned:
            edits.append(SetValue(path=f"layers/{made.layer}/polarity", value="inverted"))
        stacks.edit(workspace, task.stack_id, Several(name="Crush and tuck under", edits=tuple(edits)))
        told = (
            f"{len(notches)} harsh peak{'' if len(notches) == 1 else 's'} notched"
            if notches
            else "nothing in it is harsh"
        )
        said = f"‘crushed’ lies {self.under_db:g} dB under the bass: {told}."
        return {"sound": entry.id, "layer": made.layer, "said": said}

    def _fitted(self, task: Task, trial: Stack, made: PutIn) -> tuple[list[AnyEdit], float, bool]:
        """(the points that notch what is harsh, the level that the layer is given, whether it is turned over)."""
        clock = clock_of(trial, looped=True)
        graph = build(trial, clock, task.workspace.load)
        others = [graph.layers[name] for name in graph.audible if name != made.layer]
        wanted = [graph.layers[made.layer], summed(others, clock.frames)]
        crushed, bass = task.workspace.engine.run(wanted, task.token)
        pitches = [note.pitch for note in trial.played()]
        lowest = float(midi_to_hz(min(pitches))) if pitches else 0.0
        harsh = resonances(spectrum_of(crushed, rate_hz=clock.rate_hz), least_db=HARSH_FROM_DB, fundamental_hz=lowest)
        layer = trial.layer(made.layer)
        eq = _eq_of(layer) if layer is not None else ""
        notches: list[AnyEdit] = [AddPart(path=f"{eq}/points", part=_notch(each)) for each in harsh[:MOST_NOTCHES]]
        loud, under = (
            measure_loudness(each, rate_hz=clock.rate_hz, looped=True).integrated_lkfs for each in (bass, crushed)
        )
        given = layer.level_db if layer is not None else 0.0
        level_db = round(min(12.0, max(-60.0, given + loud - self.under_db - under)), 1)
        # Cut at the border a second time, it comes out turned there by what the first cut has turned it.
        return notches, level_db, disagrees(crushed, bass, trial, clock.rate_hz)


def disagrees(added: Audio, there: Audio, stack: Stack, rate_hz: int) -> bool:
    """Whether a sound takes away from another around the lowest border, within a third of an octave of it."""
    if not stack.crossovers:
        return False
    border_hz = stack.crossovers[0].frequency_hz
    one, other = (spectrum_of(each, rate_hz=rate_hz) for each in (added, there))
    near = np.abs(np.log2(np.maximum(one.frequencies_hz, 1.0) / border_hz)) <= 1.0 / 3.0
    pairs = zip(one.channels, other.channels, strict=True)
    return bool(sum(np.sum((a[near] * np.conj(b[near])).real) for a, b in pairs) < 0.0)


def _crushing(stack: Stack, layer: str) -> list[AnyEdit]:
    """What crushes a layer: its path; where the stack has borders, without its lowest band, so that the sub stays."""
    path = f"layers/{layer}/path"
    steps: list[dict[str, Any]] = [
        {"kind": "compressor", "threshold_db": -40.0, "ratio": 12.0, "attack_ms": 2.0, "release_ms": 90.0}
        | {"makeup_db": 18.0},
        {"kind": "saturation", "drive_db": 10.0, "bias": 0.0},
        {"kind": "eq"},
    ]
    edits: list[AnyEdit] = [AddPart(path=path, part={"id": new_id(), **step}) for step in steps]
    if stack.crossovers:
        edits.append(SetValue(path=f"layers/{layer}/span", value={"first": 1, "last": len(stack.crossovers)}))
    return edits


def _eq_of(layer: Layer) -> str:
    return f"layers/{layer.id}/path/{layer.path[-1].id}"


def _notch(found: Resonance) -> dict[str, Any]:
    """A point that takes away what stands out."""
    depth, q = -min(DEEPEST_DB, found.excess_db), min(20.0, max(0.7, found.q))
    return {"kind": "bell", "frequency_hz": round(found.frequency_hz, 1), "gain_db": round(depth, 1), "q": round(q, 2)}
