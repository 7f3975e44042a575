"""The command ``kerb``: a verb runs headless, no verb opens the window."""

from __future__ import annotations

import sys

from kerb import __version__

INTERRUPTED = 130


def main(arguments: list[str] | None = None) -> int:
    """Run the command line; returns the exit status."""
    try:
        words = sys.argv[1:] if arguments is None else arguments
        if words == ["--version"]:
            sys.stdout.write(f"kerb {__version__}\n")
            return 0
        # Loaded here, so that stopping the command while it starts is an interruption like any other.
        from kerb import cli

        args = cli.parser(words[0] if words else "").parse_args(words)
        if args.verb and cli.is_verb(args.verb):
            return cli.run_verb(args)
        from kerb.app.main import open_window

        return open_window(
            paths=getattr(args, "paths", ()), demo=args.verb == "demo", fresh=getattr(args, "fresh", False)
        )
    except KeyboardInterrupt:
        sys.stderr.write("kerb: interrupted\n")
        return INTERRUPTED


if __name__ == "__main__":
    sys.exit(main())
