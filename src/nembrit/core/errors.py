"""Deliberate errors of the core. Their text may be shown to a pilot."""


class CoreError(Exception):
    """Something that the caller can put right; the message is a whole sentence for a person."""


class InputError(CoreError, ValueError):
    """Numbers or settings that cannot be used."""


class LogReadError(CoreError):
    """A log that cannot be read; the message names the row and the column, and what was expected."""


class NotEnoughData(CoreError):
    """The question cannot be answered from this recording; the message says what to fly."""
