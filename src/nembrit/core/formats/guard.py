"""Libraries that read files for us may fail in their own ways; here they fail in ours."""

from collections.abc import Iterator
from contextlib import contextmanager

import polars as pl

from nembrit.core.errors import LogReadError


@contextmanager
def readable(what: str) -> Iterator[None]:
    """Turn whatever the table library raises, a panic included, into a LogReadError about `what`."""
    try:
        yield
    except (pl.exceptions.PolarsError, OSError, ValueError) as error:
        raise LogReadError(f"{what} cannot be read: {str(error)[:120]}") from None
    except BaseException as error:
        # a panic of the library's compiled part is no Exception; fuzzing found some in damaged files
        if type(error).__name__ != "PanicException":
            raise
        raise LogReadError(f"{what} cannot be read: it is damaged inside") from None
