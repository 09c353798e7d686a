"""Commands of a data folder: import, store, backup, restore; and the demo bundles."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from apilado.commands.meter import Meter
from apilado.errors import ApiladoError

if TYPE_CHECKING:
    from apilado.store.examining import Examined

SOUNDS = (".wav", ".aif", ".aiff", ".flac", ".ogg", ".oga", ".mp3")


def bring(given: argparse.Namespace) -> int:
    """Puts stacks on the Shelf, and sounds, those in folders too, into the Quarry; 2 where one was refused."""
    from apilado.actions.stacks import import_stack
    from apilado.actions.workspace import Workspace

    files = [file for path in given.files for file in _files_in(path)]
    contents = {path: path.read_bytes() for path in files if path.suffix.lower() not in SOUNDS}
    workspace, refused = Workspace(given.data), 0
    meter = Meter()
    for number, path in enumerate(files):
        if len(files) > 1:
            meter(number / len(files), str(path))
        try:
            if path in contents:
                revision = import_stack(workspace, contents[path], path.name)
                said = f"'{revision.stack.name}' is on the shelf as stack {revision.stack_id}"
            else:
                workspace.assets.add(path.read_bytes(), path.name)
                said = f"'{path.name}' is in the Quarry"
            meter.end()
            print(said)
        except ApiladoError as error:
            if len(files) == 1:
                workspace.close()
                raise
            refused += 1
            meter.end()
            print(f"apilado: {error}", file=sys.stderr)
    workspace.close()
    return 2 if refused else 0


def _files_in(path: Path) -> list[Path]:
    """A file, or the sounds of a folder and of those in it."""
    if not path.is_dir():
        return [path]
    return sorted(file for file in path.rglob("*") if file.suffix.lower() in SOUNDS and file.is_file())


def store(given: argparse.Namespace) -> int:
    """Tells what a data folder holds and whether it is whole; 1 where it is not."""
    from apilado.actions.storing import mend
    from apilado.actions.workspace import DATABASE_NAME, Workspace
    from apilado.store.examining import examine
    from apilado.store.tidying import rule_in_words, tidy

    meter, said = Meter(quiet=given.json), list[str]()
    if given.tidy:
        workspace = Workspace(given.data)
        said.append(f"tidied: {tidy(workspace.database, given.history_days).in_words()}")
        workspace.close()
    if given.mend:
        mended, found = mend(given.data, meter)
        said += [f"mended: {fault.where}: {fault.said}" for fault in mended]
    else:
        found = examine(given.data, DATABASE_NAME, meter, every=given.all)
    meter.end()
    if given.json:
        print(json.dumps({**found.as_data(), "done": said}, indent=1, ensure_ascii=False))
    else:
        print("\n".join([*said, *_lines(found), rule_in_words(given.history_days)]))
    return int(bool(found.faults))


def _lines(found: Examined) -> list[str]:
    lines = [f"{name:22} {count:10}" for name, count in found.counts.items()]
    lines += [f"{name:22} {size / 2**20:10.1f} MiB" for name, size in found.bytes.items()]
    lines += [f"fault  {fault.where}: {fault.said}{' (--mend)' if fault.mendable else ''}" for fault in found.faults]
    return [*lines, *([] if found.faults else ["nothing is wrong"])]


def backup(given: argparse.Namespace) -> int:
    """Writes one file of everything, while the program may work; 1 where audio was missing."""
    from apilado.actions.storing import backup as backed_up

    if given.file.exists() and not given.force:
        raise ApiladoError(f"'{given.file}' is there already; --force writes over it")
    meter = Meter()
    done = backed_up(given.data, given.file, meter)
    meter.end()
    print(f"{given.file}: the database and {done.files} audio files, {done.bytes / 2**20:.1f} MiB; no deliveries")
    for name in done.missing:
        print(f"apilado: the audio file '{name}' has gone: it is not in the backup", file=sys.stderr)
    return int(bool(done.missing))


def restore(given: argparse.Namespace) -> int:
    """Makes a data folder from a backup."""
    from apilado.actions.storing import restore as restored

    meter = Meter()
    found = restored(given.file, given.data, meter)
    meter.end()
    stacks, sounds = found.counts["stacks"], found.counts["sounds"]
    said = f"{stacks} stack{'' if stacks == 1 else 's'} and {sounds} sound{'' if sounds == 1 else 's'}"
    print(f"'{given.data}' holds {said}")
    return 0


def demo_data(given: argparse.Namespace) -> int:
    """Writes the demo bundles."""
    from apilado.actions.delivery_plan import safe_name
    from apilado.core.formats.bundles import write_bundle
    from apilado.demo.starts import demo_bundles
    from apilado.store.assets import write_whole

    given.folder.mkdir(parents=True, exist_ok=True)
    for bundle in demo_bundles():
        path = given.folder / f"{safe_name(bundle.stack.name).lower()}.apilado"
        write_whole(path, write_bundle(bundle))
        print(path)
    return 0
