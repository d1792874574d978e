"""Large files sent piece by piece, however large they are."""

import asyncio
from collections.abc import AsyncIterator
from typing import IO

from django.http import StreamingHttpResponse
from django.utils.http import content_disposition_header

_PIECE = 1024 * 1024


def sent_file(file: IO[bytes], *, name: str, media_type: str = "application/octet-stream") -> StreamingHttpResponse:
    """A file from its present place to its end; it is closed when it is sent, or when nobody takes it any more."""
    start = file.tell()
    size = file.seek(0, 2) - start
    file.seek(start)
    disposition = content_disposition_header(as_attachment=True, filename=name) or "attachment"
    headers = {"Content-Disposition": disposition, "Content-Length": str(size)}
    return StreamingHttpResponse(_pieces(file), content_type=media_type, headers=headers)


async def _pieces(file: IO[bytes]) -> AsyncIterator[bytes]:
    try:
        while piece := await asyncio.to_thread(file.read, _PIECE):
            yield piece
    finally:
        file.close()
