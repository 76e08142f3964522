"""The errors a user can cause.

    GelassenError
    ├── InputError (also a ValueError)   a call or a value that cannot be right
    ├── FileError                        a file that is missing, broken or not what it should be
    ├── BenchError                       a machine that does not do what it was asked to do
    └── InUseError                       something that another process uses now

A weakness of the data is not an error: it becomes a caution of the result.
"""


class GelassenError(Exception):
    """Base of every error that a user can cause; its text says what to do next."""


class InputError(GelassenError, ValueError):
    """A call or a value that cannot be right."""


class FileError(GelassenError):
    """A file or folder that is missing, broken or not what it should be."""


class BenchError(GelassenError):
    """A machine that does not do what it was asked to do."""


class InUseError(GelassenError):
    """Something that another process uses now."""
