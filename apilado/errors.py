"""The exceptions of Apilado.

    ApiladoError                     anything a user may be told; the message is a full sentence
    ├── InvalidDocument              a stack, or a value in it, that the model does not admit
    │   └── FutureVersion            written by a newer Apilado
    ├── InvalidEdit                  an edit that cannot be applied to this document
    ├── UnreadableFile               a file that is not what it should be (audio, MIDI, bundle, JSON)
    ├── NotFound                     a stack, an asset or a delivery that is not there
    ├── StorageFault                 the data folder cannot be read or written: full, locked, damaged, someone else's
    ├── ServerFault                  a fault of ours, told without its innards
    └── Overtaken                    a render that a newer one has made pointless; never shown

Messages say what was expected and what came. The web answers them once (web/app.py), the command line once (cli.py).
"""


class ApiladoError(Exception):
    """Base of all; str() is a sentence fit for the user."""


class InvalidDocument(ApiladoError):
    """A stack document, or a value in it, that the model does not admit."""


class FutureVersion(InvalidDocument):
    """The document was written by a newer version of Apilado."""


class InvalidEdit(ApiladoError):
    """The edit cannot be applied to this document."""


class UnreadableFile(ApiladoError):
    """The file is not what it should be."""


class NotFound(ApiladoError):
    """The named thing does not exist."""


class StorageFault(ApiladoError):
    """The data folder cannot be read or written as it should be."""


class ServerFault(ApiladoError):
    """Something went wrong that should not."""


class Overtaken(ApiladoError):
    """A newer render has made this one pointless."""
