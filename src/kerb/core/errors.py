"""Every error Kerb raises on purpose. Each message names the file or input and the reason, in words for an analyst.

Tree::

    KerbError
    ├── InputError          a file or value that cannot be used
    │   ├── FormatError     a file that is not what it says it is
    │   └── TruncatedError  a file that ends too early; carries how much of it is good
    ├── NotDeterminable     an estimate that the data do not support
    ├── OutputError         a file that cannot or must not be written
    ├── JobError            a job folder that cannot be opened or saved
    └── Cancelled           the analyst stopped the work
"""

from __future__ import annotations


class KerbError(Exception):
    """Base of all errors with a message for the analyst."""


class InputError(KerbError):
    """A file or a value cannot be used as given."""


class FormatError(InputError):
    """A file is damaged or not of the format it claims."""


class TruncatedError(InputError):
    """A file ends before its header says; ``good`` points can still be read."""

    def __init__(self, message: str, good: int, claimed: int) -> None:
        super().__init__(message)
        self.good = good
        self.claimed = claimed


class NotDeterminable(KerbError):
    """The data do not support the estimate; the message says why."""


class OutputError(KerbError):
    """A file cannot be written, or exists and must not be overwritten."""


class JobError(KerbError):
    """A job folder cannot be opened or saved."""


class Cancelled(KerbError):
    """The analyst stopped the work; nothing half-done is left."""

    def __init__(self, message: str = "stopped") -> None:
        super().__init__(message)
