"""apilado bench: speed as ratios within one run, since absolute times say little on a shared machine."""

from __future__ import annotations

import json
import platform
from collections.abc import Iterator, Sequence
from typing import TextIO

import numba
import numpy as np
import scipy

from apilado import __version__
from apilado.bench import growing, hearing, kernels, library, opening, within
from apilado.bench.figures import Figure, Part
from apilado.bench.timing import ROUNDS
from apilado.errors import ApiladoError

PARTS = (
    Part("Against the effects library, both at one rate", library.against_the_library),
    Part("Each treatment against the library's nearest, 16 s of stereo noise", library.each_treatment),
    Part("The whole loop after one edit, against a cold render, all threads", within.edits),
    Part("Values on curves against numbers, 16 s of stereo noise, one thread", within.curves),
    Part("Sources against the cold reference stack, one thread", within.sources),
    Part("A sound that has all but died away against the same at a level, 4 s of stereo noise", within.denormals),
    Part("The dearest loops against the least that this machine could take", kernels.against_the_least),
    Part("Starting and opening", opening.opening),
    Part("Hearing an edit on a heavy stack of six layers, all threads", hearing.hearing),
    Part("Growth of the reference stack, cold, one thread", growing.growth),
)


def machine() -> dict[str, str]:
    """What it is measured on and with."""
    return {
        "apilado": __version__,
        "machine": platform.machine(),
        "python": platform.python_version(),
        "numpy": np.__version__,
        "scipy": scipy.__version__,
        "numba": numba.__version__,
    }


def chosen(words: Sequence[str]) -> Iterator[Part]:
    """The parts whose title holds one of the words; all of them without any."""
    return (part for part in PARTS if not words or any(word.lower() in part.title.lower() for word in words))


def run(out: TextIO, words: Sequence[str] = (), *, as_json: bool = False) -> int:
    """Measures, and prints each figure beside its goal; or all of them as JSON, for a machine to read.

    Raises:
        ApiladoError: no part has any of the words in its title.
    """

    def say(text: str) -> None:
        print(text, file=out, flush=True)

    parts = list(chosen(words))
    if not parts:
        titles = "".join(f"\n  {part.title}" for part in PARTS)
        raise ApiladoError(f"no part of the bench has {' or '.join(words)} in its title; there are:{titles}")
    if not as_json:
        said = ", ".join(f"{name} {value}" for name, value in machine().items())
        say(f"{said}; the least of {ROUNDS} rounds")
        if not library.installed():
            say(library.MISSING)
    figures: list[Figure] = []
    for part in parts:
        if not as_json:
            say(part.title)
        for figure in part.measure(part.title):
            figures.append(figure)
            if not as_json:
                say(figure.in_words())
    if as_json:
        say(json.dumps({"on": machine(), "figures": [each.as_data() for each in figures]}, indent=1))
    else:
        judged = [figure.met for figure in figures if figure.met is not None]
        say(f"{sum(judged)} of {len(judged)} goals are met")
    return 0
