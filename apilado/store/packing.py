"""How documents lie in the store: one whole now and then, the others as what differs from it.

Documents of one stack differ in a few values. Deflate (RFC 1951) takes a preset dictionary (RFC 1950, section 2.2): a
document that is packed with an earlier one as its dictionary is as small as what differs. A dictionary reaches back
32 KiB, so a document is packed piece by piece, each with that part of the other as its dictionary that lies around the
same place: what was put in or taken out before it may have moved it by some kilobytes. A piece that stands there as it
is, is named by its place.
"""

from __future__ import annotations

import struct
import zlib

from apilado.errors import InvalidDocument

LEVEL = 6
PIECE_BYTES, AROUND_BYTES = 16 * 1024, 8 * 1024
"""Of a piece, and how much of the other document before and behind the same place is its dictionary."""
NUMBER = struct.Struct("<iI")
"""Before each piece: where it stands in the other document, or less than nothing where it is packed; its bytes."""
PACKED = -1
WORTH_IT = 4
"""A document is packed against another where that makes it so many times smaller than alone."""


def packed(document: str, base: str = "") -> bytes:
    """A document as it lies in the store.

    Args:
        base: the document that it is packed against, if any.
    """
    content = document.encode()
    if not base:
        return zlib.compress(content, LEVEL)
    other, pieces = base.encode(), []
    for start in range(0, max(1, len(content)), PIECE_BYTES):
        piece = content[start : start + PIECE_BYTES]
        there = other.find(piece, max(0, start - AROUND_BYTES), start + PIECE_BYTES + AROUND_BYTES)
        if there >= 0:
            pieces.append(NUMBER.pack(there, len(piece)))
            continue
        squeezer = zlib.compressobj(LEVEL, zdict=_around(other, start))
        squeezed = squeezer.compress(piece) + squeezer.flush()
        pieces += [NUMBER.pack(PACKED, len(squeezed)), squeezed]
    return b"".join(pieces)


def unpacked(content: str | bytes, base: str = "") -> str:
    """A document from the store; one that was kept as it is, as it is.

    Raises:
        InvalidDocument: it is damaged.
    """
    if isinstance(content, str):
        return content
    try:
        if not base:
            return _whole(zlib.decompressobj(), content).decode()
        other, at, pieces = base.encode(), 0, list[bytes]()
        while at < len(content):
            there, size = NUMBER.unpack_from(content, at)
            at += NUMBER.size
            if there != PACKED:
                pieces.append(other[there : there + size])
                continue
            opener = zlib.decompressobj(zdict=_around(other, PIECE_BYTES * len(pieces)))
            pieces.append(_whole(opener, content[at : at + size]))
            at += size
        return b"".join(pieces).decode()
    except (zlib.error, struct.error, UnicodeDecodeError) as error:
        raise InvalidDocument(f"the document in the store is damaged: {error}") from None


def _around(other: bytes, start: int) -> bytes:
    """What a piece that starts at a place is packed against; never nothing, which would be no dictionary."""
    return other[max(0, start - AROUND_BYTES) : start + PIECE_BYTES + AROUND_BYTES] or b"{"


def _whole(opener: zlib._Decompress, content: bytes) -> bytes:
    """
    Raises:
        InvalidDocument: it is cut short.
    """
    found = opener.decompress(content) + opener.flush()
    if not opener.eof:
        raise InvalidDocument("the document in the store is damaged: it is cut short")
    return found


def is_worth_it(against_another: int, alone: int) -> bool:
    """Whether a document is better packed against another than as a base of its own, by the bytes of both."""
    return WORTH_IT * against_another <= alone
