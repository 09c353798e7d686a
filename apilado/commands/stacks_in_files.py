"""Stacks in files, as commands take them: a .json with its assets beside it, or a bundle."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from apilado.errors import ApiladoError, NotFound, UnreadableFile

if TYPE_CHECKING:
    from apilado.core.document.stack import Stack
    from apilado.core.dsp.audio import Audio
    from apilado.core.formats.bundles import Asset
    from apilado.core.sources.base import AssetLoader

T = TypeVar("T")
MOST_JOBS = 16


@contextlib.contextmanager
def opened(path_text: str) -> Iterator[tuple[Stack, AssetLoader, tuple[Asset, ...]]]:
    """The stack of a .json or a bundle, a loader of its assets, and the assets."""
    from apilado.core.document.reading import stack_from_json
    from apilado.core.formats.audio_files import EXTENSIONS, read_at
    from apilado.core.formats.bundles import Asset, read_bundle

    path = Path(path_text)
    content = path.read_bytes()
    held: dict[str, tuple[bytes, str]] = {}
    if content[:4] == b"PK\x03\x04" or path.suffix.lower() in (".apilado", ".zip"):
        bundle = read_bundle(content, path.name)
        stack = bundle.stack
        held = {asset.sha256: (asset.content, f"{asset.sha256}.{asset.extension}") for asset in bundle.assets}
    else:
        stack = stack_from_json(content)
        for sha in stack.asset_hashes():
            files = [path.parent / "assets" / f"{sha}.{extension}" for extension in EXTENSIONS]
            found = next((file for file in files if file.is_file()), None)
            if found is None:
                raise UnreadableFile(f"'{path.name}' needs assets/{sha[:12]}… beside it")
            data = found.read_bytes()
            if hashlib.sha256(data).hexdigest() != sha:
                raise UnreadableFile(f"the content of '{found.name}' does not match its SHA-256")
            held[sha] = (data, found.name)

    def load(sha: str, rate_hz: int) -> Audio:
        if sha not in held:
            raise NotFound(f"there is no asset {sha[:12]}…")
        return read_at(*held[sha], rate_hz)

    yield stack, load, tuple(Asset(sha, Path(name).suffix[1:], data) for sha, (data, name) in held.items())


def each(stacks: Sequence[str], jobs: int, do: Callable[[str], T]) -> list[T | ApiladoError]:
    """What is made of each stack, so many at a time; where it cannot be made, why.

    Raises:
        ApiladoError: there is no such number of jobs.
    """
    if not 1 <= jobs <= MOST_JOBS:
        raise ApiladoError(f"--jobs runs from 1 to {MOST_JOBS}; {jobs} was not taken")

    def tried(path: str) -> T | ApiladoError:
        try:
            return do(path)
        except ApiladoError as error:
            return error
        except OSError as error:
            return UnreadableFile(f"'{path}' cannot be read: {error.strerror or error}")

    with ThreadPoolExecutor(jobs) as pool:
        return list(pool.map(tried, stacks))


def folders_for(stacks: Sequence[str], out: Path) -> dict[str, Path]:
    """Where the files of each stack go: into the folder itself, or one of its own each where there are several.

    Raises:
        ApiladoError: two would go into the same one.
    """
    if len(stacks) == 1:
        return {stacks[0]: out}
    found = {path: out / Path(path).stem for path in stacks}
    if len(set(found.values())) < len(stacks):
        raise ApiladoError("two of these stacks have the same name: they would be written into the same folder")
    return found
