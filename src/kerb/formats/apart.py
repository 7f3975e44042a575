"""Run a reader in a process of its own: a file that brings down a library written in C++ ends that process, not the window.

The child is this module, run by the same Python. It gets the function and its arguments on standard input, and writes what
happens to standard output, pickled, one after the other: steps of the progress, then the result or an error of ours.
"""

from __future__ import annotations

import importlib
import os
import pickle
import resource
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from kerb.core import errors
from kerb.core.errors import FormatError, KerbError
from kerb.core.progress import Progress

# Share of the machine's memory that a reader may have, and seconds of processor time.
MEMORY_SHARE, MOST_SECONDS = 0.7, 1800
PULSE = 0.1
STEP, DONE, REFUSED = "step", "done", "refused"


def run_apart(function: Callable[..., Any], path: Path, *others: Any, progress: Progress) -> Any:
    """What ``function(path, *others, progress)`` returns, run in another process.

    Arguments and result have to be picklable, the function one of a module.

    Raises
    ------
    The function's own errors; FormatError, when the process ended by itself, or at its limits of time or memory; Cancelled.
    """
    words = [
        sys.executable,
        "-X",
        "faulthandler",
        "-m",
        "kerb.formats.apart",
        function.__module__,
        function.__qualname__,
    ]
    child = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    found: list[tuple[str, Any]] = []
    reader = threading.Thread(target=_heard, args=(child, found, progress), name="kerb-apart", daemon=True)
    try:
        reader.start()
        with suppress(BrokenPipeError):
            assert child.stdin is not None
            pickle.dump((path, *others), child.stdin)
            child.stdin.close()
        while reader.is_alive():
            reader.join(PULSE)
            progress.check()
        status = child.wait()
    finally:
        if child.poll() is None:
            child.kill()
        child.wait()
        reader.join()
        for stream in (child.stdin, child.stdout):
            if stream is not None:
                with suppress(OSError):
                    stream.close()
    if not found:
        raise FormatError(f"{path}: reading it {_ended(status)}; the file is damaged, or too large for this machine")
    kind, what = found[-1]
    if kind == REFUSED:
        raise _error(*what)
    return what


def _heard(child: subprocess.Popen[bytes], found: list[tuple[str, Any]], progress: Progress) -> None:
    """Take what the child tells until it ends; steps go on to the progress."""
    assert child.stdout is not None
    while True:
        try:
            kind, what = pickle.load(child.stdout)
        except (EOFError, pickle.UnpicklingError, OSError, ValueError):
            return
        if kind != STEP:
            found.append((kind, what))
            return
        with suppress(KerbError):
            progress.step(*what)


def _ended(status: int) -> str:
    if status in (-signal.SIGXCPU, -signal.SIGKILL):
        return "took too long or too much memory"
    if status < 0:
        return f"ended the reader ({signal.Signals(-status).name})"
    return f"ended the reader (status {status})"


def _error(kind: str, text: str) -> KerbError:
    found = getattr(errors, kind, FormatError)
    return found(text) if isinstance(found, type) and issubclass(found, KerbError) else FormatError(text)


def main() -> int:
    """The child: one function, once."""
    module, name = sys.argv[1:3]
    out = os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    # What a library prints must not come between.
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    lock = threading.Lock()

    def tell(kind: str, what: Any) -> None:
        with lock:
            pickle.dump((kind, what), out, protocol=pickle.HIGHEST_PROTOCOL)
            out.flush()

    arguments = pickle.load(sys.stdin.buffer)
    memory = int(MEMORY_SHARE * os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"))
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (MOST_SECONDS, MOST_SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        function = getattr(importlib.import_module(module), name)
        tell(DONE, function(*arguments, Progress(lambda share, words: tell(STEP, (share, words)))))
    except KerbError as error:
        tell(REFUSED, (type(error).__name__, str(error)))
    except MemoryError:
        tell(REFUSED, ("FormatError", f"{arguments[0]}: needs more memory than there is"))
    except RecursionError:
        tell(REFUSED, ("FormatError", f"{arguments[0]}: is nested too deeply; it is damaged"))
    return 0


if __name__ == "__main__":
    sys.exit(main())
