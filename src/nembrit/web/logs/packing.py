"""Packs samples without loss: integers as differences, bytes of like weight together, then zstd."""

import numpy as np
import zstandard

from nembrit.core.errors import InputError
from nembrit.core.types import AnyArray, FloatArray

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


def pyramid_of(values: FloatArray) -> AnyArray:
    """Lowest and highest of every 64 values, float32, shape (2 × n_groups,): low, high, low, high …"""
    n_groups = -(-values.size // PYRAMID_SAMPLES)
    padded = np.full(n_groups * PYRAMID_SAMPLES, np.nan)
    padded[: values.size] = values
    groups = padded.reshape(n_groups, PYRAMID_SAMPLES)
    low, high = np.fmin.reduce(groups, axis=1), np.fmax.reduce(groups, axis=1)
    return np.stack((low, high), axis=1).astype(np.float32).ravel()
