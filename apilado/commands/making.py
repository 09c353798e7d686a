"""Commands that write sound: render, bounce, multisample. Each takes many stacks, some at a time."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from apilado.commands.meter import Meter
from apilado.commands.stacks_in_files import each, folders_for, opened
from apilado.errors import ApiladoError


def _told(given: argparse.Namespace, found: list[list[str] | ApiladoError]) -> int:
    """Prints what was written, or as JSON; 2 where anything could not be done."""
    failed = 0
    written: dict[str, Any] = {}
    for path, result in zip(given.stacks, found, strict=True):
        if isinstance(result, ApiladoError):
            failed += 1
            written[path] = {"error": str(result)}
            print(f"apilado: {path + ': ' if len(given.stacks) > 1 else ''}{result}", file=sys.stderr)
        else:
            written[path] = {"files": result}
    if given.json:
        print(json.dumps(written, indent=1, ensure_ascii=False))
    return 2 if failed else 0


def _free(folder: Path, names: Iterable[str], *, force: bool) -> None:
    """
    Raises:
        ApiladoError: files of these names are there already, and may not be written over.
    """
    there = [name for name in names if (folder / name).exists()]
    if there and not force:
        raise ApiladoError(
            f"'{folder}' holds {', '.join(there)} already: nothing was written. --force writes over them"
        )


def _write(given: argparse.Namespace, path: Path, content: bytes) -> str:
    from apilado.store.assets import write_whole

    path.parent.mkdir(parents=True, exist_ok=True)
    write_whole(path, content)
    if not given.json:
        print(path, flush=True)
    return str(path)


def render(given: argparse.Namespace) -> int:
    """Writes the files of a delivery."""
    from apilado.actions.delivery import REPORT, clipping_in_words, rendered_files
    from apilado.actions.delivery_plan import DeliveryOptions, file_names
    from apilado.core.render.engine import Engine

    folders = folders_for(given.stacks, given.out)

    def one(path: str) -> list[str]:
        written = []
        meter = Meter(Path(path).stem, quiet=given.json)
        with opened(path) as (stack, load, _):
            options = DeliveryOptions(
                extent="one-pass" if given.one_pass else "loop",
                sections="apart" if given.sections else "together",
                file_format=given.format,
                bits=given.bits,
                rate_hz=given.rate or stack.sample_rate,
                mono="mono" if given.mono else "stereo",
                layers=given.stems,
                bass=given.stems,
                space=given.stems,
                kick=given.stems,
                notes=given.midi,
                curves=given.midi,
                names=given.names,
                level=_level(given),
                loudness_lufs=-14.0 if given.loudness is None else given.loudness,
                peak_db=-1.0 if given.peak is None else given.peak,
            )
            folders[path].mkdir(parents=True, exist_ok=True)
            _free(folders[path], file_names(stack, options), force=given.force)
            for name, content in rendered_files(stack, load, Engine(), options, meter):
                if name != REPORT or given.stems:
                    written.append(_write(given, folders[path] / name, content))
                if name == REPORT and (said := clipping_in_words(content)):
                    print(f"apilado: {said}", file=sys.stderr)
        meter.end()
        return written

    return _told(given, each(given.stacks, given.jobs, one))


def _level(given: argparse.Namespace) -> Any:
    if given.loudness is not None and given.peak is not None:
        raise ApiladoError("--loudness and --peak exclude each other: a level is brought to one of them")
    return "loudness" if given.loudness is not None else "peak" if given.peak is not None else "as-it-is"


def bounce(given: argparse.Namespace) -> int:
    """Writes bounces."""
    from apilado.actions.bouncing import bounce as bounce_of
    from apilado.actions.bouncing import bounced_file
    from apilado.actions.delivery_plan import safe_name
    from apilado.core.render.bouncing import Bounced
    from apilado.core.render.engine import Engine

    folders = folders_for(given.stacks, given.out)
    first, last = _bars(given.bars)

    def one(path: str) -> list[str]:
        with opened(path) as (stack, load, _):
            named = {layer.name: layer.id for layer in stack.layers}
            wanted = [named.get(name, name) for name in given.layer or ()]
            bounced = Bounced(
                what=given.what if not wanted else "layers",
                layers=tuple(wanted),
                duck="before" if given.before_duck else "after",
                extent="one-pass" if given.one_pass else "loop",
                first_bar=first,
                last_bar=last,
            )
            bounced.check(stack)
            name = f"{safe_name(stack.name)}-{safe_name(bounced.what_in_words(stack))}.wav"
            _free(folders[path], [name], force=given.force)
            audio, rate_hz = bounce_of(stack, bounced, load, Engine())
            return [_write(given, folders[path] / name, bounced_file(audio, rate_hz))]

    return _told(given, each(given.stacks, given.jobs, one))


def _bars(text: str) -> tuple[int, int]:
    """(first, last) of '3-4' or '3'; (0, 0) for all."""
    if not text:
        return 0, 0
    first, _, last = text.partition("-")
    if not first.isdigit() or not (last or first).isdigit():
        raise ApiladoError(f"--bars takes one bar or a run of bars, as 3 or 3-4, not '{text}'")
    return int(first), int(last or first)


def multisample(given: argparse.Namespace) -> int:
    """Writes instruments."""
    from pydantic import ValidationError

    from apilado.actions.delivery_plan import safe_name
    from apilado.actions.multisampling import MultisampleOptions, files
    from apilado.core.document.reading import explain
    from apilado.core.parameters import parameters_of
    from apilado.core.render.engine import Engine

    folders = folders_for(given.stacks, given.out)
    pitch = next(each for each in parameters_of(MultisampleOptions) if each.name == "lowest")

    def one(path: str) -> list[str]:
        meter = Meter(Path(path).stem, quiet=given.json)
        with opened(path) as (stack, load, _):
            layer = next((each.id for each in stack.layers if each.name == given.layer), given.layer)
            try:
                options = MultisampleOptions(
                    layer=layer,
                    lowest=pitch.parsed(given.lowest),
                    highest=pitch.parsed(given.highest),
                    every=given.every,
                    velocities=given.velocities,
                    turns=given.turns,
                    held_s=given.held,
                    loops=not given.no_loops,
                    bits=given.bits,
                    rate_hz=given.rate or stack.sample_rate,
                )
            except ValidationError as error:
                raise ApiladoError(f"the multisample is not valid: {explain(error)}") from None
            except ValueError as error:
                raise ApiladoError(f"a note {error}") from None
            _free(folders[path], [f"{safe_name(stack.name)}.sfz"], force=given.force)
            found = files(stack, options, load, Engine(), meter)
            written = [_write(given, folders[path] / name, content) for name, content, _ in found]
        meter.end()
        return written

    return _told(given, each(given.stacks, given.jobs, one))
