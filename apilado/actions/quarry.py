"""Use cases of the Quarry: measuring what came in, and clearing the audio that nothing uses."""

from __future__ import annotations

from dataclasses import dataclass
from threading import Event, Lock, Thread

import numpy as np

from apilado.actions.finding import root_in
from apilado.actions.workspace import Workspace
from apilado.core.dsp.audio import Audio
from apilado.core.measure.bands import band_centres, band_sums
from apilado.core.measure.loudness import QUIETEST_LKFS, measure_loudness
from apilado.core.measure.note_reading import read_notes
from apilado.core.measure.spectrum import spectrum_of, squared
from apilado.core.units import midi_to_hz, power_to_db
from apilado.errors import ApiladoError
from apilado.store.sounds import Entry, Measured

PER_OCTAVE = 6
LOWEST_DB, STEPS_PER_DB = -96.0, 2.0
"""A byte of a kept spectrum is a level: 0 at the lowest, two steps to a decibel."""
RATE_HZ = 48000
LOOKED_AT_S = 30.0
"""So much of the beginning of a sound is looked at."""
TEMPO_FROM_S = 2.0


def measure_entry(workspace: Workspace, entry: Entry) -> Measured:
    """What is measured of a sound: of one that cannot be read, nothing."""
    try:
        seconds = workspace.assets.seconds_of(entry.asset)
        audio = workspace.assets.beginning(entry.asset, RATE_HZ, LOOKED_AT_S)
    except ApiladoError:
        return Measured(0.0, 0, None, None, QUIETEST_LKFS, b"")
    root = root_in(audio, RATE_HZ)
    pitch = None if root is None else float(midi_to_hz(root.pitch + root.cents / 100.0))
    tempo = None
    if entry.tempo_bpm is None and entry.origin == "imported" and audio.shape[1] >= TEMPO_FROM_S * RATE_HZ:
        tempo = read_notes(audio, RATE_HZ).tempo_bpm
    loudness = measure_loudness(audio, rate_hz=RATE_HZ).integrated_lkfs
    rounded = None if tempo is None else round(tempo, 3)
    return Measured(seconds, audio.shape[0], pitch, rounded, round(loudness, 2), spectrum_bytes(audio, RATE_HZ))


def spectrum_bytes(audio: Audio, rate_hz: int) -> bytes:
    """The level of each sixth of an octave from 20 Hz to 20 kHz, a byte each, against a full-scale sine."""
    spectrum = spectrum_of(audio, rate_hz=rate_hz)
    power = sum(squared(side) for side in spectrum.channels) / len(spectrum.channels) * spectrum.line_power
    levels = np.asarray(power_to_db(band_sums(np.asarray(power), spectrum.frequencies_hz, PER_OCTAVE)))
    steps = np.clip(np.round((levels - LOWEST_DB) * STEPS_PER_DB), 0, 255)
    return steps.astype(np.uint8).tobytes()


def spectrum_levels(kept: bytes) -> list[float]:
    """The levels in dB of a kept spectrum, by `band_centres(PER_OCTAVE)`; none where there is none."""
    return [LOWEST_DB + step / STEPS_PER_DB for step in kept] if len(kept) == len(band_centres(PER_OCTAVE)) else []


def measure_waiting(workspace: Workspace, stopped: Event | None = None) -> int:
    """Measures all sounds that were not yet, until it is stopped; how many."""
    count = 0
    while waiting := workspace.sounds.unmeasured():
        for entry in waiting:
            if stopped is not None and stopped.is_set():
                return count
            workspace.sounds.keep_measured(entry.id, measure_entry(workspace, entry))
            count += 1
    return count


class Surveyor:
    """Measures what comes into the Quarry, behind everything else, one sound after the other."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._thread: Thread | None = None
        self._lock, self._stopped = Lock(), Event()
        workspace.closers.append(self.stop)

    def wake(self) -> None:
        """Has what is not measured yet measured."""
        with self._lock:
            if self._thread is None or not self._thread.is_alive():
                given = (self._workspace, self._stopped)
                self._thread = Thread(target=measure_waiting, args=given, name="quarry", daemon=True)
                self._thread.start()

    def stop(self) -> None:
        """Ends it behind the sound that is being measured."""
        self._stopped.set()
        with self._lock:
            if self._thread is not None:
                self._thread.join()


@dataclass(frozen=True)
class Clearing:
    """What clearing unused audio frees, or has freed."""

    files: int
    bytes: int

    def in_words(self) -> str:
        count = f"{self.files} file{'' if self.files == 1 else 's'}"
        return f"{count}, {self.bytes / 2**20:.1f} MiB"


def clearing(workspace: Workspace) -> Clearing:
    """What could be cleared: audio that was removed from the Quarry and that nothing uses."""
    found = workspace.sounds.clearable()
    return Clearing(len(found), sum(size for _, size in found))


def clear(workspace: Workspace) -> Clearing:
    """Deletes the audio that was removed from the Quarry and that nothing uses; it cannot be put back."""
    cleared = [size for asset, size in workspace.sounds.clearable() if workspace.assets.delete_unused(asset)]
    return Clearing(len(cleared), sum(cleared))
