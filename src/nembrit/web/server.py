"""`demo` and `serve`: prepare the data folder, start the worker, serve pages on this computer only.

`backup` and `restore` copy the whole workshop out and back, also while it is served.
"""

import argparse
import os
import signal
import socket
import sqlite3
import sys
from pathlib import Path
from typing import NoReturn

import platformdirs

from nembrit.web.pages import serve_pages
from nembrit.web.processes import Beside

DEFAULT_PORT = 8460


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="run.py")
    parser.add_argument("command", choices=("demo", "serve", "backup", "restore"))
    parser.add_argument("file", type=Path, nargs="?", help="for backup and restore")
    parser.add_argument("--port", type=int, default=DEFAULT_PORT)
    parser.add_argument("--data", type=Path, metavar="DIR")
    parser.add_argument("--lan", action="store_true", help="also serve the local network: phones need a passphrase")
    parser.add_argument(
        "--new-passphrase", action="store_true", help="with --lan: make a new passphrase; phones already let in stay in"
    )
    options = parser.parse_args(arguments)
    os.umask(0o077)  # what lies in the folder is its owner's alone
    folder = _writable(options.data or _default_folder(options.command))
    if options.command in ("backup", "restore"):
        return _copy(options.command, options.file, folder)
    if options.lan and options.command not in ("serve", "demo"):
        _stop("--lan belongs to serve or demo.")
    listener = _listen(options.port, "0.0.0.0" if options.lan else "127.0.0.1")
    os.environ["NEMBRIT_DATA"] = str(folder)
    os.environ["NEMBRIT_LAN_HOSTS"] = ""
    if options.lan:
        _invite(folder, options.port, is_new=options.new_passphrase)
    os.environ["DJANGO_SETTINGS_MODULE"] = "nembrit.web.settings"
    signal.signal(signal.SIGTERM, _interrupt)
    held = _alone_in(folder)
    try:
        _prepare(options.command, folder)
        _serve(listener, folder)
    except KeyboardInterrupt:
        pass
    except _unusable() as error:
        _stop(_why_unusable(error, folder))
    finally:
        held.close()
    return 0


def _alone_in(folder: Path) -> sqlite3.Connection:
    """Hold the folder for this server; the lock goes with the process, however it ends."""
    held = sqlite3.connect(folder / "in-use", timeout=2, isolation_level=None)
    try:
        held.execute("BEGIN EXCLUSIVE")
    except sqlite3.Error:
        held.close()
        _stop(f"The workshop in {folder} is already being served: use that one, or choose another folder with --data DIR.")
    return held


def _unusable() -> tuple[type[Exception], ...]:
    from django.db.utils import DatabaseError

    from nembrit.web.common.backup import BackupError

    return DatabaseError, sqlite3.Error, BackupError, OSError


def _why_unusable(error: Exception, folder: Path) -> str:
    from nembrit.web.common.backup import BackupError
    from nembrit.web.common.database import sentence_of

    if isinstance(error, BackupError):
        return f"The workshop in {folder} cannot be opened: {error}. Nothing was changed."
    known = sentence_of(error)
    return known[1] if known else f"The workshop in {folder} cannot be opened: {error}."


def _copy(command: str, file: Path | None, folder: Path) -> int:
    """Make or restore a copy of the workshop in a data folder."""
    if file is None:
        _stop(f"Say which file: run.py {command} FILE [--data DIR].")
    if command == "restore" and not file.is_file():
        _stop(f"There is no file {file}.")
    if command == "backup" and not (folder / "workshop.sqlite3").exists():
        _stop(f"There is no workshop in {folder}: choose its folder with --data DIR.")
    os.environ["NEMBRIT_DATA"] = str(folder)
    os.environ["DJANGO_SETTINGS_MODULE"] = "nembrit.web.settings"
    import django
    from django.core.management import call_command

    django.setup()
    from nembrit.web.common import backup, database
    from nembrit.web.common.restore import restore_backup

    try:
        if command == "backup":
            print(f"Copied and verified: {backup.make_backup(file.resolve())}")
        else:
            database.lay_out(folder / "workshop.sqlite3")
            call_command("migrate", verbosity=0, interactive=False)
            print(f"Restored. The state before is kept as {restore_backup(file.resolve())}")
    except backup.BackupError as error:
        _stop(f"{error}.")
    return 0


def _default_folder(command: str) -> Path:
    name = "nembrit-demo" if command == "demo" else "nembrit"
    return platformdirs.user_data_path(name, appauthor=False)


def _writable(folder: Path) -> Path:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        _owner_only(folder)
        probe = folder / ".nembrit-probe"
        probe.write_text("")
        probe.unlink()
    except OSError as error:
        _stop(f"The data folder {folder} cannot be written to ({error.strerror}): choose another with --data DIR.")
    return folder.resolve()


def _owner_only(folder: Path) -> None:
    """Nobody else on this computer may read the workshop, nor what earlier versions left readable."""
    for path in (folder, *folder.rglob("*")):
        mode = 0o700 if path.is_dir() else 0o600
        if not path.is_symlink() and path.stat().st_mode & 0o077:
            path.chmod(mode)


def _invite(folder: Path, port: int, *, is_new: bool) -> None:
    """Say where phones come in, and the passphrase when it is made."""
    os.environ["NEMBRIT_LAN_HOSTS"] = ",".join(_own_addresses())
    from nembrit.web.common.passphrase import has_passphrase, new_passphrase

    hosts = os.environ["NEMBRIT_LAN_HOSTS"].split(",")
    if not hosts[0]:
        _stop("This computer has no address in a local network: connect it, or serve without --lan.")
    print(f"In the local network: http://{hosts[0]}:{port}/ (also as a picture on the page “Phones”)")
    if is_new or not has_passphrase(folder):
        print(f"The passphrase for phones, shown only now: {new_passphrase(folder)}")
    else:
        print("The passphrase is the one shown before; --new-passphrase makes another.")
    print("Plain http: anyone in the network can read along. Use a network that you trust.")


def _own_addresses() -> list[str]:
    """This computer's address in the local network; nothing is sent to find it."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        try:
            probe.connect(("192.0.2.1", 9))  # a documentation address (RFC 5737): a datagram socket only looks up its route
            return [str(probe.getsockname()[0])]
        except OSError:
            return []


def _listen(port: int, host: str = "127.0.0.1") -> socket.socket:
    if not 1 <= port <= 65535:
        _stop(f"A port is a number from 1 to 65535, not {port}.")
    # the protocol is named because only then small answers are sent without waiting for more
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except OSError:
        _stop(f"Port {port} is busy (is Nembrit running already?): stop the other program, or choose another with --port N.")
    return listener


def _stop(sentence: str) -> NoReturn:
    print(sentence, file=sys.stderr)
    raise SystemExit(2)


def _interrupt(signum: int, frame: object) -> None:
    raise KeyboardInterrupt


def _prepare(command: str, folder: Path) -> None:
    import django
    from django.core.management import call_command

    unfinished, workshop = folder / "demo-unfinished", folder / "workshop.sqlite3"
    if unfinished.exists() and command == "demo":  # an interrupted first start is begun again
        for path in folder.glob("workshop.sqlite3*"):
            path.unlink()
    elif unfinished.exists():  # whoever serves it makes it a workshop, as far as it was built: nothing is emptied any more
        unfinished.unlink()
        print("The demo in this folder was never finished. What exists is kept; `run.py demo` no longer starts it again.")
    if command == "demo" and not workshop.exists():
        unfinished.touch()
    django.setup()
    from nembrit.web.common import backup, database
    from nembrit.web.intake.arrivals import forget_strays

    if workshop.exists() and workshop.stat().st_size:
        backup.check_version(workshop)
    database.lay_out(workshop)
    call_command("migrate", verbosity=0, interactive=False)
    backup.clean_up()
    forget_strays()
    if unfinished.exists():
        from nembrit.demo.scenario import build_demo

        build_demo(tell=lambda sentence: print(sentence, flush=True))
        unfinished.unlink()


def _serve(listener: socket.socket, folder: Path) -> None:
    """Pages from two processes where the platform lets them share a socket: one's pages never wait for the other's."""
    listener.listen(128)  # who comes before the server runs waits for it
    beside = [Beside("nembrit.web.manage", "worker"), Beside("nembrit.recorder", str(folder / "telemetry"), may_outlive=True)]
    if os.name != "nt":
        beside.append(Beside("nembrit.web.pages", str(listener.fileno()), descriptors=[listener.fileno()]))
    for process in beside:
        process.start()
    address = f"http://127.0.0.1:{listener.getsockname()[1]}/"
    print(f"Nembrit is ready: {address}\nData folder: {folder}\nCtrl-C stops it.", flush=True)
    try:
        serve_pages(listener)
    finally:
        for process in beside:
            process.stop()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
