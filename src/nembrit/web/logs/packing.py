"""Packs samples without loss: integers as differences, bytes of like weight together, then zstd."""

import numpy as np
import zstandard

from nembrit.core.errors import InputError
from nembrit.core.types import AnyArray

CHUNK_SAMPLES = 65_536
PYRAMID_SAMPLES = 64
_DTYPES = ("int16", "int32", "int64", "float32", "float64")
_LEVEL = 3


def pack(samples: AnyArray) -> bytes:
    """Compress one chunk of samples, shape (n,)."""
    if samples.dtype.name not in _DTYPES:
        raise InputError(f"samples of type {samples.dtype} cannot be kept")
    flat = np.ascontiguousarray(samples)
    if flat.dtype.kind == "i":
        flat = np.diff(flat, prepend=flat.dtype.type(0))  # wraps around, and unwraps the same way
    shuffled = flat.view(np.uint8).reshape(flat.size, flat.dtype.itemsize).T.tobytes()
    return zstandard.ZstdCompressor(level=_LEVEL).compress(shuffled)


def unpack(content: bytes, *, dtype: str, n_samples: int) -> AnyArray:
    """The samples that `pack` was given, shape (n,)."""
    kind = np.dtype(dtype)
    plain = zstandard.ZstdDecompressor().decompress(bytes(content), max_output_size=n_samples * kind.itemsize)
    shuffled = np.frombuffer(plain, dtype=np.uint8).reshape(kind.itemsize, n_samples)
    samples: AnyArray = np.ascontiguousarray(shuffled.T).view(kind).ravel()
    return np.cumsum(samples, dtype=kind) if kind.kind == "i" else samples


def extremes_of(samples: AnyArray) -> AnyArray:
    """Lowest and highest of every 64 samples, in their own type, shape (n_groups, 2); missing ones are ignored."""
    starts = np.arange(0, samples.size, PYRAMID_SAMPLES)
    return np.stack((np.fmin.reduceat(samples, starts), np.fmax.reduceat(samples, starts)), axis=1)
