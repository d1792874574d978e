"""`python -m nembrit.recorder DIR`: record every folder in DIR that wants it, one recorder at a time, server or not."""

import os
import sys
import threading
import time
from pathlib import Path

from nembrit.recorder import folder as files
from nembrit.recorder.record import Recording

_LOOK_S = 0.25


def main(where: str) -> int:
    os.umask(0o077)
    folder = Path(where)
    folder.mkdir(parents=True, exist_ok=True)
    held = _alone_in(folder)
    if held is None:
        return 0  # another recorder is at work already
    alone = threading.Event()
    threading.Thread(target=_watch_parent, args=(alone,), daemon=True).start()
    going: dict[str, Recording] = {}
    while True:
        for path in sorted(folder.iterdir()):
            if path.name not in going and _is_wanted(path):
                going[path.name] = Recording(path)
                going[path.name].start()
        going = {name: one for name, one in going.items() if one.is_alive()}
        if alone.is_set() and not going:  # while something is recorded the server may come and go
            return 0
        time.sleep(_LOOK_S)


def _is_wanted(path: Path) -> bool:
    return (path / files.WANTED).exists() and not (path / files.STOP).exists() and not (path / files.ENDED).exists()


def _alone_in(folder: Path) -> object | None:
    """The lock of the folder, held as long as this process lives; None where another has it."""
    file = (folder / "recorder-lock").open("a+")
    try:
        if os.name == "nt":
            import msvcrt

            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined]
        else:
            import fcntl

            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        file.close()
        return None
    return file


def _watch_parent(alone: threading.Event) -> None:
    """Standard input ends with the server."""
    while os.read(0, 1):
        pass
    alone.set()


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1]))
