"""Soundings of who owns what: doubled fundamentals, crowded octaves, small speakers, one voice."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial
from typing import cast

import numpy as np

from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_values import AddPart, SetHarmonic, SetValue
from apilado.core.document.layer import Layer
from apilado.core.measure.bands import band_centres
from apilado.core.measure.stem import THIRD
from apilado.core.render.elsewhere import PHONE
from apilado.core.render.playing import root_of, source_root
from apilado.core.soundings.carving import bell_edit, point_edit
from apilado.core.soundings.elsewhere import power_passed
from apilado.core.soundings.further import doubled
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.soundings.sub_sound import SEMITONE, tone_of
from apilado.core.sources.voice import Voice
from apilado.core.units import midi_to_name, power_ratio_db, power_to_db

PHONE_HZ = 250.0
"""From where on a phone's loudspeaker gives what it is given."""
COMPARABLE_DB, HEARD_DB = 10.0, 25.0
HARMONICS_TRIED = (0.1, 0.2, 0.35)
CROWD_Q = 1.0


def double_sub(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do other layers carry the sub's fundamentals too?"""
    sub = measures.sub
    pitches = sorted(set(measures.fundamentals.values()))
    if sub is None or not pitches or len(measures.stems) < 2:
        return []
    # Note by note, each while it alone sounds: a harmonic that falls on another note's place doubles nothing.
    carried = doubled(measures)
    worst = {
        name: max((level for level in levels if level is not None), default=None) for name, levels in carried.items()
    }
    told = {name: level for name, level in worst.items() if level is not None}
    if not told:
        return []
    name = max(told, key=lambda other: told[other])
    value, layer = told[name], measures.stack.layer(name)
    status = limits.status(value)
    shown = layer.name if layer else name
    at = measures.notes[sub.id][[level == value for level in carried[name]].index(True)]
    place, limit = Place((name, sub.id), pitches[0] / SEMITONE, pitches[-1] * SEMITONE), f"{limits.look:g} dB"
    where = f"layers/{name}"
    if status == "fine":
        text = f"'{sub.name}' alone carries the fundamentals; the next, '{shown}', lies {-value:.0f} dB under it."
        return [rule.sounding(status, value, limit, where, text, show=place)]
    note = midi_to_name(at.pitch + root_of(measures.stack, sub).transpose)
    text = (
        f"'{shown}' carries the fundamentals too, in {note} {abs(value):.0f} dB "
        f"{'under' if value < 0 else 'over'} '{sub.name}'."
    )
    place = Place((name, sub.id), pitches[0] / SEMITONE, pitches[-1] * SEMITONE, (at.start_beats,))
    ways = partial(_thinned, measures, layer, pitches[-1]) if layer else None
    return [rule.sounding(status, value, limit, where, text, show=place, ways=ways)]


def _thinned(measures: Measures, layer: Layer, highest_hz: float) -> Iterator[Edit | None]:
    """Takes the fundamental off a layer: its own first harmonic, or with a high-pass, steeper or higher."""
    tone = tone_of(measures, layer)
    alone = root_of(measures.stack, layer).id == layer.id
    if tone and alone and all(t.octave == 0 and t.semitones == 0 for t in tone[1]):
        edits: list[AnyEdit] = [
            SetHarmonic(path=f"{tone[0]}/tones/{each.id}", number=1, amplitude=0.0) for each in tone[1]
        ]
        if any(t.harmonics[:1] != (0.0,) for t in tone[1]):
            yield Several(name=f"Take the fundamental off {layer.name}", edits=tuple(edits))
    for ratio, slope in ((1.5, 48), (1.5, 24), (2.0, 48), (1.2, 24)):
        part = {"kind": "high-pass", "frequency_hz": round(highest_hz * ratio, 1), "slope_db_per_octave": slope}
        yield point_edit(measures.stack, f"layers/{layer.id}", part)


def crowding(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do more than two layers share an octave?"""
    if len(measures.stems) < 2:
        return []
    centres = band_centres(THIRD)
    count = len(centres) // THIRD
    powers = {
        name: (stem.mid_power + stem.side_power)[: count * THIRD].reshape(count, THIRD).sum(axis=1)
        for name, stem in measures.stems.items()
    }
    levels = np.array([power_to_db(np.maximum(row, 1e-15)) for row in powers.values()])
    strongest = levels.max(axis=0)
    heard = strongest > strongest.max() - HEARD_DB
    crowds = np.where(heard, (levels > strongest - COMPARABLE_DB).sum(axis=0), 0)
    octave = int(np.argmax(crowds))
    value = float(crowds[octave])
    low, high = float(centres[octave * THIRD]), float(centres[octave * THIRD + THIRD - 1])
    names = [name for name, row in zip(powers, levels, strict=True) if row[octave] > strongest[octave] - COMPARABLE_DB]
    place, limit = Place(tuple(names), low, high), f"{limits.look:.0f} layers"
    status = limits.status(value)
    shown = ", ".join(f"'{layer.name}'" for layer in measures.stack.layers if layer.id in names)
    if status == "fine":
        text = f"No octave is crowded; most share {low:.0f}–{high:.0f} Hz: {shown}."
    else:
        text = (
            f"{value:.0f} layers are about equally loud from {low:.0f} to {high:.0f} Hz: {shown}. Give up some of it."
        )
    order = sorted(names, key=lambda name: levels[list(powers).index(name)][octave])
    ways = partial(_uncrowded, measures, order, (low * high) ** 0.5)
    return [rule.sounding(status, value, limit, "layers", text, show=place, ways=ways)]


def _uncrowded(measures: Measures, names: list[str], hertz: float) -> Iterator[Edit | None]:
    """A broad dip in one of the layers that crowd an octave, or in two: in the quietest, which lose least by it."""
    for gain in (-6.0, -9.0):
        yield bell_edit(measures.stack, f"layers/{names[0]}", hertz, gain, CROWD_Q)
    if len(names) > 2:
        for gain in (-6.0, -9.0):
            yield bell_edit(measures.stack, f"layers/{names[1]}", hertz, gain, CROWD_Q)
        dips = [bell_edit(measures.stack, f"layers/{name}", hertz, -8.0, CROWD_Q) for name in names[:-2]]
        told = tuple(cast(AnyEdit, dip) for dip in dips if dip is not None)
        yield Several(name=f"Room at {hertz:.0f} Hz", edits=told) if told else None


def small_speaker(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the bass heard on a phone?"""
    sub = measures.sub
    if not measures.sounding or sub is None:
        return []
    bass = measures.bass
    leaves = partial(power_passed, PHONE, rate_hz=measures.clock.rate_hz)
    left, whole = bass.power_through(leaves), bass.power_through(np.ones_like)
    value = -power_ratio_db(left, whole)
    status = limits.status(value)
    limit, place = f"{limits.look:g} dB", Place((), PHONE_HZ, 20000.0)
    text = f"A small speaker leaves {value:.0f} dB less of the bass."
    if status != "fine":
        text += " A pure low tone is silence there: it needs harmonics."
    ways = partial(_audible_ways, measures, sub)
    return [rule.sounding(status, value, limit, f"layers/{sub.id}", text, show=place, ways=ways)]


def _audible_ways(measures: Measures, sub: Layer) -> Iterator[Edit | None]:
    """Harmonics for the sub, a little of them and more; a drive; the sub quieter against the others."""
    tone = tone_of(measures, sub)
    if tone:
        number = min(5, math.ceil(PHONE_HZ / max(min(measures.fundamentals.values(), default=50.0), 20.0)))
        numbers = tuple(dict.fromkeys((2, number)))
        path = f"{tone[0]}/tones/{tone[1][0].id}"
        for amplitude in HARMONICS_TRIED:
            edits: tuple[AnyEdit, ...] = tuple(SetHarmonic(path=path, number=n, amplitude=amplitude) for n in numbers)
            yield Several(name=f"Harmonics {' and '.join(map(str, numbers))} for the sub", edits=edits)
    for drive in (6.0, 12.0):
        part = {"kind": "saturation", "drive_db": drive, "blend": 0.5}
        yield AddPart(path=f"layers/{sub.id}/path", part=part)
    yield SetValue(path=f"layers/{sub.id}/level_db", value=round(sub.level_db - 3.0, 1))


def _with_glide_and_release(layer: str, voice: Voice, model: Voice) -> SetValue:
    """A layer's voice with the glide, the release and the slides of another."""
    envelope = voice.envelope.model_copy(update={"release_ms": model.envelope.release_ms})
    own = voice.model_copy(update={"mode": model.mode, "glide_ms": model.glide_ms, "envelope": envelope})
    return SetValue(path=f"layers/{layer}/voice", value=own.model_dump(mode="json"))


def voice_match(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do all layers play as one instrument?"""
    stack = measures.stack
    roots = {source_root(stack, layer).id: source_root(stack, layer) for layer in stack.audible_layers()}
    tones = {name: root for name, root in roots.items() if root.source.pitched()}
    if len(tones) < 2:
        return []
    edits: list[AnyEdit] = []
    said = []
    voices = {name: root.voice or stack.voice for name, root in tones.items()}
    model, *_ = voices.values()
    _, *others = tones
    glides = {round(voice.glide_ms) for voice in voices.values()}
    if any(note.slide for note in stack.played()) and len(glides) > 1:
        said.append(f"glides of {' and '.join(f'{g} ms' for g in sorted(glides))}")
    own = [root.name for root in tones.values() if root.notes is not None]
    if own:
        said.append(f"notes of {' and '.join(own)} that are not the stack's")
        owners = [root.id for root in tones.values() if root.notes is not None]
        edits += [SetValue(path=f"layers/{name}/notes", value=None) for name in owners]
    releases = [voice.envelope.release_ms for voice in voices.values()]
    if max(releases) > 4.0 * min(releases):
        said.append(f"releases from {min(releases):.0f} to {max(releases):.0f} ms")
    if len({voice.mode for voice in voices.values()}) > 1:
        said.append("notes that slide in one and begin anew in another")
    if len(said) > bool(own):
        edits += [_with_glide_and_release(name, voices[name], model) for name in others]
    value = float(len(said))
    limit = "all alike"
    if not said:
        return [rule.sounding("fine", value, limit, "layers", "All layers play the same notes, glides and lengths.")]
    text = f"The layers do not play as one: {'; '.join(said)}."

    def ways() -> Iterator[Edit | None]:
        yield Several(name="One voice for all layers", edits=tuple(edits)) if edits else None

    return [rule.sounding(limits.status(value), value, limit, "layers", text, show=Place(tuple(tones)), ways=ways)]


RULES = (
    Rule("double-sub", "Sub alone", "dB", Limits(-18.0, -6.0), "common practice", double_sub),
    Rule("crowding", "Crowded octaves", "layers", Limits(2.0, 4.0), "common practice", crowding),
    Rule("small-speaker", "Small speaker", "dB", Limits(24.0, 40.0), "common practice", small_speaker),
    Rule("voice-match", "One voice", "differences", Limits(0.0, 1.0), "common practice", voice_match),
)
