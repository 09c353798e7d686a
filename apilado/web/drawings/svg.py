"""A little SVG: elements as text, attributes escaped."""

from __future__ import annotations

import base64
import struct
import zlib
from collections.abc import Iterable
from html import escape

import numpy as np
from numpy.typing import NDArray


def tag(name: str, *children: str, **attributes: object) -> str:
    """An element; `class_` is class, underscores are hyphens, None leaves an attribute out. Children are markup."""
    parts = []
    for key, value in attributes.items():
        if value is not None:
            shown = f"{value:.1f}".removesuffix(".0") if isinstance(value, float) else str(value)
            parts.append(f' {key.rstrip("_").replace("_", "-")}="{escape(shown)}"')
    return f"<{name}{''.join(parts)}>{''.join(children)}</{name}>"


def label(content: str, x: float, y: float, **attributes: object) -> str:
    """A text; its content is escaped."""
    return tag("text", escape(content), x=x, y=y, **attributes)


def points(pairs: Iterable[tuple[float, float]]) -> str:
    """The value of a `points` attribute."""
    return " ".join(f"{x:.1f},{y:.1f}" for x, y in pairs)


def image_uri(pixels: NDArray[np.uint8]) -> str:
    """A PNG of RGBA pixels, shape (rows, columns, 4), as a data URI."""
    rows, columns, _ = pixels.shape
    raw = b"".join(b"\x00" + row.tobytes() for row in pixels)

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", columns, rows, 8, 6, 0, 0, 0)
    png = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(raw, 6)) + chunk(b"IEND", b"")
    return "data:image/png;base64," + base64.b64encode(png).decode()
