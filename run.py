#!/usr/bin/env python3
"""Start, test and check Nembrit: `python3 run.py demo | serve | test | check | shots | nembrit ...`.

Uses the standard library only. Makes `.venv` beside this file, installs the pinned and hashed
dependencies of `requirements/` into it, and hands over to the program inside.
"""

import contextlib
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile

HERE = os.path.dirname(os.path.abspath(__file__))
VENV = os.path.join(HERE, ".venv")
WINDOWS = os.name == "nt"
BIN = os.path.join(VENV, "Scripts" if WINDOWS else "bin")
PYTHON = os.path.join(BIN, "python.exe" if WINDOWS else "python")
CHROMIUM_NAMES = ("chromium", "chromium-browser")
USAGE = """Usage: python3 run.py COMMAND

  demo  [--port N] [--data DIR]   start with made-up demo data
  serve [--port N] [--data DIR] [--lan [--new-passphrase]]   start with your own workshop; --lan lets phones in
  backup FILE [--data DIR]        copy the whole workshop to one file, checked, also while it is in use
  restore FILE [--data DIR]       put such a copy back; the state before is kept
  test                            install what tests need and run them all
  check [--full]                  linters, types, import contracts; --full: long tests, accuracy, planted changes too: hours
  shots                           take the documentation's pictures from a fresh demo
  nembrit ...                     the command line: inspect, analyse, filters, predict, convert, simulate, compare
"""


def stop(sentence):
    sys.stderr.write(sentence.rstrip() + "\n")
    sys.exit(2)


def lock_stamp(name):
    with open(os.path.join(HERE, "requirements", name + ".txt"), "rb") as lock:
        return hashlib.sha256(lock.read() + sys.version.encode()).hexdigest()


def installed(name):
    try:
        with open(os.path.join(VENV, "stamp-" + name)) as stamp:
            return stamp.read() == lock_stamp(name)
    except OSError:
        return False


def prepare(name="run"):
    """Make the environment and install the locked packages, unless the stamp says that it is done."""
    if installed(name) and os.path.exists(PYTHON):
        return
    try:
        if not os.path.exists(PYTHON):
            sys.stderr.write("Making the environment in .venv ...\n")
            subprocess.run([sys.executable, "-m", "venv", VENV], check=True, stdout=subprocess.DEVNULL)
        sys.stderr.write("Installing pinned packages (about a minute) ...\n")
        subprocess.run(
            [
                PYTHON,
                "-m",
                "pip",
                "install",
                "--quiet",
                "--disable-pip-version-check",
                "--require-hashes",
                "--only-binary",
                ":all:",
                "-r",
                os.path.join(HERE, "requirements", name + ".txt"),
            ],
            check=True,
        )
        link_source()
        with open(os.path.join(VENV, "stamp-" + name), "w") as stamp:
            stamp.write(lock_stamp(name))
    except subprocess.CalledProcessError:
        stop(
            "The packages could not be installed: check that this computer reaches the Python package registry, "
            "then run the same command again. Nothing else was changed."
        )
    except OSError as error:
        stop(
            "The environment could not be written to %s (%s): move Nembrit to a folder you may write to." % (VENV, error.strerror)
        )


def link_source():
    """Let the environment find `src/`, and give it the command `nembrit`."""
    site = subprocess.run(
        [PYTHON, "-c", "import sysconfig; print(sysconfig.get_path('purelib'))"],
        check=True,
        capture_output=True,
        text=True,
    ).stdout.strip()
    with open(os.path.join(site, "nembrit.pth"), "w") as path_file:
        path_file.write(os.path.join(HERE, "src") + "\n")
    if WINDOWS:
        with open(os.path.join(BIN, "nembrit.cmd"), "w") as script:
            script.write('@"%s" -m nembrit.cli %%*\n' % PYTHON)
        return
    command = os.path.join(BIN, "nembrit")
    with open(command, "w") as script:
        script.write("#!/bin/sh\nexec '%s' -m nembrit.cli \"$@\"\n" % PYTHON)
    os.chmod(command, 0o755)


def hand_over(arguments):
    """Become the program (POSIX), so that Ctrl-C and SIGTERM reach it; on Windows, wait for it."""
    sys.stdout.flush()
    if not WINDOWS:
        os.execv(PYTHON, [PYTHON] + arguments)
    sys.exit(subprocess.run([PYTHON] + arguments).returncode)


def find_chromium():
    return next((path for path in map(shutil.which, CHROMIUM_NAMES) if path), None)


def require_chromium():
    """Browser tests drive Debian's chromium: install it by apt where possible, else say what to do."""
    if find_chromium():
        return
    if shutil.which("apt-get") and hasattr(os, "geteuid") and os.geteuid() == 0:
        sys.stderr.write("Installing chromium for the browser tests ...\n")
        environment = dict(os.environ, DEBIAN_FRONTEND="noninteractive")
        for command in (["apt-get", "update", "-qq"], ["apt-get", "install", "-y", "-qq", "chromium"]):
            subprocess.run(command, env=environment, stdout=subprocess.DEVNULL)
    if not find_chromium():
        stop(
            "The browser tests need Debian's chromium, and it could not be installed from here: run "
            "'sudo apt-get install chromium', then this command again."
        )


def running(command, **files):
    environment = dict(os.environ, PYTHONPATH=os.path.join(HERE, "src"), CHROMIUM=find_chromium() or "")
    return subprocess.Popen([PYTHON] + (command if command[0] == "-c" else ["-m"] + command), cwd=HERE, env=environment, **files)


def run_all(commands):
    """Run each command, all of them even if one fails; exit with failure if any did."""
    failed = [" ".join(command) for command in commands if running(command).wait()]
    if failed:
        stop("Failed: " + "; ".join(failed))


def test(arguments):
    """All tests in three lanes: those of the browser are told as they run, the others when all are done."""
    require_chromium()
    prepare("test")
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    os.environ.setdefault("OMP_NUM_THREADS", "1")  # lanes share the processors; threads of small sums would fight
    if arguments:
        return run_all([["pytest"] + arguments])
    # compiled once and kept, instead of in every lane at the same time
    running(["-c", "import sys; sys.path.insert(0, '.'); from tests.flying import log_file; log_file(1, 0.0)"]).wait()
    lanes = {
        "core": ["pytest", "--doctest-modules", "src/nembrit/core", "tests/core", "tests/recorder", "tests/references"],
        "pages": ["pytest", "-p", "no:cacheprovider", "tests/web"],
    }
    with contextlib.ExitStack() as open_files:
        told = {name: open_files.enter_context(tempfile.TemporaryFile()) for name in lanes}
        # the browser's lane is the longest and waits for the clock: the others take what it leaves
        patient = {} if WINDOWS else {"preexec_fn": lambda: os.nice(10)}
        beside = {name: running(lanes[name], stdout=told[name], stderr=subprocess.STDOUT, **patient) for name in lanes}
        failed = ["browser"] if running(["pytest", "-p", "no:cacheprovider", "tests/e2e"]).wait() else []
        for name, process in beside.items():
            failed += [name] if process.wait() else []
            told[name].seek(0)
            sys.stdout.write(told[name].read().decode(errors="replace"))
    if failed:
        stop("Failed: tests of " + " and ".join(failed))


def check(arguments):
    prepare("test")
    commands = [
        ["ruff", "check", "."],
        ["ruff", "format", "--check", "src", "tests", "benchmarks"],
        ["mypy"],
        ["-c", "import sys, importlinter.cli; sys.exit(importlinter.cli.lint_imports())"],
        ["djlint", "src/nembrit/web", "--lint", "--quiet"],
        ["nembrit.web.manage", "makemigrations", "--check", "--dry-run"],
    ]
    if "--full" in arguments:
        os.environ.setdefault("OMP_NUM_THREADS", "1")  # it flies on every processor by itself
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
        require_chromium()
        commands += [["pytest", "-m", "long", "tests"], ["benchmarks.accuracy"], ["benchmarks.planted_changes"]]
    run_all(commands)


def main():
    if sys.version_info < (3, 11):
        stop("Nembrit needs Python 3.11 or newer; this is Python %d.%d." % sys.version_info[:2])
    command, arguments = (sys.argv[1] if len(sys.argv) > 1 else ""), sys.argv[2:]
    if command in ("demo", "serve", "backup", "restore"):
        prepare()
        hand_over(["-m", "nembrit.web.server", command] + arguments)
    elif command == "nembrit":
        prepare()
        hand_over(["-m", "nembrit.cli"] + arguments)
    elif command == "test":
        test(arguments)
    elif command == "check":
        check(arguments)
    elif command == "shots":
        require_chromium()
        prepare("test")
        run_all([["tests.shots"] + arguments])
    else:
        stop(USAGE)


if __name__ == "__main__":
    main()
