"""How documents lie in the store: one whole now and then, the others as what differs from it.

Documents of one stack differ in a few values. Deflate (RFC 1951) takes a preset dictionary (RFC 1950, section 2.2): a
document that is packed with an earlier one as its dictionary is as small as what differs. A dictionary reaches back
32 KiB, so that of a longer document only the last part helps; it is then still packed as well as deflate can.
"""

from __future__ import annotations

import zlib

from apilado.errors import InvalidDocument

LEVEL = 6
REACH_BYTES = 32 * 1024
WORTH_IT = 4
"""A document is packed against another where that makes it so many times smaller than alone."""


def packed(document: str, base: str = "") -> bytes:
    """A document as it lies in the store.

    Args:
        base: the document that it is packed against, if any.
    """
    squeezer = zlib.compressobj(LEVEL, zdict=base.encode()[-REACH_BYTES:]) if base else zlib.compressobj(LEVEL)
    return squeezer.compress(document.encode()) + squeezer.flush()


def unpacked(content: str | bytes, base: str = "") -> str:
    """A document from the store; one that was kept as it is, as it is.

    Raises:
        InvalidDocument: it is damaged.
    """
    if isinstance(content, str):
        return content
    opener = zlib.decompressobj(zdict=base.encode()[-REACH_BYTES:]) if base else zlib.decompressobj()
    try:
        document = (opener.decompress(content) + opener.flush()).decode()
    except (zlib.error, UnicodeDecodeError) as error:
        raise InvalidDocument(f"the document in the store is damaged: {error}") from None
    if not opener.eof:
        raise InvalidDocument("the document in the store is damaged: it is cut short")
    return document


def is_worth_it(against_another: bytes, alone: bytes) -> bool:
    """Whether a document is better packed against another than as a base of its own."""
    return WORTH_IT * len(against_another) <= len(alone)
