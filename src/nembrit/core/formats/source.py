"""Bytes of a file on their way in: readers that can, take them block by block and never hold the whole."""

import io
from collections.abc import Iterator
from typing import BinaryIO

HEAD_BYTES = 262_144


class Source:
    """A file to read. `head` is its beginning; the rest comes when asked for, once."""

    def __init__(self, content: bytes | BinaryIO) -> None:
        self._stream: BinaryIO = io.BytesIO(content) if isinstance(content, bytes) else content
        self.head = self._read(HEAD_BYTES)

    def _read(self, n_bytes: int) -> bytes:
        """That many bytes, fewer only at the end; streams may hand over less at a time."""
        parts, wanted = [], n_bytes
        while wanted > 0 and (part := self._stream.read(wanted)):
            parts.append(part)
            wanted -= len(part)
        return b"".join(parts)

    def all(self) -> bytes:
        """The whole content."""
        return self.head + self._stream.read()

    def lines(self, block_bytes: int) -> Iterator[bytes]:
        """Blocks of about that many bytes, each of whole lines."""
        rest = self.head
        while block := self._read(block_bytes):
            cut = block.rfind(b"\n") + 1
            if cut == 0:  # a line longer than a block
                rest += block
                block_bytes *= 2
                continue
            yield b"".join((rest, memoryview(block)[:cut]))
            rest = block[cut:]
        if rest:
            yield rest
