"""Bundles: a stack, its casts and its assets in a zip: `stack.json`, `casts/NN.json`, `assets/SHA256.EXTENSION`."""

from __future__ import annotations

import hashlib
import io
import re
import stat
import zipfile
import zlib
from collections.abc import Iterable
from dataclasses import dataclass

from apilado.core.document.cast import MOST_CASTS, Cast
from apilado.core.document.reading import cast_from_json, cast_to_json, stack_from_json, stack_to_json
from apilado.core.document.stack import Stack
from apilado.core.formats.audio_files import EXTENSIONS, LARGEST_BYTES
from apilado.errors import UnreadableFile

STACK_NAME = "stack.json"
CAST_NAME = re.compile(r"casts/[0-9]{2}\.json")
ASSET_NAME = re.compile(r"assets/([0-9a-f]{64})\.([a-z0-9]{2,4})")
LARGEST_STACK_BYTES = 8 * 2**20
LARGEST_TOTAL_BYTES = 2 * LARGEST_BYTES
MOST_ENTRIES = 64 + MOST_CASTS
FIXED_DATE = (1980, 1, 1, 0, 0, 0)
"""The same stack makes the same bundle, whenever it is written."""


@dataclass(frozen=True)
class Asset:
    """One audio file as it came in."""

    sha256: str
    extension: str
    content: bytes


@dataclass(frozen=True)
class Bundle:
    """A stack, its casts, and all the assets that they need."""

    stack: Stack
    assets: tuple[Asset, ...]
    casts: tuple[Cast, ...] = ()


def write_bundle(bundle: Bundle) -> bytes:
    """The bundle as a zip."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(_entry(STACK_NAME), stack_to_json(bundle.stack))
        for number, cast in enumerate(bundle.casts):
            archive.writestr(_entry(f"casts/{number:02d}.json"), cast_to_json(cast))
        for asset in bundle.assets:
            archive.writestr(_entry(f"assets/{asset.sha256}.{asset.extension}"), asset.content)
    return buffer.getvalue()


def _entry(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, FIXED_DATE)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    return info


def read_bundle(content: bytes, file_name: str) -> Bundle:
    """A bundle from a zip; nothing is ever written to a path that the zip names.

    Raises:
        UnreadableFile: no zip, or one that holds anything else than a bundle: other paths, links, too much, a
            wrong or missing asset.
        InvalidDocument: its stack is not valid.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            entries = archive.infolist()
            _check_entries(entries, file_name)
            names = {entry.filename for entry in entries}
            if STACK_NAME not in names:
                raise UnreadableFile(f"'{file_name}' is not a bundle: it holds no {STACK_NAME}")
            stack = stack_from_json(_content(archive, STACK_NAME, LARGEST_STACK_BYTES, file_name))
            kept = sorted(name for name in names if CAST_NAME.fullmatch(name))
            casts = [cast_from_json(_content(archive, name, LARGEST_STACK_BYTES, file_name), name) for name in kept]
            assets = []
            for name in sorted(names - {STACK_NAME, *kept}):
                assets.append(_asset(name, _content(archive, name, LARGEST_BYTES, file_name), file_name))
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError, OSError, ValueError) as error:
        raise UnreadableFile(f"'{file_name}' is not a bundle that can be read: {error}") from None
    except zlib.error:
        raise UnreadableFile(f"'{file_name}' is not a bundle that can be read: its data are damaged") from None
    needed = assets_needed(stack, casts)
    held = {asset.sha256 for asset in assets}
    for sha in needed:
        if sha not in held:
            raise UnreadableFile(f"'{file_name}' lacks an asset that its stack needs: {sha[:12]}…")
    return Bundle(stack, tuple(asset for asset in assets if asset.sha256 in needed), tuple(casts))


def assets_needed(stack: Stack, casts: Iterable[Cast]) -> tuple[str, ...]:
    """The SHA-256 of every asset that a stack and its casts need, each once."""
    return tuple(dict.fromkeys(sha for each in (stack, *[c.stack for c in casts]) for sha in each.asset_hashes()))


def _check_entries(entries: list[zipfile.ZipInfo], file_name: str) -> None:
    if len(entries) > MOST_ENTRIES:
        raise UnreadableFile(f"'{file_name}' holds {len(entries)} files; a bundle has at most {MOST_ENTRIES}")
    total = 0
    seen = set()
    for entry in entries:
        name = entry.filename
        if stat.S_ISLNK(entry.external_attr >> 16):
            raise UnreadableFile(f"'{file_name}' holds a symbolic link, '{name}'; a bundle has plain files only")
        if name != STACK_NAME and not CAST_NAME.fullmatch(name) and not ASSET_NAME.fullmatch(name):
            raise UnreadableFile(
                f"'{file_name}' holds '{name}'; a bundle has {STACK_NAME}, casts/NN.json and assets/SHA256.ext only"
            )
        if name in seen:
            raise UnreadableFile(f"'{file_name}' holds '{name}' twice")
        if entry.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
            raise UnreadableFile(
                f"'{file_name}' holds '{name}' packed in a way that is not read; stored and deflated are"
            )
        seen.add(name)
        total += entry.file_size
    if total > LARGEST_TOTAL_BYTES:
        raise UnreadableFile(f"'{file_name}' unpacks to {total >> 20} MiB; the most is {LARGEST_TOTAL_BYTES >> 20} MiB")


def _content(archive: zipfile.ZipFile, name: str, most: int, file_name: str) -> bytes:
    """The bytes of an entry, never more than `most`, whatever its header says."""
    with archive.open(name) as entry:
        content = entry.read(most + 1)
    if len(content) > most:
        raise UnreadableFile(f"'{file_name}' unpacks to too much: '{name}' has over {most >> 20} MiB")
    return content


def _asset(name: str, content: bytes, file_name: str) -> Asset:
    match = ASSET_NAME.fullmatch(name)
    sha, extension = (match[1], match[2]) if match else ("", "")
    if extension not in EXTENSIONS:
        raise UnreadableFile(f"'{file_name}' holds an asset of an unknown kind, .{extension}")
    if hashlib.sha256(content).hexdigest() != sha:
        raise UnreadableFile(f"'{file_name}' holds an asset whose content does not match its SHA-256: {sha[:12]}…")
    return Asset(sha, extension, content)
