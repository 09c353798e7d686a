"""A demo stack of width: detuned waves, a drive of its own in each band, short delays left and right, and one space."""

from __future__ import annotations

from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import Bell, HighPass, HighShelf, LowPass
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import Bands, ChainedBand
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Bus, Crossover, Limiter, Space, Stack
from apilado.core.formats.bundles import Bundle
from apilado.core.notes import Note
from apilado.core.shapes.drawn_course import CoursePoint
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.chorus import Chorus
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.fold import Fold
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.saturation import Saturation
from apilado.core.treatments.tape import Tape
from apilado.core.treatments.width_bands import WideBand, WidthBands
from apilado.demo.further import clean_sub, moving
from apilado.demo.stacks import eq, steps, voice

LAST_NOTE = (
    CoursePoint(at=0.0, value=0.0),
    CoursePoint(at=0.8125, value=0.0),
    CoursePoint(at=0.8126, value=1.0),
    CoursePoint(at=0.95, value=1.0),
    CoursePoint(at=0.96, value=0.0),
    CoursePoint(at=1.0, value=0.0),
)
"""Shut until the last note of four bars, open over it."""


def breakwater() -> Bundle:
    """A wide wall of saws over a dry sub: three bands, three drives; the last note is thrown into the space."""
    figure = ((0.0, 1.7, 30), (1.75, 0.7, 30), (2.5, 1.4, 33))
    roots = (0, 0, -2, 3)
    notes = tuple(
        Note(start_beats=4.0 * bar + at, length_beats=length, pitch=pitch + root, velocity=105)
        for bar, root in enumerate(roots)
        for at, length, pitch in (figure if bar < 3 else (*figure[:2], (3.0, 0.75, 32)))
    )
    wall = ToneSource(
        tones=(
            Tone(id="saws", shape="saw", copies=7, detune_cents=16.0, spread=0.9),
            Tone(id="octave", shape="saw", octave=1, copies=5, detune_cents=22.0, spread=1.0, level_db=-8.0),
        ),
        velocity=0.25,
    )
    bands = Bands(
        id="bands",
        bands=(
            ChainedBand(id="lower", path=(Tape(id="tape", drive_db=8.0, keep_level=True),)),
            ChainedBand(id="middle", from_hz=420.0, path=(Saturation(id="warm", drive_db=10.0, keep_level=True),)),
            ChainedBand(
                id="upper",
                from_hz=1900.0,
                level_db=-2.0,
                path=(Fold(id="fold", drive_db=9.0, blend=0.45, keep_level=True),),
            ),
        ),
    )
    sides = Delay(
        id="sides", left_ms=9.0, right_ms=15.0, blend=0.5, dry_stays=True, low_cut_hz=300.0, mono_below_hz=250.0
    )
    widths = WidthBands(
        id="widths",
        bands=(
            WideBand(id="narrow", width=0.0),
            WideBand(id="wide", from_hz=350.0, width=1.0),
            WideBand(id="wider", from_hz=2400.0, width=1.3),
        ),
    )
    stack = Stack(
        name="Breakwater",
        tempo_bpm=132.0,
        bars=4,
        key="F# minor",
        seed=19,
        pattern=notes,
        voice=voice(25.0, attack_ms=3.0, decay_ms=1200.0, sustain=0.85, release_ms=60.0),
        kick=Kick(sound=SynthKick(end_hz=50.0, decay_ms=210.0), level_db=-5.1, hits=tuple(float(n) for n in range(16))),
        crossovers=(Crossover(id="lower", frequency_hz=112.0), Crossover(id="upper", frequency_hz=2600.0)),
        layers=(
            clean_sub(-7.0, velocity=0.25),
            Layer(
                id="wall",
                name="wall",
                tint="slate",
                source=wall,
                span=Span(first=1, last=1),
                path=steps(bands, sides, widths, eq(Bell(id="mud", frequency_hz=290.0, gain_db=-3.0, q=1.2))),
                level_db=-9.0,
                send=0.2,
            ),
            Layer(
                id="spray",
                name="spray",
                tint="verdigris",
                source=LayerSound(layer="wall"),
                span=Span(first=2, last=2),
                path=steps(
                    Chorus(id="sway", voices=2, speed_hz=0.4, blend=0.4),
                    eq(HighShelf(id="air", frequency_hz=7000.0, gain_db=-3.0)),
                ),
                level_db=-11.0,
                send=0.4,
            ),
        ),
        movements=(moving("throw", "layers/wall/send", 0.7, LAST_NOTE, begins="bar", length_beats=16.0),),
        sections=(
            PieceSection(
                id="open",
                name="open",
                first_bar=4,
                last_bar=4,
                changes=(Change(id="wider", path="layers/wall/path/widths/bands/wider/width", value=1.7),),
            ),
        ),
        space=Space(
            path=(
                Reverb(
                    id="room", blend=1.0, decay_s=2.2, size_m=14.0, low_cut_hz=260.0, pre_delay_ms=18.0, damping=0.35
                ),
                eq(
                    HighPass(id="low", frequency_hz=220.0),
                    LowPass(id="soft", frequency_hz=7500.0, slope_db_per_octave=12),
                ),
            ),
            level_db=7.0,
        ),
        bus=Bus(
            path=(eq(HighPass(id="rumble", frequency_hz=28.0, slope_db_per_octave=12)),),
            limiter=Limiter(ceiling_db=-8.8),
        ),
        duckers=(Ducker(id="duck", shape=KeyedDuck(threshold_db=-26.0, release_ms=70.0, range_db=9.0)),),
    )
    return Bundle(stack, ())
