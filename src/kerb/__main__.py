"""The command ``kerb``: a verb runs headless, no verb opens the window."""

from __future__ import annotations

import os
import signal
import sys

from kerb import __version__

INTERRUPTED = 130
SOON = 0.05


def main(arguments: list[str] | None = None) -> int:
    """Run the command line; returns the exit status."""
    for number in (signal.SIGTERM, signal.SIGHUP):
        # Stopped like by Ctrl+C, from the first moment on; what nohup ignores stays so.
        if arguments is None and signal.getsignal(number) is signal.SIG_DFL:
            signal.signal(number, _stop)
    if arguments is None:
        sys.unraisablehook = _swallowed
    try:
        words = sys.argv[1:] if arguments is None else arguments
        if words == ["--version"]:
            sys.stdout.write(f"kerb {__version__}\n")
            return 0
        # Loaded here, so that stopping the command while it starts is an interruption like any other.
        from kerb import cli

        args = cli.parser(words[0] if words else "").parse_args(words)
        if args.verb and cli.is_verb(args.verb):
            status = cli.run_verb(args)
            return _left(status) if arguments is None else status
        from kerb.app.main import open_window

        if arguments is None:
            # The window keeps each step in the journal, so that it may end at once.
            for number in (signal.SIGTERM, signal.SIGHUP):
                signal.signal(number, signal.SIG_DFL)
        return open_window(
            paths=getattr(args, "paths", ()), demo=args.verb == "demo", fresh=getattr(args, "fresh", False)
        )
    except KeyboardInterrupt:
        sys.stderr.write("kerb: interrupted\n")
        return _left(INTERRUPTED) if arguments is None else INTERRUPTED


def _left(status: int) -> int:
    """The exit status. An interruption ends here: where it came while a library ran Python, Python would end by a signal."""
    if status == INTERRUPTED:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)
    return status


def _stop(*_: object) -> None:
    raise KeyboardInterrupt


def _swallowed(what: sys.UnraisableHookArgs) -> None:
    """A stop that came while a library called back was passed over by it: it comes again before long."""
    if what.exc_type is KeyboardInterrupt:
        signal.signal(signal.SIGALRM, _stop)
        signal.setitimer(signal.ITIMER_REAL, SOON)
    else:
        sys.__unraisablehook__(what)


if __name__ == "__main__":
    sys.exit(main())
